"""The errors of Tenuto. Each text describes what was expected, what was found, and where."""

from __future__ import annotations

from collections.abc import Sequence

from tenuto.basics.findings import Finding

# The number of errors in the text of a `ProfileError`.
_MOST_SAID = 100


class TenutoError(Exception):
    """The base class of all errors that Tenuto raises on purpose."""


class ProfileError(TenutoError):
    """A profile that cannot be used. It lists every error, not only the first.

    Attributes:
        where: the file, or its stand-in.
        findings: the errors, in the order of the file.
    """

    def __init__(self, where: str, findings: Sequence[Finding]) -> None:
        self.where = where
        self.findings = list(findings)
        said = [f"{where}: {finding}" for finding in self.findings[:_MOST_SAID]]
        more = len(self.findings) - len(said)
        super().__init__("\n".join([*said, *([f"{where}: and {more} more errors"] if more else [])]))


class PlanError(TenutoError):
    """A plan with an error.

    Attributes:
        findings: the errors.
    """

    def __init__(self, findings: Sequence[Finding]) -> None:
        self.findings = list(findings)
        super().__init__("; ".join(map(str, findings)))


class ArgumentError(TenutoError, ValueError):
    """An invalid argument of a stage, a curve or a chassis; the message says what was expected and what was found."""


class RecordingError(TenutoError):
    """A recording that cannot be read; the message names file, line and column."""


class SourceError(TenutoError):
    """A source that cannot be opened or that has failed; the message says what to do next."""


class SinkError(TenutoError):
    """A sink that cannot be opened or that has failed; the message names the sink."""


class CalibrationError(TenutoError):
    """A calibration that cannot be read, kept or used; the message names file, key and value."""


class MissingPackageError(TenutoError, ImportError):
    """A required package is not installed; the message describes how to install it."""


class KindError(TenutoError):
    """A package provides a kind that cannot be used; the message names the package."""


class CutOffWarning(UserWarning):
    """A log was cut off when its program ended; its complete part was read. The message names the file."""
