"""A report as one HTML page without other files: figures are in it, and it prints."""

from __future__ import annotations

import base64
import html
from collections.abc import Mapping, Sequence
from io import BytesIO
from string import Template
from typing import TYPE_CHECKING

from tenuto.vehicles.units import METRIC, Units

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from tenuto.analysis.report import Fact, StateChange

_PAGE = Template("""<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>$title</title>
<style>
body { font: 16px/1.45 system-ui, sans-serif; color: #1d2126; background: #fff; max-width: 1180px; margin: 1.5rem auto;
       padding: 0 1rem; }
h1 { font-size: 1.6rem; margin: 0 0 .2rem; }
h2 { font-size: 1.15rem; margin: 2rem 0 .5rem; border-bottom: 1px solid #c9ccd1; padding-bottom: .2rem; }
p.from { color: #4c525b; margin: 0 0 1rem; }
table { border-collapse: collapse; }
td, th { text-align: left; padding: .18rem 1.2rem .18rem 0; vertical-align: top; }
th { color: #4c525b; font-weight: 600; }
td.state { white-space: nowrap; }
td.number { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
.facts { columns: 2; column-gap: 2rem; }
.facts div { break-inside: avoid; display: flex; gap: 1rem; border-bottom: 1px solid #eceef0; padding: .15rem 0; }
.facts dt { color: #4c525b; flex: 0 0 45%; } .facts dd { margin: 0; font-weight: 600; }
img { max-width: 100%; height: auto; }
tr.stopped td { background: #fbe9ec; }
@media (max-width: 700px) {
  .facts { columns: 1; }
  figure { overflow-x: auto; }
  figure img { max-width: none; width: 900px; }
  td, th { padding-right: .6rem; overflow-wrap: anywhere; }
  td.state { white-space: normal; }
}
@media print { body { font-size: 11pt; margin: 0; } figure, tr { break-inside: avoid; } }
figure { margin: 0; }
</style>
</head>
<body>
<h1>$title</h1>
<p class="from">$source</p>
<h2>What was driven</h2>
<dl class="facts">
$facts
</dl>
$figures
<h2>The guard</h2>
<table>
<tr><th>at</th><th>state</th><th>speed</th><th>why</th></tr>
$events
</table>
</body>
</html>
""")
# Figure → heading, and the description for people who cannot see it.
_HEADINGS = {
    "drive": ("The drive", "sticks, command and actuators over time with the guard's stops, and the path from above"),
    "sticks": ("The sticks", "for how long each stick was where while somebody drove; its dead zone is grey"),
    "actuators": ("The actuators", "each actuator as a share of its end over time"),
    "link": ("The link", "how long after one another frames came, against the timeout, and the age of the newest"),
    "loop": ("The loop", "time from tick to tick"),
}
_PNG = b"\x89PNG"
# A larger figure, of a drive of hours, slows a browser down, bytes.
_MOST_SVG = 2_000_000
_STOPPED = ("stopping", "fault", "emergency stop")


def html_report(
    title: str,
    source: str,
    facts: Sequence[Fact],
    events: Sequence[StateChange],
    figures: Mapping[str, bytes],
    units: Units = METRIC,
) -> str:
    """Put a report together.

    Args:
        title: such as the robot's name. source: its data. facts, events: see `tenuto.analysis.report`.
        figures: name → figure as SVG or PNG, see `picture_of`. units: of the speeds of events.
    """
    said = "\n".join(f"<div><dt>{html.escape(fact.name)}</dt><dd>{html.escape(fact.text)}</dd></div>" for fact in facts)
    parts = []
    for name, picture in figures.items():
        heading, words = _HEADINGS.get(name) or _far_end(name)
        kind = "png" if picture.startswith(_PNG) else "svg+xml"
        data = base64.b64encode(picture).decode()
        image = f'<img alt="{html.escape(words)}" src="data:image/{kind};base64,{data}">'
        parts.append(f"<h2>{html.escape(heading)}</h2>\n<figure>{image}</figure>")
    rows = "\n".join(
        f'<tr{" class=stopped" if event.state in _STOPPED else ""}><td class="number">{event.time:.2f} s</td>'
        f'<td class="state">{html.escape(event.state)}</td><td class="number">{units.speed.shown(event.speed)}</td>'
        f"<td>{html.escape(event.why)}</td></tr>"
        for event in events
    )
    return _PAGE.substitute(
        title=html.escape(title), source=html.escape(source), facts=said, figures="\n".join(parts), events=rows
    )


def _far_end(name: str) -> tuple[str, str]:
    who = name.removeprefix("far_end_").replace("_", " ")
    return f"The far end: {who}", f"what was commanded, and what {who} measured"


def picture_of(figure: Figure) -> bytes:
    """Draw a figure as SVG, which stays sharp; as PNG if that would be too large."""
    import matplotlib

    buffer = BytesIO()
    with matplotlib.rc_context({"svg.fonttype": "none", "svg.hashsalt": "tenuto"}):
        figure.savefig(buffer, format="svg", metadata={"Date": None})
    return buffer.getvalue() if buffer.tell() <= _MOST_SVG else png_of(figure)


def png_of(figure: Figure) -> bytes:
    """Draw a figure as PNG."""
    buffer = BytesIO()
    figure.savefig(buffer, format="png")
    return buffer.getvalue()
