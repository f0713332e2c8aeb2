"""The change sheet as one HTML file: no scripts, nothing fetched; for a screen and for A4."""

from __future__ import annotations

from collections.abc import Iterator

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from ivrel.core.correcting import MEANS
from ivrel.output.escaping import finalize_html, for_html
from ivrel.output.views.sheet import SheetView, waivers

_TONES = {"meets": "good", "waived": "dim", "breaks": "bad", "unable": "mark", "unknown": "mark"}


def change_sheet_html(view: SheetView) -> Iterator[str]:
    """Yield the page piece by piece; all that comes from configurations is escaped."""
    environment = Environment(
        loader=PackageLoader("ivrel.output", "machine"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
    )
    environment.finalize = finalize_html
    environment.globals |= {
        "coded": _coded,
        "many": lambda number: f"{number:,}",
        "tone": lambda verdict: _TONES.get(verdict, ""),
        "waivers": waivers,
    }
    page = environment.get_template("sheet.html")
    yield from page.generate(view=view, n=view.sections.counts, means=MEANS)


def _coded(text: str) -> Markup:
    """Return a text with the parts between backticks as code."""
    parts = (for_html(part) for part in text.split("`"))
    return Markup("").join(
        Markup("<code>{}</code>").format(part) if n % 2 else part for n, part in enumerate(parts)
    )
