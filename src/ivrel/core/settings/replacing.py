"""Replacing destinations: those that should be come in the place of those that must go.

What leaves for one that goes leaves for its heir, so that a device never falls silent on the way.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Needs, SetNeed
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Key
from ivrel.core.settings.certificates import lacking_for_tls
from ivrel.core.settings.contract import Finding, Obstacle
from ivrel.core.settings.naming import are_numbered, free_name
from ivrel.core.settings.scope import Destination, Scope
from ivrel.core.settings.sending import lacking, reached
from ivrel.core.vocabulary.values import TRANSPORTS, Value

_OF_LACKING = ("destination.lacks", "destination.selection")
_OF_ENDPOINT = tuple(
    f"destination.{field}"
    for field in ("name", "address", "port", "transport", "verify", "peer", "lacks")
)


def to_go(scope: Scope, need: SetNeed, *, idle: bool = False) -> list[tuple[Destination, Finding]]:
    """Return the destinations that must go, and why.

    `idle`: also strangers that nothing leaves for.
    """
    serving = scope.serving
    gone = []
    for d in scope.destinations:
        name = f"{d.label} ({d.text})" if "destination.name" in d.row else d.label
        kind = ""
        if d.collector is None:
            if need.exactly is not None and (idle or not lacking(scope, d)):
                kind = "stranger"
        elif d.collector not in need.wanted:
            if d.right and scope.collectors[d.collector].reaches & set(need.wanted):
                continue  # a relay on the way to one that is asked for
            if need.exactly is not None or d.collector in need.never:
                kind = "not-asked-for"
        # Of several destinations of a collector, the one that serves it best stays.
        elif serving[d.collector] is not d:
            kind = "twice"
        if kind:
            about = f"destination {d.text}"
            found = d.collector or d.text
            gone.append((d, Finding(kind, about, name, found, lines=d.lines())))
    return gone


def relayed(scope: Scope, name: str) -> bool:
    """Whether a relay that the device sends to forwards to a collector."""
    return any(
        d.right and d.collector and name in scope.collectors[d.collector].reaches
        for d in scope.destinations
    )


def on_the_way(scope: Scope, need: SetNeed) -> list[Collector]:
    """Return whom the device itself sends to for what is asked: collectors, or relays in
    between.
    """
    right = [scope.collectors[d.collector] for d in scope.destinations if d.right and d.collector]
    return [c for c in right if c.name in need.wanted or c.reaches & set(need.wanted)]


def together(what: str, collectors: Sequence[Collector]) -> str:
    """Return why collectors are not separated by site or by path; '' if they do.

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
    return f"{where} {next(iter(shared), 'no site that the policy knows')}"


def cannot_send(dialect: Dialect, c: Collector) -> Obstacle | None:
    """Return why a platform can never send to a collector; None if it can."""
    said = (("address", c.address), ("port", c.port), ("transport", c.transport))
    cannot = [
        f"{f} {value}" for f, value in said if not dialect.can_write(f"destination.{f}", value)
    ]
    if not cannot:
        return None
    more = (("platform", dialect.name), ("what", " and ".join(cannot)))
    return Obstacle("cannot-send", c.name, c.name, more=more, unable=True)


def cannot_hold(scope: Scope, need: SetNeed) -> Obstacle | None:
    """Return why a platform has no room for all collectors that are asked for; None if it has."""
    dialect = scope.records.dialect
    serves = scope.serving
    missing = [
        name
        for name in need.wanted
        if name not in serves
        and not relayed(scope, name)
        and cannot_send(dialect, scope.collectors[name]) is None
    ]
    there = scope.records.rows("destination")
    leaving = len(to_go(scope, need))
    needed = len(there) - leaving + len(missing)
    most = dialect.limits.get("destination")
    if most is not None and needed > most:
        return _full(dialect, needed)
    # Names may be few, such as the numbers from 1 to 4: one that goes gives its name back.
    if missing and not leaving and "destination.name" in dialect.keys["destination"]:
        taken = {key[0] for key in there}
        if free_name(taken, missing[0], lambda n: dialect.can_write("destination.name", n)) is None:
            return _no_name(dialect, missing[0])
    return None


