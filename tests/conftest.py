"""Settings for all tests."""

from hypothesis import settings

# How long an example takes says more about the machine than about the code; speed is for benchmarks/.
settings.register_profile("tenuto", deadline=None)
settings.load_profile("tenuto")
