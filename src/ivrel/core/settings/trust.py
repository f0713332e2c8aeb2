"""trust: with TLS the collector is verified, and no clear text leaves where it must not."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from ivrel.core.form import Node, Report, TextField
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Need, Needs, read_need, read_parts
from ivrel.core.reading.records import Records
from ivrel.core.settings.certificates import lacking_for_tls
from ivrel.core.settings.contract import (
    Clash,
    Fact,
    Finding,
    Obstacle,
    Setting,
    SharedRequirements,
    default_of,
    silent_on,
)
from ivrel.core.settings.places import ValuePlace, cannot_say, mend_value
from ivrel.core.settings.scope import Destination, Scope
from ivrel.core.vocabulary.values import SWITCH

CLEAR = ("anywhere", "same-site", "nowhere")


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read whether collectors are to be verified, and where clear text may go."""

    def way(child: Node) -> Need | None:
        word = TextField("a way", choices=CLEAR).read(child, report)
        return Need(any_of=(word,)) if word else None

    parts = {
        "verify": lambda child: read_need(child, report, SWITCH.parse, SWITCH.choices),
        "clear": way,
    }
    return read_parts(node, report, parts)


def _verify(scope: Scope, d: Destination) -> ValuePlace:
    said = scope.records.get("destination.verify", d.row)
    return ValuePlace(d.label, "destination", d.key, "destination.verify", said, d.title)


def facts(scope: Scope) -> list[Fact]:
    """Tell of each destination whether it is verified, or reached in clear text."""
    out = []
    for d in scope.destinations:
        if d.endpoint[2] == "tls":
            said = _verify(scope, d).said
            value = (
                "verified"
                if said.value == "on"
                else "not verified"
                if said.value == "off"
                else "not said"
            )
            out.append(
                Fact("trust", d.label, "", value, said.lines or d.lines("transport"), said.default)
            )
        else:
            said_way = "not said" if d.endpoint[2] is None else "clear text"
            by_default = scope.records.get("destination.transport", d.row).default
            out.append(Fact("trust", d.label, "", said_way, (), by_default))
    return out


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find collectors that are not verified, and clear text where none may go."""
    out = []
    for d in scope.judged:
        transport = d.endpoint[2]
        if transport == "tls":
            found = _judge_verify(scope, d, needs["verify"]) if "verify" in needs else None
        # Nobody can tell clear text from TLS where the transport is not said.
        elif transport is None:
            asked = "clear" in needs and needs["clear"].any_of != ("anywhere",)
            found = silent_on(scope.records.dialect, "the transport", d.label) if asked else None
        else:
            found = _judge_clear(scope, d, needs)
        if found is not None:
            out.append(found)
    return out


def _judge_verify(scope: Scope, d: Destination, need: Need) -> Finding | None:
    """Whether the collector is verified, and as the one that it is."""
    place = _verify(scope, d)
    dialect = scope.records.dialect
    value = place.said.value
    title = place.title
    if value is None:
        return Finding("verify-unsaid", d.label, title, wanted=need.text, judged="unknown")
    if not need.accepts(str(value)):
        return Finding(
            "unverified",
            d.label,
            title,
            str(value),
            need.text,
            lines=place.said.lines,
            default=default_of(place.said, dialect),
            cannot=cannot_say(dialect, place, need),
        )
    # Verified, but as whom? A certificate of another name would let somebody else answer.
    wrong = _other_peers(scope, d)
    if not wrong or not d.collector:
        return None
    own = scope.collectors[d.collector].certified[0]
    lines = scope.records.get("destination.peer", d.row).lines or place.said.lines
    return Finding("other-peer", d.label, title, " or ".join(wrong), own, lines=lines)


def _other_peers(scope: Scope, d: Destination) -> list[str]:
    """Return the names that are expected in the certificate and are not the collector's, if it has
    any.
    """
    said = scope.records.get("destination.peer", d.row).value
    collector = scope.collectors[d.collector] if d.collector else None
    if said is None or collector is None or not collector.certified:
        return []
    return [name for name in str(said).split(",") if name not in collector.certified]


def _judge_clear(scope: Scope, d: Destination, needs: Needs) -> Finding | None:
    """Return why clear text must not go to a destination; None if it may."""
    way = needs["clear"].any_of[0] if "clear" in needs else "anywhere"
    if way == "anywhere":
        return None
    transport = str(d.endpoint[2])
    lines = d.lines("transport")
    if way == "nowhere":
        return Finding("clear", d.label, d.title, transport, way, lines=lines)
    collector = scope.collectors[d.collector] if d.collector else None
    # Where either side's site is not known, `same-site` cannot be broken for sure.
    if collector is None or collector.site is None or scope.device is None:
        return None
    here = scope.device.site
    there = collector.site
    if here == there:
        return None
    more = (("here", here), ("there", there))
    return Finding("clear-across", d.label, d.title, transport, way, more, lines)


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Verify collectors, by the name in their certificates where that is said."""
    records = scope.records
    obstacles: list[Obstacle] = []
    for d in scope.judged:
        place = _verify(scope, d)
        if d.endpoint[2] != "tls":
            if d.endpoint[2] is not None and _judge_clear(scope, d, needs):
                obstacles.append(Obstacle("clear-collector", d.label, place.title))
        elif "verify" in needs and place.said.value is not None:
            # Whoever switches verification on must name the certificate; whoever has it on may have
            # the wrong name.
            off = not needs["verify"].accepts(str(place.said.value))
            collector = scope.collectors[d.collector] if d.collector else None
            # To verify without a trusted certificate or a name would refuse every collector:
            # nothing would leave any more.
            lack = lacking_for_tls(scope, collector) if off and place.said.value == "off" else ""
            if lack:
                said = (("lack", lack),)
                obstacles.append(Obstacle("tls", d.label, place.title, more=said))
                continue
            records, more = mend_value(records, place, needs["verify"])
            obstacles += more
            if (
                collector
                and records.dialect.has("destination.peer")
                and (off or _other_peers(scope, d))
            ):
                on = (
                    records.get("destination.verify", records.rows("destination")[d.key]).value
                    == "on"
                )
                # A name that is expected means nothing where nobody verifies.
                peer = collector.certified[0] if on else None
                records = records.having("destination", d.key, "destination.peer", peer)
    return records, obstacles


def clashes(asked: SharedRequirements) -> Iterator[Clash]:
    """Find collectors that take clear text where none may go."""
    need = asked.needs["trust"].get("clear")
    way = need.any_of[0] if need else "anywhere"

    def allowed(c: Collector) -> bool:
        same = asked.site is None or c.site is None or c.site == asked.site
        return c.transport == "tls" or way == "anywhere" or (way == "same-site" and same)

    for c in asked.wanted:
        if not allowed(c) and not asked.passed_on(c.name, allowed):
            at = f" and stands at {c.site}, not at {asked.site}" if way == "same-site" else ""
            yield Clash("collectors", f"{c.name} takes clear text ({c.transport}){at}")


SETTING = Setting(
    name="trust",
    slots=("destination.verify", "destination.peer", "authority"),
    hangs_on=(*("destination.name", "destination.address", "destination.transport", "feed.name"),),
    kind="verify (on, off), clear (anywhere, same-site, nowhere)",
    meaning="collectors are verified where TLS is used, and where clear text may go",
    effect="connections are made anew, and fail where the certificate does not fit",
    matters="TLS to a collector that nobody verified talks to whoever answers",
    meets="trust: {verify: on}  ←  carry tls; verify on;",
    breaks="trust: {verify: on}  ←  carry tls; or clear text from one site to another, with "
    "`clear: same-site`",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    clashes=clashes,
)
