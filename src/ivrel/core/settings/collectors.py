"""collectors: the device sends to exactly the collectors that it should, each at the right
endpoint.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import SITE, Needs, SetNeed, read_set_need
from ivrel.core.settings.contract import (
    Clash,
    Fact,
    Finding,
    Obstacle,
    Setting,
    SharedRequirements,
    silent_on,
)
from ivrel.core.settings.replacing import (
    cannot_hold,
    cannot_send,
    on_the_way,
    relayed,
    replaced,
    to_go,
    together,
)
from ivrel.core.settings.scope import Destination, Scope
from ivrel.core.settings.sending import lacking
from ivrel.core.vocabulary.values import TRANSPORTS
from ivrel.core.vocabulary.wording import not_one_of

APART = ("site", "path")
_FIELDS = ("address", "port", "transport")


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read the collectors that are asked for, by name."""

    def known(name: str) -> str:
        if name != SITE and name not in collectors:
            raise ValueError(f"collector {not_one_of(name, collectors)}")
        return name

    need = read_set_need(node, report, known, apart=APART)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    """Return one fact a destination.

    Its endpoint is the text's even where port and transport are defaults.
    """
    return [
        Fact(
            "collectors",
            d.label,
            "",
            d.text,
            d.lines(*_FIELDS),
            False,
            d.collector if d.right and d.collector else "",
        )
        for d in scope.destinations
    ]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find collectors that are missing or astray, and destinations that must go."""
    need: SetNeed = needs[""]
    dialect = scope.records.dialect
    if not dialect.has("destination.address"):
        return [silent_on(dialect, "destinations")]
    serves = scope.serving
    full = cannot_hold(scope, need)
    out = []
    for name in need.wanted:
        if name in serves:
            found = _astray(scope, name, serves[name])
        elif relayed(scope, name):
            continue
        else:
            found = _missing(scope, name, full)
        if found is not None:
            out.append(found)
    # Only what serves as it should can share a site or a path with another.
    if not out:
        for what in need.apart:
            where = together(what, on_the_way(scope, need))
            if where:
                out.append(Finding("together", f"apart {what}", more=(("where", where),)))
    return out + [finding for _, finding in to_go(scope, need)]


def _missing(scope: Scope, name: str, full: Obstacle | None) -> Finding:
    """Return a collector that nothing is sent to."""
    c = scope.collectors[name]
    # Nothing in the text says that something is missing: what is sent to instead is shown.
    others = tuple(line for d in scope.destinations for line in d.lines())
    cannot = cannot_send(scope.records.dialect, c) or full
    wanted = f"{c.address} {c.transport} {c.port}"
    return Finding("missing", name, name, wanted=wanted, lines=others, cannot=cannot)


def _astray(scope: Scope, name: str, d: Destination) -> Finding | None:
    """Return how the destination that serves a collector is not as it should be; None if it is."""
    c = scope.collectors[name]
    dialect = scope.records.dialect
    if d.right:
        lack = lacking(scope, d)
        if not lack:
            return None
        return Finding("told-of", name, d.label, lack, c.name, lines=d.lines("lacks"))
    wrong = {}
    for field, found, right in zip(_FIELDS, d.endpoint, c.endpoint, strict=True):
        # A collector may go by several names; each of them is its address.
        if found != right and not (field == "address" and c.is_at(found)):
            wrong[field] = found, right
    # The platform sends by a way that no policy can ask for, so no value of the policy is right or
    # wrong.
    if "transport" in wrong and d.endpoint[2] not in (None, *TRANSPORTS):
        way = str(d.endpoint[2])
        lines = d.lines("transport")
        return Finding("untellable-transport", name, d.label, way, lines=lines, judged="unable")
    # What neither the text nor the dialect says may be right.
    unsaid = [field for field, (found, _) in wrong.items() if found is None]
    if unsaid:
        more = (("what", " and ".join(unsaid)),)
        platform = dialect.name
        lines = d.lines()
        return Finding(
            "endpoint-unsaid", name, d.label, platform, more=more, lines=lines, judged="unknown"
        )
    said = (f"{field} {found}, not {right}" for field, (found, right) in wrong.items())
    return Finding(
        "endpoint",
        name,
        d.label,
        d.text,
        f"{c.address} {c.transport} {c.port}",
        (("collector", name), ("wrong", " and ".join(said))),
        d.lines(*wrong),
        cannot=cannot_send(dialect, c),
    )


def clashes(asked: SharedRequirements) -> Iterator[Clash]:
    """Find what is asked of a device that sends to nobody, or by one way only."""
    need = asked.needs["collectors"][""]
    for other in ("level", "categories"):
        if need.exactly == () and other in asked.needs:
            yield Clash(other, "a device without collectors sends nothing")
    relays = [c for c in asked.collectors.values() if c.reaches & set(need.wanted)]
    for what in need.apart:
        if need.exactly is not None and (why := together(what, [*asked.wanted, *relays])):
            yield Clash("collectors", f"apart by {what}, but {why}")


def say(facts: list[Fact]) -> str:
    """Name the collectors, and the endpoints of all others."""
    return ", ".join(f.note or f.value for f in facts) or "none"


SETTING = Setting(
    name="collectors",
    slots=(
        *("destination.name", "destination.address", "destination.port", "destination.transport"),
        *("destination.lacks", "feed.name"),
    ),
    kind="names of the policy's collectors",
    meaning="the collectors that the device sends to, each at the right address, port and "
    "transport",
    effect="collectors begin to receive the device, or lose it; connections are opened anew",
    matters="a missing collector loses messages, a stranger gets them, a wrong port does both",
    meets="collectors: {exactly: [beacon-a]}  ←  one destination, at beacon-a's address, port "
    "and transport",
    breaks="collectors: {exactly: [beacon-a]}  ←  beacon-a's address at another port; or a "
    "second destination",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=replaced,
    say=say,
    clashes=clashes,
)
