"""Outputs besides driving: a winch, a gripper, a lamp. One kind per file."""
