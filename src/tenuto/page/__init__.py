"""The page in a browser: its server, which is a process of its own, and what it shows."""
