"""Readings: what was understood of configurations."""

from __future__ import annotations

from typing import Any

from ivrel.core.settings import Fact
from ivrel.core.settings.reading import DeviceReading
from ivrel.core.text.bundle import Places
from ivrel.output.views.view import View, place_of


class ReadingView(View, frozen=True, kw_only=True):
    """What was understood of one configuration."""

    reading: DeviceReading

    def machine(self) -> Any:
        return reading_for_machines(self.reading)


def reading_for_machines(reading: DeviceReading) -> dict[str, Any]:
    """Return the machine form of one reading."""
    places = reading.places
    return {
        "device": reading.device.name,
        "platform": reading.device.platform,
        "settings": [_fact(fact, places) for fact in reading.facts],
        "not_understood": [{**place_of(places, s.line), "text": s.text} for s in reading.unparsed],
    }


def said_by(fact: Fact) -> str:
    """Return who says a fact: `text`, `default`, or `unknown` where a default is not sure."""
    if not fact.default:
        return "text"
    return "unknown" if fact.doubt else "default"


def _fact(fact: Fact, places: Places) -> dict[str, Any]:
    return {
        "setting": fact.setting,
        "key": fact.key,
        "value": None if fact.doubt and fact.default else fact.value,
        "from": said_by(fact),
        "doubt": fact.doubt,
        "where": [place_of(places, line) for line in sorted(set(fact.lines))],
    }


class ReadingsView(View, frozen=True, kw_only=True):
    """What was understood of several configurations; what they have in common is reported once.

    `unread`: devices whose configurations cannot be read, and why; `by`: what devices are counted
    by; `every`: whether also what few devices say is shown.
    """

    fleet: str
    readings: tuple[DeviceReading, ...]
    unread: tuple[tuple[str, str], ...]
    by: str = ""
    every: bool = False

    def machine(self) -> Any:
        return {
            "fleet": self.fleet,
            "devices": [reading_for_machines(reading) for reading in self.readings],
            "not_readable": [{"device": name, "problem": why} for name, why in self.unread],
        }
