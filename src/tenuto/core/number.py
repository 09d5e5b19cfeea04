"""The two kinds of number that a stage works on: a float on the live path, an array for a plot or a table."""

from __future__ import annotations

from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

# A stage takes one of the two and gives the same kind back.
Value = TypeVar("Value", float, Array)
