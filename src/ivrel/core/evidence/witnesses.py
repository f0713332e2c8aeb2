"""Three witnesses of one device: its configuration, its own display, and what collectors got.

Where they agree, one can rely on them. Where they differ, the comparison names what each says, and
the line of the display. A display is of a moment: one that is older than the configuration proves
nothing of it.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from itertools import chain

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.evidence.between import NOT_COVERED, SLACK, CountsBetween, Number
from ivrel.core.evidence.claims import Claim, clock_time
from ivrel.core.evidence.page import BAD, DISPLAY, GOOD, NOTE, OPEN
from ivrel.core.policy.collector import Collector
from ivrel.core.reading.display import DisplayReading
from ivrel.core.settings import SETTINGS, Fact, Scope
from ivrel.core.settings.scope import Destination
from ivrel.core.settings.sending import described, picks_of, sendings
from ivrel.core.vocabulary.addresses import is_address
from ivrel.core.vocabulary.severity import NOTHING, SEVERITIES, Selection, least_urgent
from ivrel.core.vocabulary.sourced import Row
from ivrel.core.vocabulary.wording import counted

# Settings whose facts a display may show as the configuration does. Destinations and levels are
# compared by themselves.
_ALIKE = (
    "export", "facility", "format", "stamp", "source", "clock", "origin", "numbering", "changes",
    "logins", "rate", "delivery", "console", "sessions", "memory", "file",
)  # fmt: skip
COUNTERS = "counters"  # what a comparison of numbers is about


class Displayed(Struct, frozen=True):
    """One display of a device, and what it shows.

    `taken`: when, in seconds since 1970; `file`: where it is kept.
    """

    taken: float
    file: str
    reading: DisplayReading


class Comparison(Struct, frozen=True):
    """What the three witnesses say of one thing.

    `setting`: what it is about: a setting, 'counters' or 'display'; `of`: the destination, '' for
    the device; `text`, `device`, `collector`: what each says, '' if nothing; `state`: 'good' where
    they agree, 'bad' where they do not, 'open' where that is not sure; `said`: what follows from
    it; `where`: file and line of the display; `lost`: messages that the device counted as sent and
    that surely did not come.
    """

    setting: str
    of: str
    text: str
    device: str
    collector: str
    state: str
    said: str
    where: str = ""
    lost: int = 0


class MessagesGot(Struct, frozen=True):
    """What collectors got of a device: its claims by setting, and its messages between displays."""

    claims: Mapping[str, Claim] = {}
    counts: CountsBetween | None = None


NO_MESSAGES = MessagesGot()


def compared(
    text: Scope,
    displays: Sequence[Displayed],
    messages: MessagesGot = NO_MESSAGES,
    changed: float | None = None,
) -> tuple[Comparison, ...]:
    """Return what the three witnesses say of a device, thing by thing.

    `text`: its configuration; `displays`: what it showed, the oldest first, each more than twice
    `between.SLACK` after the one before; `changed`: when its configuration was written, in seconds
    since 1970.
    """
    if not displays:
        return ()
    return tuple(_Comparing(text, displays, messages, changed).lines())


class _Comparing:
    """The comparison of one device."""

    def __init__(
        self,
        text: Scope,
        displays: Sequence[Displayed],
        messages: MessagesGot,
        changed: float | None,
    ) -> None:
        self._text = text
        self._displays = displays
        self._last = displays[-1]
        self._messages = messages
        self._device = text.on(self._last.reading.records)
        self._is_older = changed is not None and self._last.taken + SLACK < changed
        reading = self._last.reading
        self._is_doubtful = bool(reading.doubtful or not reading.records.marks)
        self._is_off = text.records.get("export").value == "off"
        unread = (line.strange.slots for line in text.records.unparsed)
        self._unread = frozenset(chain.from_iterable(unread))

    def lines(self) -> Iterator[Comparison]:
        """Yield the comparisons: what is displayed, destinations, settings, numbers."""
        yield self._shown()
        pairs = self._pairs()
        yield from self._destinations(pairs)
        yield from self._levels(pairs)
        for name in _ALIKE:
            yield from self._facts(name, pairs)
        for pair in pairs:
            yield from self._state(pair.here)
            yield from self._numbers(pair.here)
        yield from self._totals()

    def _shown(self) -> Comparison:
        last = self._last
        doubtful = last.reading.doubtful
        said = f"shown at {clock_time(last.taken)} UTC"
        if self._is_older:
            said += ", before its configuration was written: ivrel gather --state"
        if not last.reading.records.marks:
            said += "; nothing in it is understood"
        if doubtful:
            lines = ", ".join(map(str, doubtful[:3])) + (" …" if len(doubtful) > 3 else "")
            said += f"; not understood: line {lines}"
        state = OPEN if self._is_doubtful or self._is_older else NOTE
        where = last.file + (f":{doubtful[0]}" if doubtful else "")
        return Comparison(DISPLAY, "", "", "", "", state, said, where)

    def _line(
        self, setting: str, of: str, says: tuple[str, str], said: str, lines: Sequence[int]
    ) -> Comparison:
        """Return a comparison of two that differ (`said` tells how), or agree (`said` is '')."""
        text, device = says
        state = BAD if said else GOOD
        if said and (self._is_older or self._is_unread(setting)):
            state = OPEN
        return Comparison(
            setting, of, text, device, self._heard(setting), state, said, self._where(lines)
        )

    def _where(self, lines: Sequence[int]) -> str:
        """Return the file of the last display, and the first of some lines of it."""
        return f"{self._last.file}:{lines[0]}" if lines else self._last.file

    def _is_unread(self, setting: str) -> bool:
        """Whether the configuration has lines about a setting that cannot be read."""
        known = SETTINGS.get(setting)
        return known is not None and not self._unread.isdisjoint(known.slots)

    def _heard(self, setting: str) -> str:
        claim = self._messages.claims.get(setting)
        return "" if claim is None else claim.heard

    def _pairs(self) -> list[_Pair]:
        """Return each destination of the display, and that of the configuration."""
        left = list(self._text.destinations)
        out: list[_Pair] = []
        for here in self._device.destinations:
            likely = [d for d in left if _is_same(here, d)]
            if likely:
                left.remove(likely[0])
            out.append(_Pair(here, likely[0] if likely else None, len(likely) > 1))
        return out

    def _destinations(self, pairs: Sequence[_Pair]) -> Iterator[Comparison]:
        if not self._device.records.dialect.has("destination.address"):
            return
        paired = {pair.there.key for pair in pairs if pair.there is not None}
        left = [d for d in self._text.destinations if d.key not in paired]
        for pair in pairs:
            shown = _endpoint(pair.here)
            lines = pair.here.lines("address")
            if pair.there is None:
                said = f"it sends to {shown}, and its configuration does not name it"
                found = self._line("collectors", pair.here.title, ("", shown), said, lines)
                # One of them may be the name of the other.
                is_open = any(_has_name(pair.here) != _has_name(d) for d in left)
                yield replace(found, state=OPEN) if is_open else found
            elif self._is_off:
                said = f"it sends to {shown}, although its configuration has export off"
                yield self._line("collectors", pair.there.title, ("off", shown), said, lines)
            else:
                says = (pair.there.text, shown)
                yield self._line("collectors", pair.there.title, says, "", lines)
        for there in left:
            if self._is_off or not any(sendings(self._text, there).values()):
                continue
            said = f"its configuration sends to {there.text}, and its display does not show it"
            found = self._line("collectors", there.title, (there.text, ""), said, ())
            alone = (pair.here for pair in pairs if pair.there is None)
            # A line that was not understood may be the one that shows it.
            is_open = self._is_doubtful or any(_has_name(d) != _has_name(there) for d in alone)
            yield replace(found, state=OPEN) if is_open else found

    def _levels(self, pairs: Sequence[_Pair]) -> Iterator[Comparison]:
        """Compare what leaves for each destination, as far as the display shows it."""
        dialect = self._device.records.dialect
        if not {"destination.level", "level", "pick.level", "pick.severity"} & dialect.slots:
            return
        has_picks = dialect.has("pick.destination")
        shown: list[int] = []
        for pair in () if self._is_off else pairs:
            here = pair.here
            there = pair.there
            sending = list(sendings(self._device, here).values())
            if there is None or pair.is_unsure or not self._shows_level(here):
                continue
            taken = _together(sending)
            configured = list(sendings(self._text, there).values())
            most = _together(configured)
            least = _together([one.sure for one in configured])
            shown.append(least_urgent(taken))
            if has_picks:
                is_same = least <= taken <= most
            else:
                is_same = least_urgent(least) <= least_urgent(taken) <= least_urgent(most)
            says = (", ".join(dict.fromkeys(map(described, configured))), taken.describe())
            said = f"its configuration says {says[0]}, and the device {says[1]}"
            lines = sending[0].lines
            yield self._line("level", there.title, says, "" if is_same else said, lines)
        if shown and len(shown) == len(pairs):
            severities = SEVERITIES[: max(shown) + 1]
            device = f"down to {severities[-1]}" if severities else "nothing"
            yield from self._heard_beyond("level", device, severities)

    def _shows_level(self, here: Destination) -> bool:
        """Whether the display shows what leaves for a destination."""
        records = self._device.records
        if records.dialect.has("pick.destination"):
            has_rest = records.get("pick.level").value is not None
            return has_rest or bool(picks_of(self._device, here))
        said = records.get("destination.level", here.row), records.get("level")
        return any(one.value is not None for one in said)

    def _facts(self, name: str, pairs: Sequence[_Pair]) -> Iterator[Comparison]:
        """Compare the facts of one setting, as far as the display shows them."""
        setting = SETTINGS[name]
        if not set(setting.slots) & self._device.records.dialect.slots:
            return
        shown = [f for f in setting.facts(self._device) if _is_told(f)]
        said = {(f.of, f.part): f for f in setting.facts(self._text) if f.value and not f.doubt}
        sure = [pair for pair in pairs if pair.there is not None and not pair.is_unsure]
        labels = {pair.here.label: pair.there.label for pair in sure if pair.there is not None}
        unsure = {pair.here.label for pair in pairs} - labels.keys()
        for fact in shown:
            there = said.get((labels.get(fact.of, fact.of), fact.part)) or said.get(("", fact.part))
            if there is None or fact.of in unsure:
                continue
            part = f"{fact.part} " if fact.part else ""
            says = (there.value, fact.value)
            differs = f"{part}{fact.value} on the device, {there.value} in its configuration"
            is_same = not _words(there).isdisjoint(_words(fact))
            of = labels.get(fact.of, fact.of)
            yield self._line(name, of, says, "" if is_same else differs, fact.lines)
        values = {f.value for f in shown if not f.part}
        if len(shown) >= max(len(pairs), 1) and name in ("facility", "format", "origin"):
            yield from self._heard_beyond(name, ", ".join(sorted(values)), values)

    def _heard_beyond(
        self, setting: str, device: str, shown: Collection[str]
    ) -> Iterator[Comparison]:
        """Report a value that came after the display, and that it excludes."""
        claim = self._messages.claims.get(setting)
        for value in claim.values if claim is not None else ():
            last = value.last.timestamp() if value.last is not None else 0.0
            if value.value not in shown and last > self._last.taken + SLACK:
                said = f"{value.value} came after the display, which shows {device}"
                heard = value.value
                yield Comparison(setting, "", "", device, heard, OPEN, said, self._last.file)
                return

    def _state(self, here: Destination) -> Iterator[Comparison]:
        """Tell whether a destination is reached, and what waits for it."""
        value = self._value(here.row, "destination.state")
        error = self._value(here.row, "destination.error")
        waiting = self._value(here.row, "destination.waiting")
        lines = here.lines("state", "error", "waiting")
        if value == "down":
            said = f"{here.title} is down" + (f": {error}" if error else "")
            yield self._line("collectors", here.title, ("", "down"), said, lines)
        elif value == "up":
            yield self._line("collectors", here.title, ("", "up"), "", lines)
        elif error:
            yield self._comparison(here, NOTE, f"its last error: {error}", lines)
        if waiting:
            said = f"{counted(int(waiting), 'message')} wait to be sent"
            yield self._comparison(here, OPEN, said, lines)

    def _comparison(
        self, here: Destination, state: str, said: str, lines: Sequence[int]
    ) -> Comparison:
        return Comparison(COUNTERS, here.title, "", said, "", state, said, self._where(lines))

    def _value(self, row: Row, slot: str) -> str:
        said = row.get(slot)
        return "" if said is None or said.value is None else str(said.value)

    def _numbers(self, here: Destination) -> Iterator[Comparison]:
        """Hold what a device counted for a destination against what came."""
        dropped = self._series(here, "destination.dropped")
        if dropped:
            more = dropped[-1][1] - dropped[0][1]
            lines = here.lines("dropped")
            if more > 0:
                begun = self._displays[dropped[0][0]].taken
                when = _between_times(begun, self._last.taken)
                said = f"it dropped {counted(more, 'message')} {when}"
                yield self._comparison(here, BAD, said, lines)
            elif dropped[-1][1]:
                said = f"it dropped {counted(dropped[-1][1], 'message')} since it counts"
                yield self._comparison(here, OPEN, said, lines)
        sent = self._series(here, "destination.sent")
        if not sent:
            return
        lines = here.lines("sent")
        if len(sent) < 2 or self._messages.counts is None:
            said = f"{counted(sent[-1][1], 'message')} sent since it counts"
            yield self._comparison(here, NOTE, said, lines)
            return
        yield self._held_against(here, sent)

    def _held_against(self, here: Destination, sent: Sequence[tuple[int, int]]) -> Comparison:
        """Hold the messages that a device counted as sent against those that came."""
        first, before = sent[0]
        last, after = sent[-1]
        counted_sent = after - before
        begun = self._displays[first].taken
        ended = self._displays[last].taken
        when = _between_times(begun, ended)
        lines = here.lines("sent")
        found = self._came(here, begun, ended)
        if isinstance(found, str):
            said = f"{counted(counted_sent, 'message')} sent {when}; {found}"
            state = NOTE if found == NOT_COVERED else OPEN
            return self._comparison(here, state, said, lines)
        came = found.number
        lost = max(counted_sent - came.most, 0)
        state = BAD
        said = _loss(counted_sent, came, when)
        if came.least <= counted_sent <= came.most:
            state = GOOD
        elif lost and found.may_be_late:
            state = OPEN
            said += ", unless they came later"
        elif counted_sent and not lost:
            state = OPEN  # it may have begun to count again
        return Comparison(
            setting=COUNTERS,
            of=here.title,
            text="",
            device=f"{counted_sent:,} sent",
            collector=f"{_between(came.least, came.most)} came",
            state=state,
            said=said,
            where=self._where(lines),
            lost=lost,
        )

    def _came(self, here: Destination, begun: float, ended: float) -> _Came | str:
        """Return how many messages came to a destination, or why that is not known."""
        counts = self._messages.counts
        device = self._text.device
        if counts is None or device is None or here.collector is None:
            return NOT_COVERED
        if any(c.address == device.identity for c in self._text.collectors.values()):
            return "it may count what it forwards for others, too"
        own = counts.lack(here.collector, begun, ended)
        if own != NOT_COVERED:
            number = counts.between(device.name, here.collector, begun, ended)
            # What waits in a stream that was interrupted comes later.
            return own or _Came(number, here.endpoint[2] != "udp")
        behind = _behind(self._text.collectors[here.collector])
        lacks = {c: counts.lack(c, begun, ended) for c in behind}
        covered = [c for c, lack in lacks.items() if not lack]
        if not covered:
            return next((lack for lack in lacks.values() if lack != NOT_COVERED), NOT_COVERED)
        # What a relay forwards to several collectors comes to each of them.
        some = [counts.between(device.name, c, begun, ended) for c in covered]
        return _Came(Number(max(n.least for n in some), max(n.most for n in some)), True)

    def _series(self, here: Destination, slot: str) -> list[tuple[int, int]]:
        """Return the values of a counter, by the number of the display: those of the last displays
        between which it did not begin again.
        """
        out: list[tuple[int, int]] = []
        for number in range(len(self._displays) - 1, -1, -1):
            scope = self._text.on(self._displays[number].reading.records)
            row = next((d.row for d in scope.destinations if d.key == here.key), None)
            said = row.get(slot) if row is not None else None
            if said is None or not isinstance(said.value, int):
                break
            if out and said.value > out[-1][1]:
                break
            out.append((number, said.value))
        return out[::-1]

    def _totals(self) -> Iterator[Comparison]:
        """Tell what the device counts for all destinations together, and what it holds."""
        records = self._device.records
        for slot, what in (
            ("counted.sent", "sent in all"),
            ("counted.dropped", "dropped in all"),
            ("memory.held", "in its memory"),
        ):
            said = records.get(slot) if records.dialect.has(slot) else None
            if said is not None and isinstance(said.value, int):
                state = OPEN if slot == "counted.dropped" and said.value else NOTE
                told = f"{counted(said.value, 'message')} {what}"
                yield Comparison(COUNTERS, "", "", told, "", state, told, self._where(said.lines))


class _Pair(Struct, frozen=True):
    """A destination of a display, and that of the configuration; `is_unsure`: it may be another."""

    here: Destination
    there: Destination | None
    is_unsure: bool


class _Came(Struct, frozen=True):
    """How many messages came; `may_be_late`: others may have come later."""

    number: Number
    may_be_late: bool


def _is_same(here: Destination, there: Destination) -> bool:
    """Whether a destination of a display is one of a configuration: by its endpoint, as far as both
    say it, or by its name.
    """
    if here.endpoint[0] is None:
        return here.label == there.label
    shown = zip(here.endpoint[1:], there.endpoint[1:], strict=True)
    is_way = all(one is None or other is None or one == other for one, other in shown)
    is_collector = here.collector is not None and here.collector == there.collector
    return is_way and (here.endpoint[0] == there.endpoint[0] or is_collector)


def _has_name(one: Destination) -> bool:
    """Whether a destination is named by a host name, whose address nobody knows here."""
    return not is_address(str(one.endpoint[0]))


def _words(fact: Fact) -> set[str]:
    """Return the value of a fact, and what else it is called: the addresses of an interface."""
    return {word for word in (fact.value, *fact.note.split(", ")) if word}


def _endpoint(one: Destination) -> str:
    address, port, transport = one.endpoint
    return " ".join(str(part) for part in (address, transport, port) if part is not None)


def _together(sending: Iterable[Selection]) -> Selection:
    out = NOTHING
    for one in sending:
        out |= Selection(one.bits)
    return out


def _is_told(fact: Fact) -> bool:
    """Whether a display really shows a fact."""
    return bool(fact.value and fact.lines) and not fact.default and not fact.doubt


def _behind(collector: Collector) -> tuple[str, ...]:
    """Return the collectors that a relay forwards to."""
    return tuple(sorted(collector.reaches - {collector.name}))


def _loss(sent: int, came: Number, when: str) -> str:
    """Say what became of messages that were counted as sent."""
    lost = Number(max(sent - came.most, 0), max(sent - came.least, 0))
    said = f"{counted(sent, 'message')} sent {when}, {_between(came.least, came.most)} came"
    if lost.least:
        return f"{said}: {_between(lost.least, lost.most)} lost between both ends"
    if not sent and came.least:
        return f"its counter stands still {when}, and {_between(came.least, came.most)} came"
    if sent < came.least:
        return f"{said}: more than it counts; it may have begun to count again"
    return said


def _between_times(begun: float, ended: float) -> str:
    first = datetime.fromtimestamp(begun, UTC)
    last = datetime.fromtimestamp(ended, UTC)
    day = "" if first.date() == last.date() else f"{last:%Y-%m-%d} "
    return f"from {first:%Y-%m-%d %H:%M:%S} to {day}{last:%H:%M:%S} UTC"


def _between(least: int, most: int) -> str:
    return f"{least:,}" if least == most else f"{least:,} to {most:,}"
