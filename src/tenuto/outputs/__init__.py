"""Outputs besides driving: a winch, a gripper, a lamp. A kind a file."""
