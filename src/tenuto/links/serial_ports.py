"""Why a serial port cannot be opened, and what to do."""

from __future__ import annotations

import os


def why_not(name: str, error: BaseException) -> str:
    """Explain why a port cannot be opened or has disappeared, and what to do if permissions are missing."""
    number = getattr(error, "errno", None)
    if number is None and error.args and isinstance(error.args[0], int):
        number = error.args[0]  # pyserial passes several kinds of system errors on
    text = os.strerror(number) if isinstance(number, int) else str(error)
    return text if os.access(name, os.R_OK | os.W_OK) else text + _rights(name)


def _rights(name: str) -> str:
    try:
        import grp

        group = grp.getgrgid(os.stat(name).st_gid).gr_name
    except (ImportError, OSError, KeyError, ValueError):
        return ""
    return f": sudo usermod -aG {group} $USER, and log in again"
