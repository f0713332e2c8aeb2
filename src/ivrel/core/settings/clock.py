"""clock: the zone of the device's clock, and the servers that set it."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import HOST, NUMBER, WORD
from ivrel.core.form import Node, Report
from ivrel.core.settings.base import (
    Collector,
    Fact,
    Finding,
    Needs,
    Obstacle,
    Place,
    Scope,
    Setting,
    default_note,
    mend_value,
    silent_on,
)
from ivrel.core.settings.need import Need, SetNeed, read_need, read_parts, read_set_need
from ivrel.core.settings.rows import addresses_of, differences, with_rows


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    parts = {
        "zone": lambda child: read_need(child, report, WORD.parse),
        "servers": lambda child: read_set_need(child, report, HOST.parse),
        "count": lambda child: read_need(child, report, NUMBER.parse, numbers=True),
    }
    return read_parts(node, report, parts)


def facts(scope: Scope) -> list[Fact]:
    zone, dialect = scope.records.get("clock.zone"), scope.records.dialect
    out = [Fact("clock", "zone", str(zone.value), zone.lines, zone.default)] if zone.value is not None else []
    servers = addresses_of(scope.records, "server")
    if dialect.has("server.address"):
        lines = tuple(line for found in servers.values() for line in found)
        out.append(Fact("clock", "servers", ", ".join(sorted(servers)) or "none", lines, not servers))
    return out


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    records, dialect = scope.records, scope.records.dialect
    out = []
    zone = records.get("clock.zone")
    if "zone" in needs and zone.value is None and not dialect.has("clock.zone"):
        out.append(silent_on(dialect, "the zone", "zone"))
    elif "zone" in needs and not needs["zone"].accepts(str(zone.value or "not set")):
        said = f"the zone is {zone.value or 'not set'}{default_note(zone, dialect.name) if zone.value else ''}"
        out.append(Finding(f"{said}, not {needs['zone'].text}", zone.lines, about="zone"))
    if "servers" not in needs and "count" not in needs:
        return [*out, Finding(f"nothing sets the clock{_CALENDAR}", about="servers")] if _unset(scope) else out
    if not dialect.has("server.address"):
        return [*out, silent_on(dialect, "time servers", "servers")]
    follows = records.get("clock.follows")
    servers = addresses_of(records, "server")
    if servers and follows.value == "off":
        said = f"the time servers are set, but not followed{default_note(follows, dialect.name)}"
        return [*out, Finding(said, follows.lines, about="servers")]
    every = tuple(line for lines in servers.values() for line in lines)
    missing, gone = differences(needs.get("servers", SetNeed()), servers)
    if not servers and (missing or not needs.get("count", Need()).accepts("0")):
        return [*out, Finding(f"nothing sets the clock{_CALENDAR if _unset(scope) else ''}", about="servers")]
    if missing:
        out.append(Finding(f"the time server {', '.join(missing)} is missing", every, about="servers"))
    out += [Finding(f"the time server {a} is not asked for", servers[a], about=a) for a in gone]
    if "count" in needs and not needs["count"].accepts(str(len(servers))):
        out.append(
            Finding(
                f"{len(servers)} time server{'s' * (len(servers) > 1)}, not {needs['count'].text}",
                every,
                about="count",
            )
        )
    return out


_CALENDAR = ", and its stamps are a calendar's"


def _unset(scope: Scope) -> bool:
    """Whether messages bear the time of a clock that no server sets, as far as the platform would say so."""
    records = scope.records
    known = records.dialect.has("server.address")
    set_by = addresses_of(records, "server") if records.get("clock.follows").value != "off" else {}
    return known and records.get("stamp.kind").value == "calendar" and not set_by


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records, dialect = scope.records, scope.records.dialect
    obstacles: list[Obstacle] = []
    if "zone" in needs:
        if dialect.has("clock.zone"):
            place = Place("", "", (), "clock.zone", records.get("clock.zone"))
            records, obstacles = mend_value(records, place, needs["zone"], "zone")
        elif records.get("clock.zone").value is not None and judge(scope, {"zone": needs["zone"]}):
            obstacles.append(Obstacle(f"{dialect.name} has no statement for the zone", True, "zone"))
    if "servers" not in needs and "count" not in needs:
        if _unset(scope):
            obstacles.append(Obstacle("the policy names no time server; ask for `servers`", about="servers"))
        return records, obstacles
    if not dialect.has("server.address"):
        return records, obstacles
    records = with_rows(records, "server", needs.get("servers", SetNeed()))
    if addresses_of(records, "server") and records.get("clock.follows").value == "off":
        # Servers that nobody follows set nothing.
        place = Place("", "", (), "clock.follows", records.get("clock.follows"))
        records, more = mend_value(records, place, Need(any_of=("on",)), "servers")
        obstacles += more
    count = len(addresses_of(records, "server"))
    if "count" in needs and not needs["count"].accepts(str(count)):
        why = "the policy names too few time servers to choose from; name them under `servers`"
        obstacles.append(Obstacle(why, about="count" if count else "servers"))
    return records, obstacles


def say(facts: list[Fact]) -> str:
    return ", ".join(f"{f.key} {f.value}" for f in facts) or "nothing"


SETTING = Setting(
    name="clock",
    kind="zone, servers (addresses), count (of servers)",
    meaning="the zone of the clock, and the servers that set it",
    matters="a stamp is worth what its clock is worth; one that nobody sets is off by minutes, or by decades",
    meets="clock: {zone: UTC, servers: {includes: [198.51.100.5]}}  ←  zone UTC, follow 198.51.100.5",
    breaks="clock: {count: {at-least: 1}}  ←  calendar stamps and no time server",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    say=say,
    reads=("stamp",),
)
