"""collectors: the device sends to exactly the collectors that it should, each at the right endpoint."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from ivrel.core.dialects.matching import Key
from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import TRANSPORTS, Value
from ivrel.core.form import Node, Report
from ivrel.core.mistakes import not_one_of
from ivrel.core.settings.base import (
    Asked,
    Clash,
    Collector,
    Destination,
    Fact,
    Finding,
    Needs,
    Obstacle,
    Scope,
    Setting,
    silent_on,
)
from ivrel.core.settings.certificates import lacking_for_tls
from ivrel.core.settings.need import SITE, SetNeed, read_set_need
from ivrel.core.settings.sending import lacking, reached

APART = ("site", "path")
_OF_LACKING = ("destination.lacks", "destination.selection")
_OF_ENDPOINT = tuple(
    f"destination.{field}" for field in ("name", "address", "port", "transport", "verify", "peer", "lacks")
)
_FIELDS = ("address", "port", "transport")


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    def known(name: str) -> str:
        if name != SITE and name not in collectors:
            raise ValueError(f"collector {not_one_of(name, collectors)}")
        return name

    need = read_set_need(node, report, known, apart=APART)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    """One fact a destination; its endpoint is the text's even where port and transport are defaults."""
    return [
        Fact("collectors", d.label, d.text, d.lines(*_FIELDS), False, d.collector if d.right and d.collector else "")
        for d in scope.destinations
    ]


def _to_go(scope: Scope, need: SetNeed, *, idle: bool = False) -> list[tuple[Destination, str]]:
    """The destinations that must go, and why; `idle`: also strangers that nothing is sent to."""
    serving = scope.serving
    gone = []
    for d in scope.destinations:
        name = f"{d.label} ({d.text})" if "destination.name" in d.row else d.label
        if d.collector is None:
            if need.exactly is not None and (idle or not lacking(scope, d)):
                gone.append((d, f"{name} is a stranger"))
        elif d.collector not in need.wanted:
            if d.right and scope.collectors[d.collector].reaches & set(need.wanted):
                continue  # a relay on the way to one that is asked for
            if need.exactly is not None or d.collector in need.never:
                gone.append((d, f"{name} is {d.collector}, which is not asked for here"))
        elif serving[d.collector] is not d:
            gone.append((d, f"{name} is {d.collector} once more"))
    return gone


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    need: SetNeed = needs[""]
    serves = scope.serving
    out = []
    if not scope.records.dialect.has("destination.address"):
        return [silent_on(scope.records.dialect, "destinations")]
    for name in need.wanted:
        c = scope.collectors[name]
        if name not in serves and _relayed(scope, name):
            continue
        if name not in serves:
            wanted = f"{c.address} {c.transport} {c.port}"
            others = tuple(line for d in scope.destinations for line in d.lines())
            out.append(Finding(f"{name} ({wanted}) is missing", others, about=name))
        elif not serves[name].right:
            d = serves[name]
            wrong = {
                field: f"{field} {found}, not {right}"
                for field, found, right in zip(_FIELDS, d.endpoint, c.endpoint, strict=True)
                if found != right and not (field == "address" and c.is_at(found))
            }
            if "transport" in wrong and d.endpoint[2] not in (None, *TRANSPORTS):
                why = f"{d.label} is sent to by {d.endpoint[2]}, which a policy cannot ask for"
                out.append(Finding(why, d.lines("transport"), "unable", name))
                continue
            unsaid = [field for field in wrong if d.endpoint[_FIELDS.index(field)] is None]
            if unsaid:
                which = f"{scope.records.dialect.name} says nowhere the {' and '.join(unsaid)} of {d.label}"
                out.append(Finding(f"{which}, and its dialect has no default", d.lines(), "unknown", name))
                continue
            why = f"{d.label} has the right address for {name}, but {' and '.join(wrong.values())}"
            out.append(Finding(why, d.lines(*wrong), about=name))
        elif why := lacking(scope, serves[name]):
            out.append(Finding(why, serves[name].lines("lacks"), about=name))
    if not out:
        together = ((what, _together(what, _on_the_way(scope, need))) for what in need.apart)
        out += [Finding(why, about=f"apart {what}") for what, why in together if why]
    return out + [Finding(why, d.lines(), about=f"destination {d.text}") for d, why in _to_go(scope, need)]


def _relayed(scope: Scope, name: str) -> bool:
    """Whether a relay that the device sends to forwards to a collector."""
    return any(d.right and d.collector and name in scope.collectors[d.collector].reaches for d in scope.destinations)


