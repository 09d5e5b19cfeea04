"""All that can be found wrong with a profile whose keys are right one by one: errors between tables, and warnings."""

from tenuto.profile.checks.advice import advise
from tenuto.profile.checks.between import errors_of

__all__ = ["advise", "errors_of"]
