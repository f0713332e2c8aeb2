"""resolver: there is one where a collector is named by host name."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.dialects.records import Records
from ivrel.core.fleet import address, is_address
from ivrel.core.form import Node, Report
from ivrel.core.settings.base import Collector, Fact, Finding, Needs, Obstacle, Scope, Setting, silent_on
from ivrel.core.settings.need import SetNeed, read_set_need
from ivrel.core.settings.rows import addresses_of, differences, with_rows

NEEDED = "where-needed"


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    if getattr(node, "value", None) == NEEDED:
        return {NEEDED: SetNeed()}
    need = read_set_need(node, report, address)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    if not scope.records.dialect.has("resolver.address"):
        return []
    found = addresses_of(scope.records, "resolver")
    lines = tuple(line for said in found.values() for line in said)
    return [Fact("resolver", "", ", ".join(sorted(found)) or "none", lines, not found)]


def _named(scope: Scope) -> list[str]:
    """The destinations that are named by host name."""
    names = [str(d.endpoint[0]) for d in scope.destinations if d.endpoint[0] is not None]
    return [name for name in names if not is_address(name)]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    found = addresses_of(scope.records, "resolver")
    if NEEDED in needs:
        named = _named(scope)
        if not named or found:
            return []
        if not scope.records.dialect.has("resolver.address"):
            said = f"{scope.records.dialect.name} says nothing of resolvers, and {', '.join(named)} is a host name"
            return [Finding(said, (), "unknown")]
        lines = tuple(line for d in scope.destinations if str(d.endpoint[0]) in named for line in d.lines())
        return [Finding(f"{', '.join(named)} is a host name, and there is no resolver", lines)]
    if not scope.records.dialect.has("resolver.address"):
        return [silent_on(scope.records.dialect, "resolvers")]
    missing, gone = differences(needs[""], found)
    out = [Finding(f"the resolver {', '.join(missing)} is missing", about="missing")] if missing else []
    return out + [Finding(f"the resolver {a} is not asked for", found[a], about=a) for a in gone]


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records = scope.records
    if not judge(scope, needs):
        return records, []
    if NEEDED in needs:
        return records, [Obstacle("the policy names no resolver; ask for `resolver: [ADDRESS]`")]
    if not records.dialect.has("resolver.address"):
        return records, []
    return with_rows(records, "resolver", needs[""]), []


SETTING = Setting(
    name="resolver",
    kind="`where-needed`, or addresses",
    meaning="the resolvers of host names",
    matters="a collector that is named by host name gets nothing from a device that cannot look it up",
    meets="resolver: where-needed  ←  a collector by host name, and a resolver",
    breaks="resolver: where-needed  ←  a collector by host name, and no resolver",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
)
