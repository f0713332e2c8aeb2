"""trust: with TLS the collector is verified, and no clear text leaves where it must not."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import SWITCH
from ivrel.core.form import Node, Report, Text
from ivrel.core.settings.base import (
    Asked,
    Clash,
    Collector,
    Destination,
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
from ivrel.core.settings.certificates import lacking_for_tls
from ivrel.core.settings.need import Need, read_need, read_parts

CLEAR = ("anywhere", "same-site", "nowhere")


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    def way(child: Node) -> Need | None:
        word = Text("a way", choices=CLEAR).read(child, report)
        return Need(any_of=(word,)) if word else None

    parts = {"verify": lambda child: read_need(child, report, SWITCH.parse, SWITCH.choices), "clear": way}
    return read_parts(node, report, parts)


def _verify(scope: Scope, d: Destination) -> Place:
    said = scope.records.get("destination.verify", d.row)
    return Place(d.label, "destination", d.key, "destination.verify", said, d.title)


def facts(scope: Scope) -> list[Fact]:
    out = []
    for d in scope.destinations:
        if d.endpoint[2] == "tls":
            said = _verify(scope, d).said
            value = "verified" if said.value == "on" else "not verified" if said.value == "off" else "not said"
            out.append(Fact("trust", d.label, value, said.lines or d.lines("transport"), said.default))
        else:
            out.append(Fact("trust", d.label, "clear text", (), False))
    return out


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    out = []
    for d in scope.judged:
        place = _verify(scope, d)
        if d.endpoint[2] == "tls":
            if "verify" in needs and place.said.value is None:
                why = f"{place.prefix}whether the collector is verified is not said"
                out.append(Finding(why, (), "unknown", d.label))
            elif "verify" in needs and not needs["verify"].accepts(str(place.said.value)):
                note = default_note(place.said, scope.records.dialect.name)
                out.append(
                    Finding(f"{place.prefix}the collector is not verified{note}", place.said.lines, about=d.label)
                )
            elif "verify" in needs and (why := _other_peer(scope, d)):
                lines = scope.records.get("destination.peer", d.row).lines
                out.append(Finding(place.prefix + why, lines or place.said.lines, about=d.label))
        elif d.endpoint[2] is None:
            if "clear" in needs and needs["clear"].any_of != ("anywhere",):
                out.append(silent_on(scope.records.dialect, "the transport", d.label))
        elif why := _clear(scope, d, needs):
            out.append(Finding(place.prefix + why, d.lines("transport"), about=d.label))
    return out


def _other_peer(scope: Scope, d: Destination) -> str:
    """Why a certificate that is expected is not the collector's; '' if it is, or nobody knows."""
    said = scope.records.get("destination.peer", d.row).value
    collector = scope.collectors[d.collector] if d.collector else None
    if said is None or collector is None or not collector.certified:
        return ""
    wrong = [name for name in str(said).split(",") if name not in collector.certified]
    return f"expects a certificate of {' or '.join(wrong)}, not of {collector.certified[0]}" if wrong else ""


def _clear(scope: Scope, d: Destination, needs: Needs) -> str:
    """Why clear text must not go to a destination; '' if it may."""
    way = needs["clear"].any_of[0] if "clear" in needs else "anywhere"
    if way == "anywhere":
        return ""
    if way == "nowhere":
        return f"clear text by {d.endpoint[2]}"
    collector = scope.collectors[d.collector] if d.collector else None
    if collector is None or collector.site is None or scope.device is None:
        return ""
    if collector.site == scope.device.site:
        return ""
    return f"clear text by {d.endpoint[2]} from {scope.device.site} to {collector.site}"


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records = scope.records
    obstacles: list[Obstacle] = []
    for d in scope.judged:
        place = _verify(scope, d)
        if d.endpoint[2] != "tls":
            if _clear(scope, d, needs):
                why = "the policy's collector takes clear text only; give it `transport: tls`"
                obstacles.append(Obstacle(f"{place.prefix}{why}", about=d.label))
        elif "verify" in needs and place.said.value is not None:
            off = not needs["verify"].accepts(str(place.said.value))
            collector = scope.collectors[d.collector] if d.collector else None
            lack = lacking_for_tls(scope, collector) if off and place.said.value == "off" else ""
            if lack:
                obstacles.append(Obstacle(f"{place.prefix}{lack}", about=d.label))
                continue
            records, more = mend_value(records, place, needs["verify"])
            obstacles += more
            if collector and records.dialect.has("destination.peer") and (off or _other_peer(scope, d)):
                on = records.get("destination.verify", records.rows("destination")[d.key]).value == "on"
                peer = collector.certified[0] if on else None
                records = records.having("destination", d.key, "destination.peer", peer)
    return records, obstacles


def clashes(asked: Asked) -> Iterator[Clash]:
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
    kind="verify (on, off), clear (anywhere, same-site, nowhere)",
    meaning="collectors are verified where TLS is used, and where clear text may go",
    matters="TLS to a collector that nobody verified talks to whoever answers",
    meets="trust: {verify: on}  ←  carry tls; verify on;",
    breaks="trust: {verify: on}  ←  carry tls; or clear text from one site to another, with `clear: same-site`",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    clashes=clashes,
)
