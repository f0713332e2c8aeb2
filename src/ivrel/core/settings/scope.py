"""The scope of a judgement: one configuration, its device, and the collectors it is held
against.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any, TypeVar

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.policy.collector import Collector
from ivrel.core.reading.records import Note, Records
from ivrel.core.reading.statements import Key
from ivrel.core.vocabulary.sourced import Row
from ivrel.core.vocabulary.values import Value

T = TypeVar("T")

DEVICE: Note = ("device", "")  # noted by whatever looks at the device itself


class Destination(Struct, frozen=True, gc=False):
    """A destination of a device, held against the collectors of the policy.

    `collector`: the one at its address; `right`: port and transport are that collector's, too.
    """

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
        """Return the lines that say these fields; the address's, if none does."""
        said = [self.row.get(f"destination.{field}") for field in (*fields, "address")]
        found = [line for s in said[: len(fields)] if s for line in s.lines]
        address = said[-1]
        return tuple(sorted(set(found or (address.lines if address else ()))))


class Scope:
    """One configuration, its device, and the collectors that it is judged against.

    `wanted`: the collectors that are asked for; None if the policy asks for none by name;
    `forbidden`: those that must not be sent to.
    """

    __slots__ = ("_by_host", "_device", "_memo", "collectors", "forbidden", "records", "wanted")

    def __init__(
        self,
        device: Device | None,
        records: Records,
        collectors: Mapping[str, Collector],
        wanted: tuple[str, ...] | None = None,
        forbidden: frozenset[str] = frozenset(),
    ) -> None:
        self._device = device
        self.records = records
        self.collectors = collectors
        self.wanted = wanted
        self.forbidden = forbidden
        self._by_host: dict[object, list[Collector]] = {}
        self._memo: dict[tuple[object, ...], tuple[Any, set[Note]]] = {}

    def on(self, records: Records) -> Scope:
        """Return the same scope over other records."""
        out = Scope(self._device, records, self.collectors, self.wanted, self.forbidden)
        out._by_host = self._by_host
        return out

    @property
    def device(self) -> Device | None:
        """The device itself; what looks at it depends on more than the text."""
        if self.records.notes is not None:
            self.records.notes.seen.add(DEVICE)
        return self._device

    def once(self, compute: Callable[[], T], *name: object) -> T:
        """Return the result of `compute`, which is called once for a name; the name must stand for
        all its dependencies.

        Whoever asks again depends on all that was looked at then, and so notes it, too.
        """
        notes = self.records.notes
        found = self._memo.get(name)
        if notes is None:
            if found is None:
                found = self._memo[name] = compute(), set()
        else:
            outer = notes.seen
            if found is None:
                # What this one value hangs on is noted apart, so that whoever asks later notes the
                # same.
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
            # Two destinations at one address are distinguished by the rest of the endpoint.
            elif times[where] > 1:
                label = f"{where} {transport} {port}"
            else:
                label = str(where)
            endpoint = (_one(where), _one(port), _one(transport))
            collector, right = self._collector_at(endpoint)
            out.append(Destination(key, row, label, endpoint, collector, right))
        # By name, not by place: what a text says is the same wherever in it a destination stands.
        return sorted(out, key=lambda d: d.label)

    def _collector_at(
        self, endpoint: tuple[Value | None, Value | None, Value | None]
    ) -> tuple[str | None, bool]:
        """Return the collector at an address, and whether port and transport are its own."""
        if not self._by_host:
            for c in self.collectors.values():
                for host in dict.fromkeys((c.address, *c.names)):
                    self._by_host.setdefault(host, []).append(c)
        at = self._by_host.get(endpoint[0], [])
        exact = [c.name for c in at if c.endpoint[1:] == endpoint[1:]]
        meant = exact or [c.name for c in at]
        # Where two collectors share an address, the one that is asked for is meant.
        meant.sort(key=lambda name: self.wanted is not None and name not in self.wanted)
        return (meant[0] if meant else None), bool(exact)

    @property
    def serving(self) -> dict[str, Destination]:
        """The destination that serves each collector asked for: the right one, if there is one."""
        out: dict[str, Destination] = {}
        for d in sorted(self.destinations, key=lambda d: not d.right):
            if d.collector is not None and (self.wanted is None or d.collector in self.wanted):
                out.setdefault(d.collector, d)
        return out

    @property
    def judged(self) -> list[Destination]:
        """The destinations whose other settings matter: all, or those that serve what is asked
        for.
        """
        return self.once(self._find_judged, "judged")

    def _find_judged(self) -> list[Destination]:
        if self.wanted is None:
            return self.destinations
        serving = {d.key for d in self.serving.values()}
        return [d for d in self.destinations if d.key in serving]

    def beyond(self, every: bool) -> bool:
        """Whether, if `every` destination matters, that is more than those judged."""
        return every and len(self.judged) < len(self.destinations)

    def feeds(self, destinations: Sequence[Destination]) -> list[str]:
        """Return the feeds that give to any of these destinations, by name."""
        giving = self.once(self._giving, "giving")
        refs = {d.ref for d in destinations}
        return sorted({feed for ref in refs for feed in giving.get(ref, ())})

    def _giving(self) -> dict[Value, list[str]]:
        """Return the feeds that give to each destination."""
        out: dict[Value, list[str]] = {}
        for row in self.records.rows("give").values():
            ref = self.records.get("give.destination", row).value
            if isinstance(ref, str | int):
                out.setdefault(ref, []).append(str(self.records.get("give.feed", row).value))
        return out


def _one(value: object) -> Value | None:
    return value if isinstance(value, str | int) else None
