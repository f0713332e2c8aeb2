"""What a setting is, and what its file can use: the scope of a judgement, facts, findings, obstacles."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any, Literal, TypeVar

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.matching import Key
from ivrel.core.dialects.records import Note, Records
from ivrel.core.dialects.said import Row, Said
from ivrel.core.dialects.slots import Value, slot_of
from ivrel.core.fleet import Device
from ivrel.core.form import Node, Report
from ivrel.core.settings.need import Need

T = TypeVar("T")

DEVICE: Note = ("device", "")  # noted by whatever looks at the device itself

Needs = Mapping[str, Any]  # part of a setting ('' if it has none) to Need or SetNeed


class Collector(Struct, frozen=True):
    """A collector of the policy; messages are expected at this address, port and transport."""

    name: str
    address: str
    port: int = 514
    transport: str = "udp"
    format: str | None = None
    site: str | None = None
    path: str | None = None
    names: tuple[str, ...] = ()
    certificate: tuple[str, ...] = ()
    forwards: tuple[str, ...] = ()
    reaches: frozenset[str] = frozenset()
    line: int = 0

    @property
    def endpoint(self) -> tuple[str, int, str]:
        return self.address, self.port, self.transport

    @property
    def certified(self) -> tuple[str, ...]:
        """The names that its certificate may bear, the one to ask for first."""
        return (*self.certificate, *self.names)

    def is_at(self, host: object) -> bool:
        """Whether a host is this collector, by its address or by one of its names."""
        return host == self.address or host in self.names


class Fact(Struct, frozen=True, gc=False):
    """One thing that a configuration says about a setting; `key`: of which destination, or which part."""

    setting: str
    key: str
    value: str
    lines: tuple[int, ...]
    default: bool
    note: str = ""


class Finding(Struct, frozen=True, gc=False):
    """Why a setting is not as asked, and the lines that decide it.

    `about`: what it is about, whatever its words are: a destination, a feed, a part; '' is the device as a whole.
    """

    why: str
    lines: tuple[int, ...] = ()
    verdict: Literal["breaks", "unknown", "unable"] = "breaks"
    about: str = ""


class Obstacle(Struct, frozen=True):
    """Why a correction cannot be written; `unable`: the platform cannot express it.

    `about`: what cannot be corrected, as in the finding of it; '' is all that the setting finds.
    """

    why: str
    unable: bool = False
    about: str = ""


class Destination(Struct, frozen=True, gc=False):
    """A destination of a device, held against the collectors of the policy."""

    key: Key
    row: Row
    label: str
    endpoint: tuple[Value | None, Value | None, Value | None]
    collector: str | None
    right: bool

    @property
    def text(self) -> str:
        """Address, transport and port."""
        address, port, transport = self.endpoint
        return f"{address or 'no address'} {transport or 'no transport'} {port or 'no port'}"

    @property
    def ref(self) -> Value:
        """What other rows call it by."""
        return self.key[0]

    @property
    def title(self) -> str:
        """What people call it: its own name, or that of the collector at its address."""
        named = "destination.name" in self.row and not self.label.isdigit()
        return self.label if named else self.collector or self.label

    def lines(self, *fields: str) -> tuple[int, ...]:
        """The lines that say these fields; the address's, if none does."""
        said = [self.row.get(f"destination.{field}") for field in (*fields, "address")]
        found = [line for s in said[: len(fields)] if s for line in s.lines]
        address = said[-1]
        return tuple(sorted(set(found or (address.lines if address else ()))))


