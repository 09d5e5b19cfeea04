"""Ten lines of Tenuto: replay a drive, look at where the guard stopped it, and step a pipeline by hand."""

import tenuto
from tenuto.data import shipped

profile = tenuto.load_profile(shipped("medlar.toml"))
table = tenuto.replay(profile, shipped("orchard-row.csv")).to_frame()  # a pandas DataFrame, one row per tick
print(table[table["guard.state"] == "stopping"][["time", "command.vx", "guard.reasons"]].head())

pipeline = tenuto.Pipeline(profile)  # or with your own frames and your own clock
frame = tenuto.Frame(time=0.0, values={"left_y": 983, "right_x": 983, "left_shoulder": 0})
tick = pipeline.step(frame, now=0.0)
print(tick.command, tick.guard.state, tick.guard.reasons[0].text)
