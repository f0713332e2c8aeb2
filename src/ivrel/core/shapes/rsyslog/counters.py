"""The shape `impstats`: what rsyslog counts of itself, as statements.

    action 0 omfwd - 198.51.100.21 514 udp -
    Tue Dec  1 22:15:53 2026: action-0-builtin:omfwd: origin=core.action processed=5 failed=0 …

read as `sent 5` in `forward 198.51.100.21 514 udp`. A display of rsyslog is a bundle of what was
read at one moment: its actions as the configuration has them (`actions`), the last record of its
statistics (`impstats`), and the names and sizes of its queues' files (`queues`). Statistics number
the actions that have no name; unless number and kind of every action agree with the configuration,
the daemon runs another one, and nothing is read.

Documentation: "impstats: Generate Periodic Statistics of Internal Counters"
(configuration/modules/impstats), "rsyslog statistic counter" (rsyslog_statistic_counter).
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from posixpath import join

from msgspec import Struct

from ivrel.core.shapes.rsyslog.flow.model import Action
from ivrel.core.shapes.rsyslog.flow.whole import read_setup
from ivrel.core.shapes.rsyslog.syntax.statements import said_of
from ivrel.core.shapes.shape import Found, Shape
from ivrel.core.text.bundle import Part, pack, parts
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words, quote, split_words
from ivrel.core.vocabulary.errors import Refused

ACTIONS = "actions"
STATISTICS = "impstats"
QUEUES = "queues"
INTERVAL = 300  # seconds between two records, where the configuration says nothing
TAIL = 1 << 18  # bytes of the statistics that hold the last record of any usual daemon
_RECORD = re.compile(r"(\w{3} \w{3} [ \d]\d \d\d:\d\d:\d\d \d{4}): (.*)")
_PLAIN = re.compile(r"(.*?): origin=([\w.]+) ?(.*)")
_STAMP = "%a %b %d %H:%M:%S %Y"
_TOGETHER = 2  # seconds within which one record is written
_NUMBERED = re.compile(r"action-(\d+)-(?:builtin:)?(\w+)")
# The kinds of actions as a configuration may call them, and as statistics do.
_KINDS = {"file": "omfile", "dynfile": "omfile", "users": "omusrmsg"}
_SENDING = ("omfwd", "omrelp", "omudpspoof")


class CountedAction(Struct, frozen=True):
    """An action, as the daemon numbers it: its kind, its name if it has one, where it sends, and
    the file of its queue.
    """

    kind: str
    name: str = ""
    endpoint: tuple[str, str, str] = ("", "", "")
    queue: str = ""


class StatisticsSource(Struct, frozen=True):
    """Where a daemon writes what it counts: the file of its statistics, the folder of its queues,
    and its actions in their order; `interval`: seconds between two records of statistics.
    """

    file: str
    folder: str
    actions: tuple[CountedAction, ...]
    interval: int = INTERVAL

    @property
    def seldom(self) -> float:
        """The age, in seconds, from which on statistics show that the daemon does not run."""
        return 3.0 * self.interval + 60


def counting_of(data: bytes) -> StatisticsSource:
    """Return where a daemon of this configuration writes what it counts.

    Raise Refused if it counts nothing, or not in a file; Unreadable as `read_model` does.
    """
    setup = read_setup(data)
    said = setup.statistics
    if said is None:
        hint = 'module(load="impstats" log.file="…")'
        raise Refused(f"its configuration does not count what it sends; {hint} does")
    file = said_of(said, "log.file")
    if not file:
        raise Refused("impstats writes into no file; its parameter log.file names one")
    if (said_of(said, "resetcounters") or "off").lower() != "off":
        raise Refused("impstats counts from each record to the next (resetCounters)")
    folder = said_of(setup.settings, "workdirectory") or ""
    interval = said_of(said, "interval") or ""
    seconds = int(interval) if interval.isdecimal() else INTERVAL
    # An action that the daemon refuses has no number.
    actions = tuple(_counted(a) for a in setup.actions.values() if not a.idle)
    return StatisticsSource(file, folder, actions, seconds)


def _counted(action: Action) -> CountedAction:
    kind = _KINDS.get(action.kind, action.kind)
    name = said_of(action.params, "name") or ""
    queue = said_of(action.params, "queue.filename") or ""
    endpoint = action.endpoint if kind in _SENDING else ("", "", "")
    return CountedAction(kind, name, endpoint, queue)


def queue_prefixes(counting: StatisticsSource) -> tuple[str, ...]:
    """Return what the names of the queues' files begin with."""
    queues = (action.queue for action in counting.actions if action.queue)
    return tuple(join(counting.folder or "/", queue) for queue in queues)


