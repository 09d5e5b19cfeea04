"""Radio receivers on a serial line: a protocol a file, which says all about itself."""