class Scope:
    """One configuration, its device, and the collectors that it is judged against."""

    __slots__ = ("_device", "_memo", "collectors", "records", "wanted")

    def __init__(
        self,
        device: Device | None,
        records: Records,
        collectors: Mapping[str, Collector],
        wanted: tuple[str, ...] | None = None,
    ) -> None:
        self._device, self.records, self.collectors = device, records, collectors
        self.wanted = wanted
        self._memo: dict[tuple[object, ...], tuple[Any, set[Note]]] = {}

    def on(self, records: Records) -> Scope:
        """The same scope over other records."""
        return Scope(self._device, records, self.collectors, self.wanted)

    @property
    def device(self) -> Device | None:
        """The device itself; what looks at it hangs on more than the text."""
        if self.records.notes is not None:
            self.records.notes.seen.add(DEVICE)
        return self._device

    def once(self, compute: Callable[[], T], *name: object) -> T:
        """What `compute` gives, worked out once for a name, which must stand for all that it hangs on.

        Whoever asks again hangs on all that was looked at then, and so notes it, too.
        """
        notes, found = self.records.notes, self._memo.get(name)
        if notes is None:
            if found is None:
                found = self._memo[name] = compute(), set()
        else:
            outer = notes.seen
            if found is None:
                notes.seen = set()
                value = compute()
                found = self._memo[name] = value, notes.seen
            notes.seen = outer | found[1]
        result: T = found[0]
        return result

    @property
    def destinations(self) -> list[Destination]:
        """All destinations of the device, by name."""
        return self.once(self._find, "destinations")

    def _find(self) -> list[Destination]:
        records = self.records
        rows = records.rows("destination")
        addresses = [records.get("destination.address", row).value for row in rows.values()]
        times = Counter(addresses)
        out = []
        for (key, row), where in zip(rows.items(), addresses, strict=True):
            port = records.get("destination.port", row).value
            transport = records.get("destination.transport", row).value
            named = row.get("destination.name")
            if named is not None:
                label = str(named.value)
            elif times[where] > 1:
                label = f"{where} {transport} {port}"
            else:
                label = str(where)
            endpoint = (_one(where), _one(port), _one(transport))
            at = _at(self, where)
            exact = [c.name for c in at if c.endpoint[1:] == endpoint[1:]]
            near = exact or [c.name for c in at]
            # Where two collectors share an address, the one that is asked for is meant.
            near.sort(key=lambda name: self.wanted is not None and name not in self.wanted)
            out.append(Destination(key, row, label, endpoint, near[0] if near else None, bool(exact)))
        # By name, not by place: what a text says is the same wherever in it a destination stands.
        return sorted(out, key=lambda d: d.label)

    @property
    def serving(self) -> dict[str, Destination]:
        """The destination that serves each collector that is asked for: the right one, if there is one."""
        out: dict[str, Destination] = {}
        for d in sorted(self.destinations, key=lambda d: not d.right):
            if d.collector is not None and (self.wanted is None or d.collector in self.wanted):
                out.setdefault(d.collector, d)
        return out

    @property
    def judged(self) -> list[Destination]:
        """The destinations whose other settings matter: all, or those that serve what is asked for."""
        return self.once(self._find_judged, "judged")

    def _find_judged(self) -> list[Destination]:
        if self.wanted is None:
            return self.destinations
        serving = {d.key for d in self.serving.values()}
        return [d for d in self.destinations if d.key in serving]

    def beyond(self, every: bool) -> bool:
        """Whether, if `every` destination matters, that is more than those judged."""
        return every and len(self.judged) < len(self.destinations)

    def places(self, field: str, every: bool = False) -> list[Place]:
        """Where a value stands: once for the device, or for each destination, or for each feed in use."""
        every = self.beyond(every)
        return self.once(lambda: list(self._each_place(field, every)), "places", field, every)

    def _each_place(self, field: str, every: bool) -> Iterator[Place]:
        records = self.records
        stands = _stands(records.dialect, field)
        if stands is None:
            return
        table, slot = stands
        if table == "":
            said = records.get(slot)
            if said.value is not None or records.dialect.has(slot):
                yield Place("", "", (), slot, said)
        elif table == "feed":
            for name in self.feeds(self.destinations if every else self.judged):
                row = records.rows("feed").get((name,), {})
                yield Place(name, "feed", (name,), slot, records.get(slot, row), name)
        else:
            wide = slot_of(field, "")
            for d in self.destinations if every else self.judged:
                if not records.takes_effect(slot, d.row):
                    continue
                said = records.get(slot, d.row)
                if said.default and wide is not None and not records.get(wide).default:
                    said = records.get(wide)
                yield Place(d.label, "destination", d.key, slot, said, d.title)

    def feeds(self, destinations: Sequence[Destination]) -> list[str]:
        """The feeds that give to any of these destinations, by name."""
        refs = {d.ref for d in destinations}
        giving = self.once(self._giving, "giving")
        return sorted({feed for ref in refs for feed in giving.get(ref, ())})

    def _giving(self) -> dict[Value, list[str]]:
        """The feeds that give to each destination."""
        out: dict[Value, list[str]] = {}
        for row in self.records.rows("give").values():
            ref = self.records.get("give.destination", row).value
            if isinstance(ref, str | int):
                out.setdefault(ref, []).append(str(self.records.get("give.feed", row).value))
        return out


def _at(scope: Scope, host: object) -> list[Collector]:
    """The collectors of the policy at a host."""
    return scope.once(lambda: _by_host(scope), "hosts").get(host, [])


def _by_host(scope: Scope) -> dict[object, list[Collector]]:
    out: dict[object, list[Collector]] = {}
    for c in scope.collectors.values():
        for host in dict.fromkeys((c.address, *c.names)):
            out.setdefault(host, []).append(c)
    return out


PLACES = ("destination", "feed", "")  # the tables in which a value may stand, the narrowest first


@lru_cache(maxsize=1024)
def _stands(dialect: Dialect, field: str) -> tuple[str, str] | None:
    """The table and the slot by which a platform says a field, or has a default for it; None if it has neither."""
    slots = [(table, slot) for table in PLACES if (slot := slot_of(field, table)) is not None]
    said = [one for one in slots if dialect.has(one[1])]
    known = [one for one in slots[::-1] if one[1] in dialect.defaults]
    return next(iter(said or known), None)