def last_record(data: bytes) -> tuple[bytes, float]:
    """Return the last whole record of statistics, and by how many seconds it is older than the last
    line. Raise Refused if there is none.

    `data`: the end of a file of statistics.
    """
    lines = [line for line in data.decode("utf-8", "replace").splitlines() if line]
    stamped = [(found, line) for line in lines if (found := _RECORD.fullmatch(line))]
    if not stamped:
        raise Refused("its file of statistics holds no record")
    last = _seconds(stamped[-1][0][1])
    record: list[str] = []
    seen: set[str] = set()
    end = last
    for found, line in reversed(stamped):
        name = _name(found[2])
        at = _seconds(found[1])
        if name in seen or (record and end - at > _TOGETHER):
            if _is_whole(record):
                break
            # The daemon was writing this one: the record before it is whole.
            record = []
            seen = set()
        if not record:
            end = at
        record.insert(0, line)
        seen.add(name)
    if not _is_whole(record):
        raise Refused("its file of statistics holds no whole record")
    return "".join(f"{line}\n" for line in record).encode(), last - end


def _is_whole(record: Sequence[str]) -> bool:
    """Whether a record has its last line: the daemon's own queue is told last."""
    return bool(record) and _name(_RECORD.fullmatch(record[-1])[2]) == "main Q core.queue"  # type: ignore[index]


def _seconds(stamp: str) -> float:
    try:
        return datetime.strptime(stamp, _STAMP).timestamp()  # differences alone
    except ValueError:
        return 0.0


def _name(said: str) -> str:
    """Return the name and the origin of what is counted."""
    counter = _counter(said)
    return "" if counter is None else f"{counter[0]} {counter[1]}"


def _counter(said: str) -> tuple[str, str, dict[str, int]] | None:
    """Return the name, the origin and the numbers of a line, behind its stamp, in any format of the
    module's; None if it is none.
    """
    said = said.removeprefix("@cee: ").strip()
    if said.startswith("{"):
        try:
            values = json.loads(said)
        except ValueError:
            return None
        plain = {key.replace("!", "."): value for key, value in values.items()}
        numbers = {key: value for key, value in plain.items() if isinstance(value, int)}
        return str(plain.get("name", "")), str(plain.get("origin", "")), numbers
    found = _PLAIN.fullmatch(said)
    if found is None:
        return None
    pairs = (word.partition("=") for word in found[3].split())
    numbers = {key: int(value) for key, _, value in pairs if value.isdecimal()}
    return found[1], found[2], numbers


def display_of(counting: StatisticsSource, record: bytes, queues: Mapping[str, int]) -> bytes:
    """Return a display; `queues`: the files of queues with their sizes in bytes."""
    actions = []
    for number, action in enumerate(counting.actions):
        words = (action.kind, action.name or "-", *(part or "-" for part in action.endpoint))
        said = " ".join(quote(word) for word in (*words, action.queue or "-"))
        actions.append(f"action {number} {said}\n")
    sizes = "".join(f"{quote(name)} {size}\n" for name, size in sorted(queues.items()))
    files = {ACTIONS: "".join(actions).encode(), STATISTICS: record, QUEUES: sizes.encode()}
    return pack(files)


class Impstats(Shape, frozen=True):
    """The shape `impstats`, which has no options."""

    def split(self, line: str) -> list[str]:
        return split_words(line)

    def join(self, words: Sequence[str]) -> str:
        return " ".join(quote(word) for word in words)

    def everything(self, text: Text) -> Iterator[Found]:
        for path, words, line in _statements({part.name: part for part in parts(text.data)}):
            yield path, self.join(words).encode(), line


