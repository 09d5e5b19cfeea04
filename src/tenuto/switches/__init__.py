"""Switches: positions from buttons, from channels with numbers, and from gestures of sticks."""
