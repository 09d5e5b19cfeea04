"""Runs every benchmark and prints ratios: ``make bench``."""

from benchmarks import decoders, latency, links, start, tick, vehicles, view

for benchmark in (start, tick, vehicles, decoders, latency, view, links):
    benchmark.main()
