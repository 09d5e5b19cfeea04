"""Runs every benchmark and prints ratios: ``make bench``."""

from benchmarks import decoders, latency, tick

for benchmark in (tick, decoders, latency):
    benchmark.main()
