"""origin: the tag that names the device in its messages, and the name that it has there."""

from __future__ import annotations

from msgspec.structs import replace

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import ORIGIN
from ivrel.core.settings.base import Finding, Needs, Obstacle, Scope
from ivrel.core.settings.valued import Part, valued

_PLAIN = valued(
    "origin",
    Part("", "origin", ORIGIN),
    what="what names the device in its messages",
    kind="none, address, name",
    meaning="what names the device in its messages",
    matters="behind a relay all messages come from one address; only the tag tells whose they are",
    meets="origin: name  ←  origin name, and the device bears the name that the fleet gives it",
    breaks="origin: name  ←  origin none; or another device's name",
)


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """The kind of tag, and of a name, whether it is the device's own."""
    said, found = scope.records.get("unit.name"), _PLAIN.judge(scope, needs)
    tag = scope.records.get("origin").value
    if _misnamed(scope) and tag == "name":
        found.append(Finding(_misnamed(scope), said.lines, about="name"))
    return found


def _misnamed(scope: Scope) -> str:
    """How the device's name for itself differs from the fleet's; '' if it does not, or none is said."""
    own = scope.records.get("unit.name").value
    if scope.device is None or own is None or own == scope.device.name:
        return ""
    return f"it calls itself {own}, not {scope.device.name}"


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """The tag; a name of its own is not changed in passing, for more than messages hangs on it."""
    records, obstacles = _PLAIN.mend(scope, needs)
    if _misnamed(scope) and records.get("origin").value == "name":
        obstacles.append(Obstacle(f"{_misnamed(scope)}; rename it by hand, or in the fleet", about="name"))
    return records, obstacles


SETTING = replace(_PLAIN, judge=judge, mend=mend)
