"""Views: what a command shows, as data. A terminal draws them; machines get them as JSON."""

from ivrel.output.views.view import View

__all__ = ["View"]
