"""Vehicles: what each actuator must do for a velocity, and what velocity the actuators make."""

from tenuto.core.chassis.aircraft import Aircraft
from tenuto.core.chassis.base import Chassis, ChassisLimits
from tenuto.core.chassis.differential import Differential, SkidSteer
from tenuto.core.chassis.linear import SURFACES, LinearMix, MixOutput
from tenuto.core.chassis.rollers import RollerWheel, RollerWheels, mecanum, omni
from tenuto.core.chassis.steered import SteeredModules, SteeredWheels, Wheel, car, four_wheel_steer
from tenuto.core.chassis.thrusters import Drag, Thruster, Thrusters

__all__ = [
    "SURFACES",
    "Aircraft",
    "Chassis",
    "ChassisLimits",
    "Differential",
    "Drag",
    "LinearMix",
    "MixOutput",
    "RollerWheel",
    "RollerWheels",
    "SkidSteer",
    "SteeredModules",
    "SteeredWheels",
    "Thruster",
    "Thrusters",
    "Wheel",
    "car",
    "four_wheel_steer",
    "mecanum",
    "omni",
]
