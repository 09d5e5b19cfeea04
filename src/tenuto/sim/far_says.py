"""A far end that answers in the fault campaign: as required, and in all ways that are not."""

from __future__ import annotations

import math
import random
from typing import Any

from tenuto.driving.needs_plan import NeedsPlan
from tenuto.driving.telemetry import NO_FAR_ENDS, FarEnds, Telemetry

# What it does during an episode: all is well; it is silent; one value is wrong, now and then; it is
# out of its bounds; it sends NaN; nothing is known.
FAR_ENDS = ("well", "well", "well", "well", "silent", "unfit", "away", "garbage", "absent")
_SAYS = frozenset(Telemetry._fields) - {"time", "says"}
_UNFIT: dict[str, dict[str, Any]] = {
    "armed": {"armed": False}, "modes": {"mode": "another"}, "position": {"x": math.nan},
    "voltage_above": {"voltage": 1e-3}, "charge_above": {"charge": 0.0},
}  # fmt: skip


class FarEndSays:
    """The telemetry of one far end, tick by tick."""

    def __init__(self, needs: NeedsPlan) -> None:
        """Set its requirements."""
        self._needs, self._any = needs, bool(needs.wanted)
        self._newest: Telemetry | None = None
        low = needs.height_from if math.isfinite(needs.height_from) else 0.0
        high = needs.height_below if math.isfinite(needs.height_below) else low + 2.0
        volts, charge = needs.voltage_above, needs.charge_above
        self._well = Telemetry(
            says=_SAYS, follows=True, armed=True, mode=needs.modes[0] if needs.modes else "", x=0.1, y=0.0,
            heading=0.3, height=(low + high) / 2.0, voltage=2.0 * volts if math.isfinite(volts) else 12.0,
            charge=(1.0 + charge) / 2.0 if math.isfinite(charge) else 0.9,
        )  # fmt: skip

    def at(self, now: float, what: str, dice: random.Random) -> FarEnds:
        """Return what is known at ``now``, s, in an episode of a kind; nothing if nothing is required."""
        if not self._any or what == "absent":
            return NO_FAR_ENDS
        if what != "silent" or self._newest is None:
            self._newest = self._says(what, dice)._replace(time=now if what != "silent" else -math.inf)
        # After a clock went back, the last answer is in the future: it counts as new.
        return {"far": self._newest._replace(time=min(self._newest.time, now))}

    def _says(self, what: str, dice: random.Random) -> Telemetry:
        well, needs = self._well, self._needs
        if what == "unfit" and dice.random() < 0.3:
            return well._replace(**dice.choice(list(_UNFIT.values())))
        if what == "garbage" and dice.random() < 0.3:
            nan = math.nan
            return well._replace(armed=None, mode="", x=nan, height=nan, voltage=nan, charge=nan, heading=nan)
        if what == "away":
            far = needs.within if math.isfinite(needs.within) else 1.0
            top = needs.height_below if math.isfinite(needs.height_below) else well.height
            return well._replace(x=far * dice.uniform(0.9, 1.2), height=top * dice.uniform(0.95, 1.1))
        return well
