"""Runs every benchmark and prints ratios: ``make bench``."""

from benchmarks import decoders, latency, links, tick, vehicles, view

for benchmark in (tick, vehicles, decoders, latency, view, links):
    benchmark.main()
