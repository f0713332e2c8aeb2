"""stamp: the time that a message bears, and how much of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.form import Node, Report
from ivrel.core.settings.base import (
    Asked,
    Clash,
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
)
from ivrel.core.settings.format import expected_of
from ivrel.core.settings.need import Need, read_need, read_parts

PARTS = ("kind", "precision", "year", "zone")

_READS = {
    "none": "messages bear no stamp",
    "uptime": "stamps count uptime, which reads like a time of day",
}


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    def reader(part: str) -> Callable[[Node], Need | None]:
        kind = SLOTS[f"stamp.{part}"].type
        return lambda child: read_need(child, report, kind.parse, kind.choices, ordered=part == "precision")

    before = len(report.mistakes)
    needs = read_parts(node, report, {part: reader(part) for part in PARTS})
    kind_need = needs.get("kind") if needs else None
    if needs and kind_need and not kind_need.accepts("calendar") and len(needs) > 1:
        report.add(node, "contradictory: precision, year and zone are asked of a stamp that is no calendar")
    return needs if len(report.mistakes) == before else None


def _places(scope: Scope, part: str, every: bool = False) -> list[Place]:
    """Where a part of the stamp is said: once for the device, or for each destination."""
    return [p for p in scope.places(f"stamp-{part}", every) if p.said.value is not None]


def _calendar(scope: Scope, place: Place) -> bool:
    """Whether the stamp that a part is of is a calendar's."""
    kinds = _places(scope, "kind", every=True)
    return any(k.said.value == "calendar" for k in kinds if k.label in ("", place.label))


def facts(scope: Scope) -> list[Fact]:
    return [
        Fact("stamp", f"{p.label} {part}".strip(), str(p.said.value), p.said.lines, p.said.default)
        for part in PARTS
        for p in _places(scope, part, every=True)
        if part == "kind" or _calendar(scope, p)
    ]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    dialect = scope.records.dialect.name
    kinds = _places(scope, "kind")
    if not kinds:
        return [Finding(f"{dialect} says nothing of time stamps", (), "unknown")]
    out = []
    for kind in kinds:
        if "kind" in needs and not needs["kind"].accepts(str(kind.said.value)):
            reads = _READS.get(str(kind.said.value), f"stamps are {kind.said.value}")
            out.append(Finding(kind.prefix + reads + default_note(kind.said, dialect), kind.said.lines))
    if out:
        return out
    for part, need in needs.items():
        for p in _places(scope, part) if part != "kind" else ():
            if _calendar(scope, p) and not need.accepts(str(p.said.value)):
                word = f"{part} is {p.said.value}" if part in ("year", "zone") else f"{part} is in {p.said.value}"
                why = f"{p.prefix}the {word}{default_note(p.said, dialect)}, not {need.text}"
                out.append(Finding(why, p.said.lines or kinds[0].said.lines))
    return out


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records, obstacles = scope.records, []
    for part in PARTS:
        now = scope.on(records)
        for place in _places(now, part) if part in needs else ():
            if part == "kind" or _calendar(now, place):
                records, more = mend_value(records, place, needs[part])
                obstacles += more
    return records, obstacles


def say(facts: list[Fact]) -> str:
    by_place: dict[str, list[str]] = {}
    for f in facts:
        label, _, part = f.key.rpartition(" ")
        by_place.setdefault(label, []).append(f"{part} {f.value}" if part in ("year", "zone") else f.value)
    wide = by_place.pop("", [])
    each = {label: ", ".join([*wide, *said]) for label, said in by_place.items()}
    if len(set(each.values())) > 1:
        return "; ".join(f"{label}: {said}" for label, said in each.items())
    return next(iter(each.values()), ", ".join(wide))


def clashes(asked: Asked) -> Iterator[Clash]:
    """A stamp of RFC 5424 (section 6.2.3) is none, or one of a calendar with year and zone."""
    if expected_of(asked) != {"rfc5424"}:
        return
    needs = asked.needs["stamp"]
    kind = needs.get("kind")
    if kind and not kind.accepts("calendar") and not kind.accepts("none"):
        yield Clash("format", "a stamp of RFC 5424 does not count uptime")
    for part in ("year", "zone"):
        if part in needs and not needs[part].accepts("shown"):
            yield Clash("format", f"a stamp of RFC 5424 shows the {part}")


SETTING = Setting(
    name="stamp",
    kind="kind (none, uptime, calendar), precision, year, zone",
    meaning="what kind of time stamp messages bear, how fine, and whether year and zone are in it",
    matters="two devices' messages can only be put in order if both say when, in full",
    meets="stamp: {kind: calendar, zone: shown}  ←  stamp calendar millis year zone",
    breaks="stamp: {kind: calendar, zone: shown}  ←  stamp uptime; or stamp calendar millis",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    clashes=clashes,
    say=say,
)
