"""Packages that are loaded when they are used first: what nobody drives by costs nothing."""

from __future__ import annotations

import importlib
from typing import Any

from tenuto.basics.errors import TenutoError


class Late:
    """Stands for a module, and becomes it with the first of its names that is asked for."""

    def __init__(self, module: str, error: type[TenutoError], missing: str = "") -> None:
        """Set which module, and what to raise where a package is not installed.

        Args:
            module: its whole name. error, missing: what is raised then, and its text.
        """
        self.__dict__.update(_module=module, _error=error, _missing=missing)

    def __getattr__(self, name: str) -> Any:
        try:
            module = importlib.import_module(self.__dict__["_module"])
        except ImportError as error:
            raise self.__dict__["_error"](self.__dict__["_missing"] or str(error)) from error
        found = self.__dict__[name] = getattr(module, name)
        return found
