"""Figures: views drawn by Matplotlib, `pip install 'ivrel[figures]'`.

Legible in grey and for colour-blind eyes: what differs, differs in form or brightness, too. The
colours are of the palette by M. Okabe and K. Ito (2008).
"""

from __future__ import annotations

import io
from importlib import import_module
from typing import Any

from ivrel.core.vocabulary.errors import InputError
from ivrel.output.views.view import View

# The module that draws each view, by its function `draw`.
_DRAWN = {
    "ClocksView": "clocks",
    "LossesView": "losses",
    "SilenceView": "arrivals",
    "VolumeView": "volume",
}
_STYLE: Any = {
    "figure.figsize": (12.8, 8.0),
    "figure.dpi": 100,
    "font.size": 9,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.titlelocation": "left",
    "axes.titleweight": "bold",
    "svg.hashsalt": "ivrel",  # the same view gives the same file
}
MOST_ROWS = 45  # devices for which there is room


def drawn(view: View, kind: str) -> bytes:
    """Return the figure of a view as a file; `kind`: 'png' or 'svg'."""
    try:
        import matplotlib
    except ImportError:
        said = "--figure needs Matplotlib; install it with: pip install 'ivrel[figures]'"
        raise InputError(said) from None
    matplotlib.use("agg")
    with matplotlib.rc_context(_STYLE):
        figure = import_module(f"{__name__}.{_DRAWN[type(view).__name__]}").draw(view)
        out = io.BytesIO()
        # No date and no version in it, for the same reason.
        figure.savefig(out, format=kind, metadata={"Date": None} if kind == "svg" else {})
    return out.getvalue()
