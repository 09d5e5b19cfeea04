"""Vehicles: from a velocity to the actuators, and from the actuators to a velocity."""

from tenuto.vehicles.aircraft import Aircraft
from tenuto.vehicles.base import Bounds, Chassis, ChassisLimits, Drawing, Part, Quantity
from tenuto.vehicles.differential import Differential
from tenuto.vehicles.linear import LinearMix, MixOutput
from tenuto.vehicles.modules import SteeredModules
from tenuto.vehicles.rollers import RollerWheel, RollerWheels, mecanum, omni
from tenuto.vehicles.skid import SkidSteer
from tenuto.vehicles.steered import SteeredWheels, Wheel, car, four_wheel_steer
from tenuto.vehicles.surfaces import SURFACES
from tenuto.vehicles.thrusters import Drag, Thruster, Thrusters

__all__ = [
    "SURFACES",
    "Aircraft",
    "Bounds",
    "Chassis",
    "ChassisLimits",
    "Differential",
    "Drag",
    "Drawing",
    "LinearMix",
    "MixOutput",
    "Part",
    "Quantity",
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
