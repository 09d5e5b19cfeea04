"""Simulated stand-ins for the outside: robots and devices that ship with Tenuto."""

from tenuto.sim.robots import PathPoint, Physics, SimulatedBoat, SimulatedRobot, simulated_robot

__all__ = ["PathPoint", "Physics", "SimulatedBoat", "SimulatedRobot", "simulated_robot"]
