"""Optional packages: the extra that installs each, and the message if one is missing."""

from __future__ import annotations

from importlib.util import find_spec

from tenuto.basics.errors import MissingPackageError

# The module of a package → the extra that installs it, and its purpose.
EXTRAS = {
    "pandas": ("analysis", "tables of a drive"),
    "scipy": ("analysis", "measurements"),
    "matplotlib": ("analysis", "figures"),
    "textual": ("view", "the full-screen view"),
    "pyarrow": ("parquet", "Parquet"),
    "mcap": ("mcap", "MCAP"),
    "pymavlink": ("mavlink", "MAVLink"),
    "paho": ("mqtt", "MQTT"),
    "gpiod": ("gpio", "pulses on pins"),
    "cryptography": ("udp", "UDP"),
    "hypothesis": ("testing", "random profiles"),
    "starlette": ("page", "the page in a browser"),
    "uvicorn": ("page", "the page in a browser"),
    "websockets": ("page", "the page in a browser"),
    "segno": ("page", "a QR code"),
    "jinja2": ("firmware", "code of a microcontroller"),
    "pycparser": ("firmware", "code of a microcontroller"),
}


def how_to_get(module: str) -> str:
    """Describe what needs a module, and how to install it; for one of `EXTRAS`."""
    extra, purpose = EXTRAS[module]
    return f"for {purpose} the package {module} is needed: pip install 'tenuto[{extra}]'"


def has(module: str) -> bool:
    """Return whether a module is installed."""
    try:
        return find_spec(module) is not None
    except (ImportError, ValueError):  # None in its place in sys.modules
        return False


def needs(*modules: str) -> None:
    """Check that modules are installed.

    Raises:
        MissingPackageError: one of them is not; the text describes how to install it.
    """
    for module in modules:
        if not has(module):
            raise MissingPackageError(how_to_get(module))


def said_of(error: ImportError) -> str | None:
    """Describe what to install if a module of `EXTRAS` was not found; None for any other."""
    module = (error.name or "").partition(".")[0]
    return how_to_get(module) if module in EXTRAS else None
