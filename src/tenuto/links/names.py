"""A unique name for this machine's program."""

from __future__ import annotations

import re
import secrets
import socket


def own_name() -> str:
    """Make it from the machine's name and four digits."""
    host = re.sub(r"[^A-Za-z0-9_-]", "-", socket.gethostname())[:40] or "driver"
    return f"{host}-{secrets.token_hex(2)}"
