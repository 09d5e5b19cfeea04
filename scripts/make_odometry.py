"""Writes medlar-odometry.csv: the motion of Medlar with wheels a little larger and farther apart than in the profile.

The same sticks as orchard-row.csv; a clock of its own, 20 rows a second, 3 mm and 0.2 degrees of noise.
"""

from __future__ import annotations

from pathlib import Path

import tenuto
from tenuto.data import shipped
from tenuto.sim.odometry import Truth, simulated_odometry

FOLDER = Path(__file__).parents[1] / "src/tenuto/data"

ticks = tenuto.replay(tenuto.load_profile(shipped("medlar.toml")), shipped("orchard-row.csv"))
truth = Truth(wheel_radius=0.1135, track=0.655, delay=0.06, motor_lag=0.16, noise=0.003, heading_noise=0.0035)
table = simulated_odometry(ticks.to_frame(), truth, rate=20.0, clock=412.6, seed=7)
table.round(5).to_csv(FOLDER / "medlar-odometry.csv", index=False)
print(f"medlar-odometry.csv: {len(table)} rows")
