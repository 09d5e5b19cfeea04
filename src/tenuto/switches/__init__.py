"""Switches: positions made of buttons, of channels that are really numbers, and of what sticks do over time."""
