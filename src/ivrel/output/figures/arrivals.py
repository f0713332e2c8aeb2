"""Arrivals over time by device, with silences that chance does not explain."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from matplotlib import dates
from matplotlib.figure import Figure

from ivrel.core.vocabulary.wording import span
from ivrel.output.figures import MOST_ROWS
from ivrel.output.views.folding import named
from ivrel.output.views.measured import SilenceView

# Matplotlib has no types for these.
_number: Any = dates.date2num
_places: Any = dates.AutoDateLocator
_form: Any = dates.ConciseDateFormatter
NAMED = 10  # devices that are named below the figure
_DARK, _MARK = "#0072B2", "#D55E00"


def draw(view: SilenceView) -> Figure:
    """Draw a line a device, a stroke a message; silences are barred."""
    heard = [s for s in view.silences if s.state != "never"]
    rows = heard[:MOST_ROWS]
    figure = Figure(layout="constrained")
    axes = figure.subplots()
    moments = [_dates(view.times[s.device].moments) for s in rows]
    axes.eventplot(
        moments, lineoffsets=range(len(rows)), linelengths=0.7, linewidths=0.7, colors=_DARK
    )
    for n, s in enumerate(rows):
        if s.state in ("silent", "together") and s.begun is not None and s.longest is not None:
            _bar(axes, n, s.begun, s.longest)
    axes.set_yticks(range(len(rows)), [s.device for s in rows])
    axes.set_ylim(len(rows) - 0.4, -0.6)
    places: Any = _places()
    axes.xaxis.set_major_locator(places)
    axes.xaxis.set_major_formatter(_form(places))
    axes.set_xlabel("time of arrival (UTC)")
    number = sum(1 for s in view.silences if s.state in ("silent", "together"))
    left_out = f"; {len(heard) - len(rows)} more are left out" if len(heard) > len(rows) else ""
    axes.set_title(f"Messages of each device as they arrived; barred: silent ({number}){left_out}")
    never = [s.device for s in view.silences if s.state == "never"]
    if never:
        figure.supxlabel(f"never heard: {named(never, NAMED)}", fontsize=9, color=_MARK)
    axes.grid(axis="x", color="0.9")
    axes.set_axisbelow(True)
    return figure


def _dates(moments: list[int]) -> Any:
    return _number([datetime.fromtimestamp(at, UTC) for at in moments])


def _bar(axes: Any, row: int, begun: float, longest: float) -> None:
    left, right = (_number(datetime.fromtimestamp(at, UTC)) for at in (begun, begun + longest))
    axes.barh(
        row, right - left, left=left, height=0.8, facecolor="none", edgecolor=_MARK, hatch="////",
        linewidth=1.2,
    )  # fmt: skip
    box = {"facecolor": "white", "edgecolor": "none", "pad": 1.5}
    axes.text(
        (left + right) / 2, row, span(longest), ha="center", va="center", fontsize=8, bbox=box
    )
