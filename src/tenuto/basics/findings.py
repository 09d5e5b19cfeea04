"""Findings: errors and warnings about a profile, a calibration or a device, in one form."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

from tenuto.basics.text import shortened


class Severity(StrEnum):
    """The severity of a finding."""

    ERROR = "error"
    WARNING = "warning"


WARNING = Severity.WARNING


@dataclass(frozen=True, slots=True)
class Finding:
    """One error or warning.

    Attributes:
        where: its subject: a key of a profile, such as ``"guard.link_timeout"``, or a control.
        severity: an error if it must not be used, a warning if somebody should check it.
        text: the problem, with numbers.
        hint: what to do, or empty.
        code: stable, for programs; may be empty.
        line: of the file, if there is no key; else 0.
    """

    where: str
    severity: Severity
    text: str
    hint: str = ""
    code: str = ""
    line: int = 0

    @property
    def is_error(self) -> bool:
        """Whether it must not be used."""
        return self.severity is Severity.ERROR

    def within(self, place: str) -> Finding:
        """Return the same finding with its key prefixed by a table."""
        return replace(self, where=f"{place}.{self.where}")

    def __str__(self) -> str:
        text = f"{self.where}: {self.text}" if not self.line else f"line {self.line}: {self.text}"
        return f"{text} ({self.hint})" if self.hint else text


def unexpected(where: str, expected: str, found: str, hint: str = "") -> Finding:
    """Return the error for an unexpected value of a key."""
    return Finding(where, Severity.ERROR, f"expected {expected}, found {shortened(found)}", hint)


def error(where: str, text: str, hint: str = "") -> Finding:
    """Return an error."""
    return Finding(where, Severity.ERROR, text, hint)


def warning(where: str, text: str, hint: str = "") -> Finding:
    """Return a warning."""
    return Finding(where, Severity.WARNING, text, hint)


Problem = Finding  # the name that it had before
