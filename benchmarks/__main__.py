"""Runs every benchmark and prints ratios: ``make bench``."""

from benchmarks import decoders, latency, tick, vehicles

for benchmark in (tick, vehicles, decoders, latency):
    benchmark.main()
