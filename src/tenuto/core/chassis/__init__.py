"""Vehicles: what each actuator must do for a velocity, and what velocity the actuators make."""

from tenuto.core.chassis.aircraft import Aircraft
from tenuto.core.chassis.base import Chassis
from tenuto.core.chassis.differential import Differential, WheelSpeeds

__all__ = ["Aircraft", "Chassis", "Differential", "WheelSpeeds"]
