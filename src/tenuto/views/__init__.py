"""The view of the driver in a terminal: drawn from ticks, in its own process."""
