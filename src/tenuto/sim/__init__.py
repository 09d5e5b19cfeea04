"""Simulated stand-ins for what is outside: robots and devices that ship with Tenuto."""

from tenuto.sim.cart import DifferentialCart, PathPoint

__all__ = ["DifferentialCart", "PathPoint"]