def _full(dialect: Dialect, needed: int) -> Obstacle:
    most = dialect.limits["destination"]
    more = (("platform", dialect.name), ("most", str(most)), ("needed", str(needed)))
    return Obstacle("full", more=more, unable=True)


def _no_name(dialect: Dialect, name: str) -> Obstacle:
    return Obstacle("no-name", name, name, more=(("platform", dialect.name),), unable=True)


def replaced(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Return the records with the destinations that are asked for, and what is in the way."""
    need: SetNeed = needs[""]
    if not scope.records.dialect.has("destination.address"):
        return scope.records, []
    return _Replacing(scope, need).done()


class _Replacing:
    """One replacement of destinations, on its way."""

    def __init__(self, scope: Scope, need: SetNeed) -> None:
        self.scope = scope
        self.need = need
        self.records = scope.records
        self.dialect = scope.records.dialect
        self.serves = scope.serving
        self.obstacles: list[Obstacle] = []
        self.heirs: list[tuple[Value, Value]] = []
        # Once anything changes, what was never sent to might be.
        changes = any(self._is_wanting(name) for name in need.wanted) or bool(to_go(scope, need))
        self.gone = [d for d, _ in to_go(scope, need, idle=changes)]
        # Those that go and have no heir yet, first such as something really leaves for.
        self.leaving = sorted(
            self.gone, key=lambda d: (not reached(scope, d), d.endpoint[0] is None)
        )

    def _is_wanting(self, name: str) -> bool:
        """Whether nothing that is right serves a collector that is asked for."""
        told = self.serves.get(name)
        if told is None:
            return not relayed(self.scope, name)
        return not told.right or bool(lacking(self.scope, told))

    def done(self) -> tuple[Records, list[Obstacle]]:
        """Return the records, and what could not be done."""
        for name in self.need.wanted:
            if self._is_wanting(name):
                self._bring(name)
        self._hand_over()
        self.records = _pointed_anew(self.records, self.heirs)
        for d in self.gone:
            self.records = self.records.without("destination", d.key)
        now = self.scope.on(self.records)
        for what in () if self.obstacles else self.need.apart:
            if together(what, on_the_way(now, self.need)):
                self.obstacles.append(Obstacle("one-only", f"apart {what}", more=(("what", what),)))
        if self.obstacles and not any(d.right for d in now.serving.values()):
            return self.scope.records, self.obstacles  # taking all away would leave nothing
        most = self.dialect.limits.get("destination")
        needed = len(self.records.rows("destination"))
        if most is not None and needed > most:
            return self.scope.records, [_full(self.dialect, needed)]
        return self.records, self.obstacles

    def _bring(self, name: str) -> None:
        """Set the destination of one collector: again, or where something serves it already."""
        scope = self.scope
        dialect = self.dialect
        c = self.scope.collectors[name]
        old = self.serves.get(name)
        if old is not None and old.endpoint[2] not in (None, *TRANSPORTS):
            return  # what a policy cannot ask for is left as it is
        cannot = cannot_send(dialect, c)
        if cannot is None and c.transport == "tls" and (lack := lacking_for_tls(scope, c)):
            cannot = Obstacle("tls", name, name, more=(("lack", lack),))
        if cannot is not None:
            self.obstacles.append(cannot)
            return
        values: dict[str, str | int] = {
            "destination.address": c.address,
            "destination.port": c.port,
            "destination.transport": c.transport,
        }
        if c.transport == "tls" and dialect.has("destination.peer"):
            values |= {"destination.verify": "on", "destination.peer": c.certified[0]}
        # A row that is new gets the name that the policy has for the collector, if it is free.
        fresh = name
        if old is None and "destination.name" in dialect.keys["destination"]:
            free = self._free_name(name)
            if free is None and self.gone:
                # All names are taken: one that would go is turned to the collector instead.
                old = self.gone.pop()
                # What left for it may have been handed over to another collector already.
                if old in self.leaving:
                    self.leaving.remove(old)
            elif free is None:
                self.obstacles.append(_no_name(dialect, name))
                return
            fresh = free or name
        before = self.records.rows("destination")
        self.records = _written(self.records, old, fresh, values)
        heir = next((k for k in self.records.rows("destination") if k not in before), None)
        if old is None and self.leaving and heir:
            # What left for the one that goes leaves for the one that comes in its place.
            self._inherit(self.leaving.pop(0), heir)

    def _free_name(self, name: str) -> str | None:
        taken = {
            key[0]
            for rows in (self.scope.records, self.records)
            for key in rows.rows("destination")
        }
        return free_name(
            taken,
            name,
            lambda n: self.dialect.can_write("destination.name", n),
            numbered=are_numbered(self.dialect, taken),
        )

    def _inherit(self, old: Destination, heir: Key) -> None:
        self.records = _inherited(self.records, old, heir)
        self.heirs.append((old.ref, heir[0]))

    def _hand_over(self) -> None:
        """Let what left for one that goes leave for one that stays, if nothing leaves for that."""
        now = self.scope.on(self.records)
        going = {d.key for d in self.gone}
        serving = now.serving
        for d in self.leaving:
            staying = [
                s
                for name, s in serving.items()
                if d.collector in (name, None) or d.collector not in serving
            ]
            idle = [s for s in staying if s.key not in going and not reached(now, s)]
            # Nothing is lost if nothing left for it, or if something leaves for all that stay.
            if not idle or not reached(self.scope, d):
                continue
            if not any(to == idle[0].ref for _, to in self.heirs):
                self._inherit(d, idle[0].key)


def _written(
    records: Records, old: Destination | None, name: str, values: Mapping[str, str | int]
) -> Records:
    """Set a destination's endpoint.

    Where the endpoint is what tells rows apart, the row is made again.
    """
    keys = records.dialect.keys["destination"]
    row = (
        {}
        if old is None
        else {slot: said.value for slot, said in old.row.items() if not said.default}
    )
    if "destination.lacks" in row:
        # What it gets, and in which form, is reported when nothing is lacking any more.
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
        if isinstance(value, str | int) and (
            records.get(slot, {} if old is None else old.row).value != value
        ):
            records = records.having("destination", key, slot, value)
    return records


def _inherited(records: Records, old: Destination, heir: Key) -> Records:
    """Return the records after a destination sends as much as the one before it did."""
    slots: tuple[str, ...] = ("destination.level", "destination.selection", "destination.surely")
    if records.dialect.shape.DERIVED:
        # There the action itself goes on, with all that it says besides.
        only_read = records.dialect.only_read
        slots += tuple(
            slot for slot in old.row if slot not in _OF_ENDPOINT and slot not in only_read
        )
    for slot in slots:
        said = old.row.get(slot)
        if said is not None and not said.default and isinstance(said.value, str | int):
            records = records.having("destination", heir, slot, said.value)
    return records


def _pointed_anew(records: Records, heirs: Sequence[tuple[Value, Value]]) -> Records:
    """Return the records after another destination takes over all picks and feeds of one."""
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
            # The destination is part of what tells the row apart: it is made again under its new
            # key.
            fresh = tuple(
                to[old] if name == slot else value for name, value in zip(keys, key, strict=True)
            )
            for name, said in row.items():
                if name != slot and not said.default and isinstance(said.value, str | int):
                    records = records.having(table, fresh, name, said.value)
            records = records.having(table, fresh, slot, to[old]).without(table, key)
    return records
