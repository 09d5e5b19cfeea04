"""Findings: what is wrong, or may be, in a profile, a calibration or a device. One form for all of them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

from tenuto.basics.text import shortened


class Severity(StrEnum):
    """How bad it is."""

    ERROR = "error"
    WARNING = "warning"


WARNING = Severity.WARNING


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that was found.

    Attributes:
        where: what it is about: a key of a profile, such as ``"guard.link_timeout"``, or a control.
        severity: an error where it must not be used so, a warning where somebody should look at it.
        text: what is the matter, with numbers.
        hint: what to do, or nothing.
        code: stable, for programs, where there is one.
        line: of the file, where no key tells it; else 0.
    """

    where: str
    severity: Severity
    text: str
    hint: str = ""
    code: str = ""
    line: int = 0

    @property
    def is_error(self) -> bool:
        """Whether it must not be used so."""
        return self.severity is Severity.ERROR

    def within(self, place: str) -> Finding:
        """Return the same finding with its key prefixed by a table."""
        return replace(self, where=f"{place}.{self.where}")

    def __str__(self) -> str:
        text = f"{self.where}: {self.text}" if not self.line else f"line {self.line}: {self.text}"
        return f"{text} ({self.hint})" if self.hint else text


def unexpected(where: str, expected: str, found: str, hint: str = "") -> Finding:
    """Return the error of a key whose value is not what it should be."""
    return Finding(where, Severity.ERROR, f"expected {expected}, found {shortened(found)}", hint)


def error(where: str, text: str, hint: str = "") -> Finding:
    """Return an error."""
    return Finding(where, Severity.ERROR, text, hint)


def warning(where: str, text: str, hint: str = "") -> Finding:
    """Return a warning."""
    return Finding(where, Severity.WARNING, text, hint)


Problem = Finding  # the name that it had before