def _statements(found: Mapping[str, Part]) -> Iterator[tuple[Path, Words, int]]:
    """Yield what is counted, destination by destination."""
    if ACTIONS not in found or STATISTICS not in found:
        return
    actions = _actions(found[ACTIONS])
    counters: dict[tuple[str, str], tuple[int, dict[str, int]]] = {}
    statistics = found[STATISTICS]
    for line, said in enumerate(statistics.text.splitlines(), statistics.first):
        record = _RECORD.fullmatch(said)
        counter = _counter(record[2]) if record else None
        if counter is not None:
            counters[counter[0], counter[1]] = line, counter[2]
    named = _named(actions, counters)
    if named is None:
        # It begins as a statement that is known, and is in doubt: the daemon runs another
        # configuration than the one that was read.
        yield (), ("forward", "?"), statistics.first
        return
    for action, name in named:
        if action.endpoint[0]:
            yield from _destination(action, name, counters)
    line, numbers = counters.get(("main Q", "core.queue"), (0, {}))
    if line:
        yield (), ("main", "held", str(numbers.get("size", 0))), line
        yield (), ("main", "dropped", str(_discarded(numbers))), line


Counters = Mapping[tuple[str, str], tuple[int, dict[str, int]]]


def _actions(part: Part) -> list[CountedAction]:
    out = []
    for line in part.text.splitlines():
        words = split_words(line)
        if len(words) == 8:
            name, address, port, transport, queue = ("" if w == "-" else w for w in words[3:])
            out.append(CountedAction(words[2], name, (address, port, transport), queue))
    return out


def _named(
    actions: Sequence[CountedAction], counters: Counters
) -> list[tuple[CountedAction, str]] | None:
    """Return the actions with the names that statistics have for them; None if both do not agree.

    An action that the daemon refused has no number, so that those behind it have lower ones.
    """
    counted = {name for name, origin in counters if origin == "core.action"}
    out = []
    for number, action in enumerate(actions):
        name = action.name or next(
            (n for n in counted if (m := _NUMBERED.fullmatch(n)) and int(m[1]) == number), ""
        )
        found = _NUMBERED.fullmatch(name) if not action.name else None
        if name not in counted or (found is not None and found[2] != action.kind):
            return None
        out.append((action, name))
    return out if len({name for _, name in out}) == len(counted) else None


def _destination(
    action: CountedAction, name: str, counters: Counters
) -> Iterator[tuple[Path, Words, int]]:
    header = ("forward", *action.endpoint)
    line, numbers = counters[name, "core.action"]
    yield (), header, line
    at, queue = counters.get((f"{name} queue", "core.queue"), (line, {}))
    _, on_disk = counters.get((f"{name} queue[DA]", "core.queue"), (line, {}))
    waiting = queue.get("size", 0) + on_disk.get("size", 0)
    dropped = _discarded(queue) + _discarded(on_disk)
    yield (header,), ("waiting", str(waiting)), at
    yield (header,), ("dropped", str(dropped)), at
    address, port, transport = action.endpoint
    way = "UDP" if transport == "udp" else "TCP"
    _, bytes_sent = counters.get((f"{way}-{address}-{port}", "omfwd"), (line, {}))
    processed = numbers.get("processed", 0)
    is_suspended = numbers.get("suspended", 0) > numbers.get("resumed", 0)
    has_sent_nothing = "bytes.sent" in bytes_sent and not bytes_sent["bytes.sent"]
    if is_suspended or (processed and has_sent_nothing):
        yield (header,), ("state", "down"), line
    elif bytes_sent.get("bytes.sent") and transport != "udp":
        yield (header,), ("state", "up"), line
    # What failed, waits, or was taken from a queue and not sent yet, is counted as processed, too.
    if not (numbers.get("failed", 0) or is_suspended or waiting or has_sent_nothing):
        sent = queue["enqueued"] - dropped if "enqueued" in queue else processed
        yield (header,), ("sent", str(sent)), line


def _discarded(queue: Mapping[str, int]) -> int:
    return queue.get("discarded.full", 0) + queue.get("discarded.nf", 0)
