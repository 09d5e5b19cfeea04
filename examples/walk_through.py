# %% [markdown]
# # The whole job, from sticks to a robot that was measured
#
# A notebook as a script: open it in an editor that knows `# %%` cells, or run it as it is. Nothing has to be connected.

# %% What a profile says
from pathlib import Path
from tempfile import mkdtemp

import tenuto
from tenuto.analysis.advice import wheel_measures
from tenuto.analysis.compare import driver_figures
from tenuto.analysis.measure import measure
from tenuto.analysis.odometry import load_odometry
from tenuto.analysis.report import events, facts, path_of
from tenuto.analysis.tune import Wish, tune
from tenuto.data import shipped
from tenuto.figures import save_figure
from tenuto.figures.compare import compare_figure
from tenuto.figures.measure import measure_figure
from tenuto.figures.page import html_report, png_of
from tenuto.figures.report import report_figures
from tenuto.profile.patch import changed_text, patch_text

folder = Path(mkdtemp())
profile = tenuto.load_profile(shipped("medlar.toml"))
profile  # in a notebook: a table

# %% Drive a recording, and look at one moment
ticks = tenuto.replay(profile, shipped("orchard-row.csv"))
print(ticks)
print(ticks[200].explain(profile))

# %% Why did it stop in the 27th second?
print(ticks[1330].explain(profile).answer)

# %% The drive as a table, and as a report
table = ticks.to_frame()
print(table.groupby("guard.state")["dt"].sum().round(1))
plan = profile.plan()
found = facts(table, plan, path_of(table, plan).robot.path)
figures = {name: png_of(figure) for name, figure in report_figures(table, plan, profile.name).items()}
page = html_report(profile.name, "orchard-row.csv", found, events(table), figures)
print((folder / "report.html").write_text(page, "utf-8"), "characters of report")

# %% Two settings under the same sticks
gentle = tenuto.parse_profile(shipped("medlar.toml").read_text().replace("expo = 0.35", "expo = 0.7"))
comparison = tenuto.compare(shipped("orchard-row.csv"), profile, gentle, names=("as it is", "gentle"))
print(comparison.figures.round(2).to_string(index=False))
save_figure(compare_figure(comparison), folder / "compare.png")

# %% Does it follow its commands?
odometry = load_odometry(shipped("medlar-odometry.csv"))
response = measure(table, odometry)
for name, value in wheel_measures(response, profile).items():
    print(f"{name}: {value.value:.4f} ± {value.plus_minus:.4f} m, from {value.seconds:.0f} s")
save_figure(measure_figure(table, response), folder / "measure.png")

# %% Settings for somebody who wants to stop within half a metre
changes = tune(profile, shipped("orchard-row.csv"), Wish(top_speed=0.9, stop_within=0.5, finest=0.04))
print(patch_text(changes))
_, tuned = changed_text(shipped("medlar.toml").read_text(), changes)
print({name: round(value, 2) for name, value in driver_figures(tuned.plan()).items()})
