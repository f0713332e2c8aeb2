"""Messages that came and that are missing, device by device."""

from __future__ import annotations

from matplotlib.figure import Figure

from ivrel.output.figures import MOST_ROWS
from ivrel.output.views.measured import LossesView

_CAME = "#0072B2"
_MISSING = "#D55E00"


def draw(view: LossesView) -> Figure:
    """Draw a bar a device and collector: what came, and hatched what is missing."""
    rows = view.losses[:MOST_ROWS]
    figure = Figure(layout="constrained")
    axes = figure.subplots()
    places = range(len(rows))
    came = [loss.came for loss in rows]
    axes.barh(places, came, height=0.7, color=_CAME, label="came")
    missing = axes.barh(
        places,
        [loss.missing for loss in rows],
        left=came,
        height=0.7,
        facecolor="white",
        edgecolor=_MISSING,
        hatch="////",
        label="missing",
    )
    labels = [f"{loss.missing:,} ({loss.share:.1%})" if loss.missing else "" for loss in rows]
    axes.bar_label(missing, labels, fontsize=8, padding=3)
    axes.set_yticks(places, [f"{loss.device}  {loss.collector[-30:]}" for loss in rows])
    axes.set_ylim(len(rows) - 0.4, -0.6)
    axes.margins(x=0.12)
    axes.set_xlabel("messages, by their numbers")
    left_out = (
        f"; {len(view.losses) - len(rows)} more are left out"
        if len(view.losses) > len(rows)
        else ""
    )
    number = sum(1 for loss in view.losses if loss.missing)
    axes.set_title(f"Messages of {len(view.losses)} counts: {number} have gaps{left_out}")
    axes.grid(axis="x", color="0.9")
    axes.set_axisbelow(True)
    axes.legend(frameon=False, loc="lower right")
    return figure
