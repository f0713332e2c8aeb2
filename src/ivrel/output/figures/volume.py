"""Volume by severity, now and at another trap level."""

from __future__ import annotations

from matplotlib.figure import Figure

from ivrel.output.views.measured import VolumeView

_NOW, _THEN = "#0072B2", "#E69F00"


def draw(view: VolumeView) -> Figure:
    """Draw two bars a severity; an estimate is hatched."""
    figure = Figure(layout="constrained")
    axes = figure.subplots()
    rows = view.severities
    width = 0.38 if view.level else 0.7
    shift = width / 2 if view.level else 0.0
    places = range(len(rows))
    now = axes.bar(
        [n - shift for n in places], [s.now for s in rows], width, color=_NOW, label="now"
    )
    axes.bar_label(now, [_bits(s.now) for s in rows], fontsize=8, padding=2)
    if view.level:
        then = axes.bar(
            [n + shift for n in places], [s.other or 0.0 for s in rows], width, color=_THEN,
            edgecolor="0.2", label=f"at {view.level}",
            hatch=["///" if s.estimated else "" for s in rows],
        )  # fmt: skip
        labels = ["not known" if s.other is None else _bits(s.other) for s in rows]
        axes.bar_label(then, labels, fontsize=8, padding=2)
        if any(s.estimated for s in rows):
            axes.bar(
                [0],
                [0],
                color="white",
                edgecolor="0.2",
                hatch="///",
                label="with an estimate in it",
            )
        axes.legend(frameon=False)
    axes.set_xticks(list(places), [s.severity for s in rows])
    axes.set_ylabel("bits a second, in the mean, with headers of IP and transport")
    then_words = f", now and at trap level {view.level}" if view.level else ""
    axes.set_title(f"Volume of {view.heard} devices by severity{then_words}")
    axes.grid(axis="y", color="0.9")
    axes.set_axisbelow(True)
    return figure


def _bits(rate: float) -> str:
    return f"{rate:,.1f}" if rate else ""
