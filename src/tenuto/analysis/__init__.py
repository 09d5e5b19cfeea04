"""Tables and figures of merit, computed from ticks."""
