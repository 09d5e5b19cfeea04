"""Measuring sticks: pure functions on arrays, the complete measurement, and the stored calibration."""

from tenuto.calibration.measure import ControlMeasurement, Measurement, measure
from tenuto.calibration.statistics import (
    RestStatistics,
    count_visits,
    dirty_spots,
    distinct_steps,
    end_by_dwell,
    recommended_dead_zone,
    rest_statistics,
    resting_kind,
    returns,
    smoothed,
    switch_positions,
    travel_shape,
)
from tenuto.calibration.store import Calibration, ControlCalibration

__all__ = [
    "Calibration",
    "ControlCalibration",
    "ControlMeasurement",
    "Measurement",
    "RestStatistics",
    "count_visits",
    "dirty_spots",
    "distinct_steps",
    "end_by_dwell",
    "measure",
    "recommended_dead_zone",
    "rest_statistics",
    "resting_kind",
    "returns",
    "smoothed",
    "switch_positions",
    "travel_shape",
]
