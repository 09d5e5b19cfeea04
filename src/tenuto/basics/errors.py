"""Tenuto's own family of errors. Each says what was expected, what was found, and where."""

from __future__ import annotations

from dataclasses import dataclass


class TenutoError(Exception):
    """The family: catch this to catch everything that Tenuto raises on purpose."""


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong in a profile: which key, what was expected, what was found."""

    key: str
    expected: str
    found: str
    hint: str = ""

    def __str__(self) -> str:
        text = f"{self.key}: expected {self.expected}, found {self.found}"
        return f"{text} ({self.hint})" if self.hint else text


class ProfileError(TenutoError):
    """A profile that cannot be used. Lists every problem found, not only the first.

    Attributes:
        where: the file, or what stands for it.
        problems: what is wrong, in the order of the file.
    """

    def __init__(self, where: str, problems: list[Problem]) -> None:
        self.where = where
        self.problems = problems
        super().__init__("\n".join(f"{where}: {problem}" for problem in problems))


class RecordingError(TenutoError):
    """A recording that cannot be read; the message names file, line and column."""


class SourceError(TenutoError):
    """A source that cannot be opened or has failed; the message says what to do next."""


class SinkError(TenutoError):
    """A sink that cannot be opened or has failed; the message names the sink."""


class CalibrationError(TenutoError):
    """A calibration that cannot be read, kept or used; the message names file, key and value."""


class KindError(TenutoError):
    """A package offers a kind of thing that cannot be used; the message names the package."""
