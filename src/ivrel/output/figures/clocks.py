"""The offset of each clock, on a scale from milliseconds to years."""

from __future__ import annotations

from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from ivrel.core.measuring.clocks import Clock, told
from ivrel.output.figures import MOST_ROWS
from ivrel.output.views.measured import ClocksView

_GOOD, _BAD, _DELAY = "#0072B2", "#D55E00", "0.55"
# Where people look: what these are called, in seconds.
_TICKS = {
    0.01: "10 ms", 0.1: "0.1 s", 1.0: "1 s", 60.0: "1 min", 3600.0: "1 h", 86400.0: "1 d",
    30 * 86400.0: "30 d", 365 * 86400.0: "1 y",
}  # fmt: skip
_LINEAR = 0.01  # seconds around 0, within which the scale is linear


def draw(view: ClocksView) -> Figure:
    """Draw a line a device: a mark where its clock is, and a stroke to where most stamps are."""
    every = [c for c in view.clocks if c.levels]
    clocks = every[:MOST_ROWS]
    figure = Figure(layout="constrained")
    axes = figure.subplots()
    axes.set_xscale("symlog", linthresh=_LINEAR)
    axes.axvspan(-view.tolerance, view.tolerance, color="0.93", zorder=0)
    for n, clock in enumerate(clocks):
        _clock(axes, n, clock)
    farthest = max((abs(c.offset or 0) + c.delay_95 for c in clocks), default=1.0)
    ticks = [at for at in _TICKS if at <= max(1.0, 3 * farthest)]
    axes.set_xticks(
        [-at for at in reversed(ticks)] + [0.0] + ticks,
        [f"-{_TICKS[at]}" for at in reversed(ticks)] + ["0"] + [_TICKS[at] for at in ticks],
    )
    axes.minorticks_off()
    axes.set_yticks(range(len(clocks)), [c.device for c in clocks])
    axes.set_ylim(len(clocks) - 0.4, -0.6)
    axes.set_xlabel("stamp less time of arrival; right of 0, the clock is ahead")
    left_out = f"; {len(every) - len(clocks)} more are left out" if len(every) > MOST_ROWS else ""
    said = f"Clocks of {len(clocks)} devices; grey: within {view.tolerance:g} s{left_out}"
    axes.set_title(said)
    axes.grid(axis="x", color="0.9")
    axes.legend(handles=_legend(), loc="lower right", frameon=True)
    return figure


def _clock(axes: object, row: int, clock: Clock) -> None:
    offset = clock.offset or 0.0
    is_right = clock.kind in ("right", "late")
    draw_line, draw_mark = axes.plot, axes.annotate  # type: ignore[attr-defined]
    draw_line([offset - clock.delay_95, offset], [row, row], color=_DELAY, linewidth=1.5)
    draw_line(
        [offset], [row], marker="o" if is_right else "D", color=_GOOD if is_right else _BAD,
        markersize=5 if is_right else 7,
    )  # fmt: skip
    if clock.kind != "right":
        side = -1 if offset > 60 or (is_right and offset > 0) else 1
        draw_mark(
            told(clock), (offset, row), (8 * side, 0), textcoords="offset points", fontsize=8,
            va="center", ha="left" if side > 0 else "right",
        )  # fmt: skip


def _legend() -> list[Line2D]:
    return [
        Line2D([], [], marker="o", color=_GOOD, linestyle="", label="tells the time"),
        Line2D([], [], marker="D", color=_BAD, linestyle="", label="does not"),
        Line2D([], [], color=_DELAY, label="the delay within which 95 % of messages came"),
    ]
