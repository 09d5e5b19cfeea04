"""Runs every benchmark and prints ratios: ``make bench``."""

from benchmarks import decoders, firmware, latency, links, page, start, tick, vehicles, view

for benchmark in (start, tick, vehicles, decoders, firmware, latency, view, links, page):
    benchmark.main()
