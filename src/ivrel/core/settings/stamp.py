"""stamp: the time that a message bears, and how much of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Need, Needs, read_need, read_parts
from ivrel.core.reading.records import Records
from ivrel.core.settings.contract import (
    Clash,
    Fact,
    Finding,
    Obstacle,
    Setting,
    SharedRequirements,
    about_of,
    default_of,
    no_destination,
    silent_on,
)
from ivrel.core.settings.format import expected_of
from ivrel.core.settings.places import ValuePlace, cannot_say, knows, mend_value, places
from ivrel.core.settings.scope import Scope

PARTS = ("kind", "precision", "year", "zone")


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read what is asked of the kind, precision, year and zone of stamps."""

    def reader(part: str) -> Callable[[Node], Need | None]:
        kind = SLOTS[f"stamp.{part}"].type
        return lambda child: read_need(
            child, report, kind.parse, kind.choices, ordered=part == "precision"
        )

    before = len(report.mistakes)
    needs = read_parts(node, report, {part: reader(part) for part in PARTS})
    kind_need = needs.get("kind") if needs else None
    # Uptime has no year and no zone: such a policy could never be met.
    if needs and kind_need and not kind_need.accepts("calendar") and len(needs) > 1:
        report.add(
            node, "contradictory: precision, year and zone are asked of a stamp that is no calendar"
        )
    return needs if len(report.mistakes) == before else None


def _places(scope: Scope, part: str, every: bool = False) -> list[ValuePlace]:
    """Return where a part of the stamp is said: once for the device, or for each destination."""
    return [p for p in places(scope, f"stamp-{part}", every) if p.said.value is not None]


def _calendar(scope: Scope, place: ValuePlace) -> bool:
    """Whether the stamp that a part is of is a calendar's."""
    kinds = _places(scope, "kind", every=True)
    return not kinds or any(
        k.said.value == "calendar" for k in kinds if k.label in ("", place.label)
    )


def facts(scope: Scope) -> list[Fact]:
    """Tell the kind of stamps, and of a calendar's what it shows."""
    return [
        Fact("stamp", p.label, part, str(p.said.value), p.said.lines, p.said.default)
        for part in PARTS
        for p in _places(scope, part, every=True)
        if part == "kind" or _calendar(scope, p)
    ]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find stamps of another kind, or that show something else."""
    dialect = scope.records.dialect
    lacking = [part for part in needs if not _known(scope, part)]
    out = [silent_on(dialect, f"the {part} of stamps", part) for part in lacking]
    if (
        len(lacking) < len(needs)
        and not scope.judged
        and not any(_places(scope, part) for part in needs)
    ):
        return [*out, *no_destination(scope)]
    kinds = _places(scope, "kind")
    wrong = [
        kind
        for kind in kinds
        if "kind" in needs and not needs["kind"].accepts(str(kind.said.value))
    ]
    out += [_finding("stamp-kind", k, k, "kind", needs["kind"], dialect) for k in wrong]
    # What a stamp of the wrong kind shows is of no interest: its parts change with its kind.
    if wrong:
        return out
    for part, need in needs.items():
        for p in _places(scope, part) if part != "kind" else ():
            about = about_of(p.label, part)
            if not _calendar(scope, p):
                kind = next((k for k in kinds if k.label in ("", p.label)), kinds[0])
                # A stamp that is no calendar's shows neither year nor zone, and has no precision.
                if not need.accepts("hidden"):
                    out.append(_finding("stamp-lacks", kind, kind, part, need, dialect, about))
            elif not need.accepts(str(p.said.value)):
                # A default has no line of its own; the line that switches stamps on is where to
                # look.
                cited = p if p.said.lines or not kinds else kinds[0]
                out.append(_finding("stamp-part", p, cited, part, need, dialect))
    return out


def _finding(
    kind: str,
    p: ValuePlace,
    cited: ValuePlace,
    part: str,
    need: Need,
    dialect: Dialect,
    about: str = "",
) -> Finding:
    """Return the finding about a part of the stamp; `cited`: the place whose lines decide."""
    return Finding(
        kind,
        about or about_of(p.label, part),
        p.title,
        str(p.said.value),
        need.text,
        (("part", part),),
        cited.said.lines,
        default=default_of(p.said, dialect),
        cannot=_cannot(p, part, need, dialect, kind),
    )


def _cannot(p: ValuePlace, part: str, need: Need, dialect: Dialect, kind: str) -> Obstacle | None:
    """Return why a platform can never show what is asked of a stamp; None if it can."""
    if kind == "stamp-lacks":
        # What is asked for is shown by a stamp of another kind.
        return cannot_say(dialect, p, Need(any_of=("calendar",)), "kind")
    return cannot_say(dialect, p, need, part)


def _known(scope: Scope, part: str) -> bool:
    """Whether a platform has a statement or a default for a part of stamps."""
    return knows(scope.records.dialect, f"stamp-{part}")


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Set the kind first, and then what it shows."""
    records = scope.records
    obstacles = []
    wanted = dict(needs)
    shown = any(part != "kind" and not need.accepts("hidden") for part, need in needs.items())
    if shown and ("kind" not in needs or needs["kind"].accepts("calendar")):
        wanted["kind"] = Need(any_of=("calendar",))  # nothing else shows what is asked for
    for part in PARTS:
        # Which parts a stamp has depends on the kind that was set in the round before.
        now = scope.on(records)
        for place in _places(now, part) if part in wanted else ():
            if part == "kind" or _calendar(now, place):
                records, more = mend_value(records, place, wanted[part], part)
                obstacles += more
    return records, obstacles


def say(facts: list[Fact]) -> str:
    """Return stamps in few words, place by place where they differ."""
    by_place: dict[str, list[str]] = {}
    for f in facts:
        label, _, part = f.key.rpartition(" ")
        by_place.setdefault(label, []).append(
            f"{part} {f.value}" if part in ("year", "zone") else f.value
        )
    wide = by_place.pop("", [])
    each = {label: ", ".join([*wide, *said]) for label, said in by_place.items()}
    if len(set(each.values())) > 1:
        return "; ".join(f"{label}: {said}" for label, said in each.items())
    return next(iter(each.values()), ", ".join(wide))


def clashes(asked: SharedRequirements) -> Iterator[Clash]:
    """Find what is asked of stamps and not shown by those of RFC 5424 (section 6.2.3).

    These are nil, or a calendar's with year and zone.
    """
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
    slots=(
        *("stamp.kind", "stamp.precision", "stamp.year", "stamp.zone"),
        *("destination.stamp-kind", "destination.stamp-precision"),
        *("destination.stamp-year", "destination.stamp-zone"),
    ),
    kind="kind (none, uptime, calendar), precision, year, zone",
    meaning="what kind of time stamp messages bear, how fine, and whether year and zone are in it",
    effect="stamps have another form: what reads them at the collector must know it",
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
