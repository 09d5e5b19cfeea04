"""Tables and figures of merit: readings of ticks."""