def can_say(dialect: Dialect, field: str) -> bool:
    """Whether a platform has a statement for a field anywhere."""
    return any(slot is not None and dialect.has(slot) for slot in (slot_of(field, table) for table in PLACES))


def silent_on(dialect: Dialect, what: str, about: str = "") -> Finding:
    """What to say of a setting or a part of it that a dialect describes nowhere: it is not known to be as asked."""
    return Finding(f"{dialect.name} has no statement for {what}", (), "unable", about)


class Place(Struct, frozen=True, gc=False):
    """One place where a value is said: of the whole device (label '') or of one destination."""

    label: str
    table: str
    key: Key
    slot: str
    said: Said
    title: str = ""

    @property
    def prefix(self) -> str:
        return f"{self.title}: " if self.title else ""


class Asked(Struct, frozen=True):
    """What is asked of devices alike, setting by setting, and where they stand if that is known."""

    needs: Mapping[str, Needs]
    collectors: Mapping[str, Collector]
    site: str | None = None
    dialect: Dialect | None = None

    @property
    def wanted(self) -> list[Collector]:
        """The collectors that must be sent to."""
        need = self.needs.get("collectors", {}).get("")
        return [c for name in (need.wanted if need else ()) if (c := self.collectors.get(name))]

    def passed_on(self, name: str, fits: Callable[[Collector], bool]) -> bool:
        """Whether a relay that fits forwards to a collector, so that nothing need be sent to it directly."""
        return any(name in c.reaches and fits(c) for c in self.collectors.values())


class Clash(Struct, frozen=True):
    """Why a requirement cannot be wanted together with that of another setting."""

    setting: str
    why: str


def no_clashes(asked: Asked) -> Iterator[Clash]:
    """For settings that can be asked for whatever else is."""
    return iter(())


Judge = Callable[[Scope, Needs], list[Finding]]
Mend = Callable[[Scope, Needs], tuple[Records, list[Obstacle]]]


def say_facts(facts: list[Fact]) -> str:
    """What a configuration says about a setting, in few words: one value, or one for each destination."""
    values = dict.fromkeys(f.value for f in facts)
    if len(values) < 2:
        return next(iter(values), "nothing")
    return "; ".join(f"{f.key}: {f.value}" for f in facts)


class Setting(Struct, frozen=True):
    """One setting: everything about it, in one file of this package.

    `ask` reads what a policy asks for; `facts` tells what a configuration says; `judge` finds what is not
    as asked; `mend` changes the records so that it is, with an obstacle for what cannot be; `say` puts the
    facts in few words; `reads`: the settings that the judgement looks at besides its own;
    `clashes` finds what else is asked and cannot be had with it.
    """

    name: str
    kind: str
    meaning: str
    matters: str
    meets: str
    breaks: str
    ask: Callable[[Node, Report, Mapping[str, Collector]], Needs | None]
    facts: Callable[[Scope], list[Fact]]
    judge: Judge
    mend: Mend
    say: Callable[[list[Fact]], str] = say_facts
    clashes: Callable[[Asked], Iterator[Clash]] = no_clashes
    reads: tuple[str, ...] = ("collectors",)


def about_of(label: str, part: str) -> str:
    """What a finding is about: a part of what is said in one place."""
    return f"{label} {part}".strip()


def need_of(needs: Needs, label: str) -> Any:
    """What is asked of one destination: of it alone, if that is said, else of all."""
    return needs.get(label, needs[""])


def no_destination(scope: Scope) -> list[Finding]:
    """What to say of a setting of destinations where there is none to judge."""
    return [Finding("no collector that is asked for is set, so there is nothing to judge", (), "unknown")]


def default_note(said: Said, dialect: str) -> str:
    """What tells the reader that a value is the platform's own."""
    return f", the default of {dialect}" if said.default else ""


def mend_value(records: Records, place: Place, need: Need, part: str = "") -> tuple[Records, list[Obstacle]]:
    """Writes at its place what is asked for, if it is not there; or says why not."""
    about = about_of(place.label, part)
    if need.accepts(str(place.said.value)):
        return records, []
    dialect = records.dialect
    value = need.choose(lambda v: dialect.can_write(place.slot, v))
    if value is not None:
        return records.having(place.table, place.key, place.slot, value), []
    if need.choose(lambda v: True) is None:
        return records, [no_choice(place.prefix, about)]
    if place.slot in dialect.only_read or not dialect.has(place.slot):
        return records, [Obstacle(f"{place.prefix}{dialect.name} cannot say {need.text}", True, about)]
    choices = dialect.choices(place.slot)
    can = f"; it can say {', '.join(choices)}" if choices else ""
    return records, [Obstacle(f"{place.prefix}{dialect.name} cannot say {need.text}{can}", True, about)]


def no_choice(prefix: str = "", about: str = "") -> Obstacle:
    """The obstacle where many values would do and the policy names none."""
    return Obstacle(f"{prefix}the policy does not say what to write; add `write:` to it", about=about)


def _one(value: object) -> Value | None:
    return value if isinstance(value, str | int) else None
