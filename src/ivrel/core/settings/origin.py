"""origin: the tag that names the device in its messages, and the name that it has there."""

from __future__ import annotations

from msgspec.structs import replace

from ivrel.core.policy.need import Needs
from ivrel.core.reading.records import Records
from ivrel.core.settings.contract import Finding, Obstacle
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import ORIGIN

_PLAIN = valued(
    "origin",
    ValuePart("", "origin", ORIGIN),
    also=("unit.name",),
    what="what names the device in its messages",
    kind="none, address, name",
    meaning="what names the device in its messages",
    effect="messages name the device otherwise: searches and alarms by name must follow",
    matters="behind a relay all messages come from one address; only the tag tells whose they are",
    meets="origin: name  ←  origin name, and the device bears the name that the fleet gives it",
    breaks="origin: name  ←  origin none; or another device's name",
)


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Return the kind of tag, and of a name, whether it is the device's own."""
    said = scope.records.get("unit.name")
    found = _PLAIN.judge(scope, needs)
    tag = scope.records.get("origin").value
    if _misnamed(scope) and tag == "name":
        name = scope.device.name if scope.device else ""
        found.append(Finding("misnamed", "name", "", _misnamed(scope), name, lines=said.lines))
    return found


def _misnamed(scope: Scope) -> str:
    """Return the device's own name, if the fleet has another; else ''."""
    own = scope.records.get("unit.name").value
    if scope.device is None or own is None or own == scope.device.name:
        return ""
    return str(own)


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Return the tag; a name of its own is not changed in passing, for more than messages depends
    on it.
    """
    records, obstacles = _PLAIN.mend(scope, needs)
    if _misnamed(scope) and records.get("origin").value == "name":
        name = scope.device.name if scope.device else ""
        own = (("found", _misnamed(scope)),)
        obstacles.append(Obstacle("rename", "name", wanted=name, more=own))
    return records, obstacles


SETTING = replace(_PLAIN, judge=judge, mend=mend)
