"""Radio receivers on a serial line: one file for each protocol."""
