"""Vehicles: what each actuator must do for a velocity, and what velocity the actuators make."""

from tenuto.vehicles.aircraft import Aircraft
from tenuto.vehicles.base import Chassis, ChassisLimits
from tenuto.vehicles.differential import Differential, SkidSteer
from tenuto.vehicles.linear import SURFACES, LinearMix, MixOutput
from tenuto.vehicles.rollers import RollerWheel, RollerWheels, mecanum, omni
from tenuto.vehicles.steered import SteeredModules, SteeredWheels, Wheel, car, four_wheel_steer
from tenuto.vehicles.thrusters import Drag, Thruster, Thrusters

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
