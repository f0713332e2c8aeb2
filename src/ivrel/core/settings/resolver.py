"""resolver: there is one where a collector is named by host name."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Needs, SetNeed, read_set_need
from ivrel.core.reading.records import Records
from ivrel.core.settings.contract import Fact, Finding, Obstacle, Setting, silent_on
from ivrel.core.settings.rows import addresses_of, differences, with_rows
from ivrel.core.settings.scope import Scope
from ivrel.core.vocabulary.addresses import address, is_address

NEEDED = "where-needed"


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read the resolvers that are asked for, or that one is where it is needed."""
    if getattr(node, "value", None) == NEEDED:
        return {NEEDED: SetNeed()}
    need = read_set_need(node, report, address)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    """Tell the resolvers."""
    if not scope.records.dialect.has("resolver.address"):
        return []
    found = addresses_of(scope.records, "resolver")
    lines = tuple(line for said in found.values() for line in said)
    return [Fact("resolver", "", "", ", ".join(sorted(found)) or "none", lines, not found)]


def _named(scope: Scope) -> list[str]:
    """Return the destinations that are named by host name."""
    names = [str(d.endpoint[0]) for d in scope.destinations if d.endpoint[0] is not None]
    return [name for name in names if not is_address(name)]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find resolvers that are missing or strange."""
    found = addresses_of(scope.records, "resolver")
    if NEEDED in needs:
        named = _named(scope)
        # Addresses need no resolver, and any resolver will do for names.
        if not named or found:
            return []
        if not scope.records.dialect.has("resolver.address"):
            more = (("platform", scope.records.dialect.name),)
            hosts = ", ".join(named)
            return [Finding("resolver-unknown", found=hosts, more=more, judged="unknown")]
        by_name = (d for d in scope.destinations if str(d.endpoint[0]) in named)
        lines = tuple(line for d in by_name for line in d.lines())
        return [Finding("resolver-lacking", found=", ".join(named), lines=lines)]
    if not scope.records.dialect.has("resolver.address"):
        return [silent_on(scope.records.dialect, "resolvers")]
    missing, gone = differences(needs[""], found)
    out = [Finding("resolver-stranger", a, found=a, lines=found[a]) for a in gone]
    if missing:
        # What is missing weighs more than what is strange, and comes first.
        out.insert(0, Finding("resolver-missing", "missing", wanted=", ".join(missing)))
    return out


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Set the resolvers that the policy names."""
    records = scope.records
    if not judge(scope, needs):
        return records, []
    if NEEDED in needs:
        return records, [Obstacle("no-resolver-named")]
    if not records.dialect.has("resolver.address"):
        return records, []
    return with_rows(records, "resolver", needs[""]), []


SETTING = Setting(
    name="resolver",
    slots=("resolver.id", "resolver.address"),
    hangs_on=("destination.address",),
    kind="`where-needed`, or addresses",
    meaning="the resolvers of host names",
    matters="a collector that is named by host name gets nothing from a device that cannot look "
    "it up",
    meets="resolver: where-needed  ←  a collector by host name, and a resolver",
    breaks="resolver: where-needed  ←  a collector by host name, and no resolver",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
)