def _on_the_way(scope: Scope, need: SetNeed) -> list[Collector]:
    """Whom the device itself sends to for what is asked: collectors, or relays in between."""
    right = [scope.collectors[d.collector] for d in scope.destinations if d.right and d.collector]
    return [c for c in right if c.name in need.wanted or c.reaches & set(need.wanted)]


def _together(what: str, collectors: Sequence[Collector]) -> str:
    """Why collectors do not stand apart by site or by path; '' if they do.

    A path without a name of its own is that of the one collector or relay alone.
    """
    if what == "path":
        shared = {c.path or c.name for c in collectors}
        where = "everything goes by"
    else:
        shared = {c.site for c in collectors if c.site}
        where = "all collectors stand at"
    if len(shared) > 1:
        return ""
    return f"{where} {next(iter(shared), 'no site that the policy knows')}; one fault there silences the device"


def clashes(asked: Asked) -> Iterator[Clash]:
    need = asked.needs["collectors"][""]
    for other in ("level", "categories"):
        if need.exactly == () and other in asked.needs:
            yield Clash(other, "a device without collectors sends nothing")
    relays = [c for c in asked.collectors.values() if c.reaches & set(need.wanted)]
    for what in need.apart:
        if need.exactly is not None and (why := _together(what, [*asked.wanted, *relays])):
            yield Clash("collectors", f"apart by {what}, but {why}")


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    need: SetNeed = needs[""]
    records, dialect = scope.records, scope.records.dialect
    if not dialect.has("destination.address"):
        return records, []
    serves = scope.serving
    obstacles: list[Obstacle] = []
    # Once anything changes, what was never sent to might be.
    gone = [d for d, _ in _to_go(scope, need, idle=bool(judge(scope, needs)))]
    heirs: list[tuple[Value, Value]] = []
    # Those that go and have no heir yet, first such as something really leaves for.
    leaving = sorted(gone, key=lambda d: (not reached(scope, d), d.endpoint[0] is None))
    for name in need.wanted:
        c = scope.collectors[name]
        told = serves.get(name)
        if (told and told.right and not lacking(scope, told)) or (told is None and _relayed(scope, name)):
            continue
        if name in serves and serves[name].endpoint[2] not in (None, *TRANSPORTS):
            continue  # what a policy cannot ask for is left as it is
        values: dict[str, str | int] = {
            "destination.address": c.address,
            "destination.port": c.port,
            "destination.transport": c.transport,
        }
        cannot = [
            f"{slot.partition('.')[2]} {value}"
            for slot, value in values.items()
            if not dialect.can_write(slot, value)
        ]
        if cannot:
            obstacles.append(Obstacle(f"{name}: {dialect.name} cannot send by {' and '.join(cannot)}", True, name))
            continue
        if c.transport == "tls":
            lack = lacking_for_tls(scope, c)
            if lack:
                obstacles.append(Obstacle(f"{name}: {lack}", about=name))
                continue
            if dialect.has("destination.peer"):
                values |= {"destination.verify": "on", "destination.peer": c.certified[0]}
        old, fresh = serves.get(name), name
        if old is None and "destination.name" in dialect.keys["destination"]:
            taken = {key[0] for rows in (scope.records, records) for key in rows.rows("destination")}
            free = _free(taken, name, lambda n: dialect.can_write("destination.name", n))
            if free is None and gone:
                old = gone.pop()  # all names are taken: one that would go is turned to the collector instead
                leaving.remove(old)
            elif free is None:
                obstacles.append(Obstacle(f"{name}: {dialect.name} has no name left for it", True, name))
                continue
            fresh = free or name
        before = records
        records = _written(records, old, fresh, values)
        heir = next((k for k in records.rows("destination") if k not in before.rows("destination")), None)
        if old is None and leaving and heir:
            # What left for the one that goes leaves for the one that comes in its place.
            records = _inherited(records, leaving[0], heir)
            heirs.append((leaving.pop(0).ref, heir[0]))
    now = scope.on(records)
    going = {d.key for d in gone}
    for d in leaving:
        # Where nothing leaves for those that stay, what left for one that goes leaves for one of them.
        staying = [
            s for name, s in now.serving.items() if d.collector in (name, None) or d.collector not in now.serving
        ]
        idle = [s for s in staying if s.key not in going and not reached(now, s)]
        if idle and reached(scope, d) and not any(to == idle[0].ref for _, to in heirs):
            records = _inherited(records, d, idle[0].key)
            heirs.append((d.ref, idle[0].ref))
    records = _pointed_anew(records, heirs)
    for d in gone:
        records = records.without("destination", d.key)
    for what in need.apart:
        if not obstacles and _together(what, _on_the_way(scope.on(records), need)):
            obstacles.append(Obstacle(f"the policy asks for collectors of one {what} only", about=f"apart {what}"))
    if obstacles and not any(d.right for d in scope.on(records).serving.values()):
        return scope.records, obstacles  # to take away what there is would leave nothing
    most = dialect.limits.get("destination")
    if most is not None and len(records.rows("destination")) > most:
        full = f"{dialect.name} holds {most} destinations at most"
        return scope.records, [Obstacle(f"{full}, and {len(records.rows('destination'))} are needed", True)]
    return records, obstacles


