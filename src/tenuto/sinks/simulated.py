"""A sink that drives a simulated robot."""

from __future__ import annotations

from tenuto.core.chassis import Differential
from tenuto.core.errors import SinkError
from tenuto.core.pipeline import Plan
from tenuto.core.tick import Tick
from tenuto.sim.cart import DifferentialCart
from tenuto.sinks.base import Sink

# How long the robot may take to roll out after the last tick, in simulated seconds.
_ROLL_OUT = 5.0


class SimulatedCart(Sink):
    """Drives the simulated cart that belongs to a profile.

    Attributes:
        cart: the simulated cart, there from `start` on.
    """

    name = "simulated cart"
    cart: DifferentialCart

    def start(self, plan: Plan) -> None:
        """Place a cart with the measures of the profile at the origin."""
        if not isinstance(plan.chassis, Differential):
            raise SinkError(f"there is no simulated robot for {type(plan.chassis).__name__}")
        self.chassis = plan.chassis
        self.cart = DifferentialCart(plan.chassis)
        self._time: float | None = None

    def write(self, tick: Tick) -> None:
        """Let the cart follow its old wheel speeds up to now, then give it the new ones."""
        if self._time is not None and tick.time > self._time:
            self.cart.advance(tick.time - self._time)
        self._time = tick.time
        self.cart.command(self.chassis.wheel_speeds(tick.command))

    def stop(self, tick: Tick) -> None:
        """Command standstill and let the cart roll out."""
        self.write(tick)
        rolled = 0.0
        while not self.cart.standing and rolled < _ROLL_OUT:
            self.cart.advance(0.02)
            rolled += 0.02
