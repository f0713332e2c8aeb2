"""The terminal: draws each kind of view, by one function a kind."""

from __future__ import annotations

from importlib import import_module

from ivrel.output.terminal.screen import console, next_commands
from ivrel.output.views.view import View

# The module that draws each view; its function is called `draw_` and what the table says.
_DRAWN = {
    "AuditView": ("audit", "audit"),
    "CorrectionsView": ("corrections", "corrections"),
    "ClocksView": ("measured", "clocks"),
    "CountsView": ("messages", "counts"),
    "CoverView": ("dialect", "cover"),
    "DeliveryView": ("delivered", "delivery"),
    "DialectView": ("dialect", "dialect"),
    "DialectsView": ("lists", "dialects"),
    "ExplanationView": ("explanation", "explanation"),
    "FleetView": ("lists", "fleet"),
    "GatheredView": ("gathered", "gathered"),
    "HeardView": ("heard", "heard"),
    "HostKeysView": ("gathered", "host_keys"),
    "LossesView": ("measured", "losses"),
    "MessagesView": ("messages", "messages"),
    "OwnView": ("own", "own"),
    "PolicyView": ("policy", "policy"),
    "ProofsView": ("proofs", "proofs"),
    "ReadingView": ("reading", "reading"),
    "ReadingsView": ("reading", "readings"),
    "RequirementsView": ("policy", "requirements"),
    "SilenceView": ("measured", "silence"),
    "TraceView": ("messages", "trace"),
    "TrialView": ("dialect", "trial"),
    "VolumeView": ("measured", "volume"),
    "WhyView": ("why", "why"),
    "WhatIfView": ("what_if", "what_if"),
}


def draw(view: View, width: int) -> None:
    """Print a view in so many columns, and the commands to type next at its end."""
    module, name = _DRAWN[type(view).__name__]
    screen = console(width)
    further = getattr(import_module(f"{__name__}.{module}"), f"draw_{name}")(screen, view)
    commands = (*view.next, *(further or ()))
    if commands:
        next_commands(screen, commands)