def _written(records: Records, old: Destination | None, name: str, values: Mapping[str, str | int]) -> Records:
    """Sets a destination's endpoint; where the endpoint is what tells rows apart, the row is made anew."""
    keys = records.dialect.keys["destination"]
    row = {} if old is None else {slot: said.value for slot, said in old.row.items() if not said.default}
    if "destination.lacks" in row:
        # What it gets, and in which form, is told when nothing is lacking any more.
        row = {s: v for s, v in row.items() if s not in _OF_LACKING}
        if old is not None:
            for slot in _OF_LACKING:
                records = records.having("destination", old.key, slot, None)
    row |= values
    if "destination.name" in keys and old is None:
        row["destination.name"] = name
    key: Key = tuple(v for v in (row.get(slot) for slot in keys) if isinstance(v, str | int))
    if old is not None and key != old.key:
        records = records.without("destination", old.key)
        old = None
    for slot, value in row.items():
        if isinstance(value, str | int) and (records.get(slot, {} if old is None else old.row).value != value):
            records = records.having("destination", key, slot, value)
    return records


def _inherited(records: Records, old: Destination, heir: Key) -> Records:
    """The records in which a destination lets as much leave as the one before it did."""
    slots: tuple[str, ...] = ("destination.level", "destination.selection", "destination.surely")
    if records.dialect.grammar.DERIVED:
        # There the action itself goes on, with all that it says besides.
        only_read = records.dialect.only_read
        slots += tuple(slot for slot in old.row if slot not in _OF_ENDPOINT and slot not in only_read)
    for slot in slots:
        said = old.row.get(slot)
        if said is not None and not said.default and isinstance(said.value, str | int):
            records = records.having("destination", heir, slot, said.value)
    return records


def _pointed_anew(records: Records, heirs: Sequence[tuple[Value, Value]]) -> Records:
    """The records in which all picks and feeds of one destination are those of another."""
    to = dict(heirs)
    for table in ("pick", "give") if heirs else ():
        slot = f"{table}.destination"
        keys = records.dialect.keys.get(table, ())
        for key, row in records.rows(table).items():
            old = records.get(slot, row).value
            if not isinstance(old, str | int) or old not in to:
                continue
            if slot not in keys:
                records = records.having(table, key, slot, to[old])
                continue
            fresh = tuple(to[old] if name == slot else value for name, value in zip(keys, key, strict=True))
            for name, said in row.items():
                if name != slot and not said.default and isinstance(said.value, str | int):
                    records = records.having(table, fresh, name, said.value)
            records = records.having(table, fresh, slot, to[old]).without(table, key)
    return records


def _free(taken: set[Value], name: str, can: Callable[[str], bool]) -> str | None:
    """A name that no destination has or had, so that a new one is not mixed up with one that goes."""
    numbers = [str(n) for n in range(1, len(taken) + 3)]
    names = [name, *(f"{name}-{n}" for n in numbers[1:]), *numbers]
    return next((n for n in names if n not in taken and can(n)), None)


def say(facts: list[Fact]) -> str:
    return ", ".join(f.note or f.value for f in facts) or "none"


SETTING = Setting(
    name="collectors",
    kind="names of the policy's collectors",
    meaning="the collectors that the device sends to, each at the right address, port and transport",
    matters="a missing collector loses messages, a stranger gets them, a wrong port does both",
    meets="collectors: {exactly: [beacon-a]}  ←  one destination, at beacon-a's address, port and transport",
    breaks="collectors: {exactly: [beacon-a]}  ←  beacon-a's address at another port; or a second destination",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    say=say,
    clashes=clashes,
)
