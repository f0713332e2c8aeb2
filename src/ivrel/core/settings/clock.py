"""clock: the zone of the device's clock, and the servers that set it."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Need, Needs, SetNeed, read_need, read_parts, read_set_need
from ivrel.core.reading.records import Records
from ivrel.core.settings.contract import Fact, Finding, Obstacle, Setting, default_of, silent_on
from ivrel.core.settings.places import ValuePlace, cannot_say, mend_value
from ivrel.core.settings.rows import addresses_of, differences, with_rows
from ivrel.core.settings.scope import Scope
from ivrel.core.vocabulary.sourced import SourcedValue
from ivrel.core.vocabulary.values import HOST, NUMBER, WORD


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read the zone, the servers and how many of them are asked for."""
    parts = {
        "zone": lambda child: read_need(child, report, WORD.parse),
        "servers": lambda child: read_set_need(child, report, HOST.parse),
        "count": lambda child: read_need(child, report, NUMBER.parse, numbers=True),
    }
    return read_parts(node, report, parts)


def facts(scope: Scope) -> list[Fact]:
    """Tell the zone and the servers."""
    zone = scope.records.get("clock.zone")
    dialect = scope.records.dialect
    out = []
    if zone.value is not None:
        out.append(Fact("clock", "", "zone", str(zone.value), zone.lines, zone.default))
    servers = addresses_of(scope.records, "server")
    if dialect.has("server.address"):
        lines = tuple(line for found in servers.values() for line in found)
        said = ", ".join(sorted(servers)) or "none"
        out.append(Fact("clock", "", "servers", said, lines, not servers))
    return out


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find another zone, and servers that are missing, strange or not followed."""
    return [*_judge_zone(scope, needs), *_judge_servers(scope, needs)]


def _judge_zone(scope: Scope, needs: Needs) -> list[Finding]:
    dialect = scope.records.dialect
    zone = scope.records.get("clock.zone")
    if "zone" not in needs:
        return []
    need: Need = needs["zone"]
    if zone.value is None and not dialect.has("clock.zone"):
        return [silent_on(dialect, "the zone", "zone")]
    if need.accepts(str(zone.value or "not set")):
        return []
    if dialect.has("clock.zone"):
        cannot = cannot_say(dialect, _zone(zone), need, "zone")
    else:
        cannot = _no_statement(dialect)
    return [
        Finding(
            "zone",
            "zone",
            found=str(zone.value or "not set"),
            wanted=need.text,
            lines=zone.lines,
            default=default_of(zone, dialect) if zone.value else "",
            cannot=cannot,
        )
    ]


def _zone(said: SourcedValue) -> ValuePlace:
    return ValuePlace("", "", (), "clock.zone", said)


def _no_statement(dialect: Dialect) -> Obstacle:
    more = (("platform", dialect.name), ("what", "the zone"))
    return Obstacle("no-statement", "zone", more=more, unable=True)


def _judge_servers(scope: Scope, needs: Needs) -> list[Finding]:
    records = scope.records
    dialect = scope.records.dialect
    unset = Finding("clock-unset", "servers", more=(("calendar", "yes" if _unset(scope) else ""),))
    if "servers" not in needs and "count" not in needs:
        return [unset] if _unset(scope) else []
    if not dialect.has("server.address"):
        return [silent_on(dialect, "time servers", "servers")]
    follows = records.get("clock.follows")
    servers = addresses_of(records, "server")
    # Servers that are listed and not followed set no clock, however many they are.
    if servers and follows.value == "off":
        default = default_of(follows, dialect)
        return [Finding("unfollowed", "servers", found="off", lines=follows.lines, default=default)]
    # Servers are reported one by one, their number only if it is asked for.
    missing, gone = differences(needs.get("servers", SetNeed()), servers)
    count: Need = needs.get("count", Need())
    if not servers and (missing or not count.accepts("0")):
        return [unset]
    every = tuple(line for lines in servers.values() for line in lines)
    out = []
    if missing:
        out.append(Finding("server-missing", "servers", wanted=", ".join(missing), lines=every))
    out += [Finding("server-stranger", a, found=a, lines=servers[a]) for a in gone]
    number = str(len(servers))
    if not count.accepts(number):
        plural = (("s", "s" if len(servers) > 1 else ""),)
        out.append(Finding("server-count", "count", "", number, count.text, plural, every))
    return out


def _unset(scope: Scope) -> bool:
    """Whether messages bear the time of a clock that no server sets, as far as it would be said."""
    records = scope.records
    known = records.dialect.has("server.address")
    follows = records.get("clock.follows").value != "off"
    set_by = addresses_of(records, "server") if follows else {}
    # A stamp that counts uptime needs no clock that is right.
    return known and records.get("stamp.kind").value == "calendar" and not set_by


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Set the zone, and the servers that the policy names."""
    records = scope.records
    dialect = scope.records.dialect
    obstacles: list[Obstacle] = []
    if "zone" in needs:
        if dialect.has("clock.zone"):
            place = _zone(records.get("clock.zone"))
            records, obstacles = mend_value(records, place, needs["zone"], "zone")
        elif records.get("clock.zone").value is not None and _judge_zone(scope, needs):
            obstacles.append(_no_statement(dialect))
    if "servers" not in needs and "count" not in needs:
        if _unset(scope):
            obstacles.append(Obstacle("no-server-named", "servers"))
        return records, obstacles
    if not dialect.has("server.address"):
        return records, obstacles
    # A number alone does not say which servers to add; those that are named are set.
    records = with_rows(records, "server", needs.get("servers", SetNeed()))
    if addresses_of(records, "server") and records.get("clock.follows").value == "off":
        # Servers that nobody follows set nothing.
        place = ValuePlace("", "", (), "clock.follows", records.get("clock.follows"))
        records, more = mend_value(records, place, Need(any_of=("on",)), "servers")
        obstacles += more
    count = len(addresses_of(records, "server"))
    if "count" in needs and not needs["count"].accepts(str(count)):
        obstacles.append(Obstacle("too-few-servers", "count" if count else "servers"))
    return records, obstacles


def say(facts: list[Fact]) -> str:
    """Return zone and servers in few words."""
    return ", ".join(f"{f.key} {f.value}" for f in facts) or "nothing"


SETTING = Setting(
    name="clock",
    slots=("clock.zone", "clock.follows", "server.id", "server.address"),
    kind="zone, servers (addresses), count (of servers)",
    meaning="the zone of the clock, and the servers that set it",
    effect="the time in stamps jumps when the clock is set or its zone changes",
    matters="a stamp is worth what its clock is worth; one that nobody sets is off by minutes, "
    "or by decades",
    meets="clock: {zone: UTC, servers: {includes: [198.51.100.5]}}  ←  zone UTC, follow "
    "198.51.100.5",
    breaks="clock: {count: {at-least: 1}}  ←  calendar stamps and no time server",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    say=say,
    reads=("stamp",),
)
