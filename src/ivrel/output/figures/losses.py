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
    axes.barh(places, [loss.came for loss in rows], height=0.7, color=_CAME, label="came")
    lost = [n for n in places if rows[n].missing]
    missing = axes.barh(
        lost,
        [rows[n].missing for n in lost],
        left=[rows[n].came for n in lost],
        height=0.7,
        facecolor="white",
        edgecolor=_MISSING,
        hatch="////",
        label="missing",
    )
    labels = [f"{rows[n].missing:,} ({rows[n].share:.1%})" for n in lost]
    axes.bar_label(missing, labels, fontsize=8, padding=3)
    axes.set_xlim(0, 1.15 * max((loss.came + loss.missing for loss in rows), default=1))
    axes.set_yticks(places, [f"{loss.device}  {loss.collector[-30:]}" for loss in rows])
    axes.set_ylim(len(rows) - 0.4, -0.6)
    axes.set_xlabel("messages, by their numbers")
    left_out = (
        f"; {len(view.losses) - len(rows)} more are left out"
        if len(view.losses) > len(rows)
        else ""
    )
    number = sum(1 for loss in view.losses if loss.missing)
    axes.set_title(f"Messages by their numbers; hatched: missing ({number}){left_out}")
    axes.grid(axis="x", color="0.9")
    axes.set_axisbelow(True)
    axes.legend(loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=2, frameon=False)
    return figure
