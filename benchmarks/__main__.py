"""Runs every benchmark and prints ratios: ``make bench``."""

from benchmarks import tick

tick.main()
