"""What a driver sees in a terminal: drawn from ticks, in a process of its own."""
