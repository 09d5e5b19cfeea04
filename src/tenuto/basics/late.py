"""Packages that are loaded at their first use, so unused ones cost nothing."""

from __future__ import annotations

import importlib
from typing import Any

from tenuto.basics.errors import TenutoError


class Late:
    """A placeholder for a module, which it becomes at the first access."""

    def __init__(self, module: str, error: type[TenutoError], missing: str = "") -> None:
        """Set the module, and the error if a package is not installed.

        Args:
            module: its full name. error, missing: the error and its text.
        """
        self.__dict__.update(_module=module, _error=error, _missing=missing)

    def __getattr__(self, name: str) -> Any:
        try:
            module = importlib.import_module(self.__dict__["_module"])
        except ImportError as error:
            raise self.__dict__["_error"](self.__dict__["_missing"] or str(error)) from error
        found = self.__dict__[name] = getattr(module, name)
        return found
