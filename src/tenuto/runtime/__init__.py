"""The loop that joins source, pipeline and sinks in time."""

from tenuto.clock import Clock, MonotonicClock, SimulatedClock
from tenuto.runtime.follow import follow
from tenuto.runtime.handle import DriveHandle
from tenuto.runtime.loop import DriveReport, drive

__all__ = ["Clock", "DriveHandle", "DriveReport", "MonotonicClock", "SimulatedClock", "drive", "follow"]
