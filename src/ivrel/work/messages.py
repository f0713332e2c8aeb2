"""Messages from files: who sent each of them, and what the chosen ones have in common."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, tzinfo
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.attribution.arrival import Arrival, arrived
from ivrel.core.attribution.counting import COUNTED_BY, Counting
from ivrel.core.attribution.filtering import Wanted
from ivrel.core.attribution.messages import AttributedMessage, MessageGroup
from ivrel.core.attribution.senders import Directory
from ivrel.core.attribution.zones import CONFIGURATION, POLICY, StampZone, zone_named
from ivrel.core.evidence.claims import JUDGED, Claim, claims_of
from ivrel.core.evidence.clocks import common_offset
from ivrel.core.evidence.summary import Evidence
from ivrel.core.evidence.witnesses import MessagesGot
from ivrel.core.fleet import Device, DeviceSelection, choose
from ivrel.core.policy import Policy, effective
from ivrel.core.reading import read_records
from ivrel.core.settings.source_path import in_use, knows_interfaces
from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.errors import InputError, Unreadable
from ivrel.core.vocabulary.wording import counted as counted_words
from ivrel.core.vocabulary.wording import not_one_of
from ivrel.runners.pieces import through_pieces
from ivrel.sources.messages import (
    Chunk,
    Gathers,
    Messages,
    RecordFormat,
    Summed,
    Summing,
    problems_of,
)
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.message_files import MessageFiles
from ivrel.work.run import RunOptions

__all__ = [
    "COUNTED_BY", "MessageCounts", "MessageFiles", "MessageList", "MessageTrace", "Wanted",
    "attributed", "collector_of", "counted", "directory_of", "evidence_of", "messages_of",
    "summarised", "traced", "wording_of",
]  # fmt: skip

G = TypeVar("G", bound=Gathers)


def opened(given: MessageFiles, files: Iterable[str]) -> Messages:
    """Return the messages of files, read as `given` says."""
    form = RecordFormat(given.form, given.line_format)
    return Messages(tuple(files), datetime.now(UTC), form if form != RecordFormat() else None)


def by_collector(given: MessageFiles, files: WorkspaceFiles | None) -> dict[str, tuple[str, ...]]:
    """Return the files by collector, those of an unknown one under ''.

    Raise InputError if the policy has no collector of a name.
    """
    out = {"": given.files} if given.files else {}
    known = files.policy.collectors if files is not None and given.at else {}
    for name, some in given.at.items():
        if name not in known:
            raise InputError(f"collector {not_one_of(name, known)}")
        out[name] = out.get(name, ()) + tuple(some)
    return out


class Interfaces:
    """Returns the addresses of a device's interfaces, as far as its configuration can be read.

    It can be sent to other machines.
    """

    def __init__(self, files: WorkspaceFiles) -> None:
        self._texts = files.texts
        self._dialects = files.dialects

    def __call__(self, device: Device) -> Iterator[str]:
        try:
            data, _ = self._texts.text(device)
            records = read_records(self._dialects.of(device), data)
        except Unreadable:
            return
        if knows_interfaces(records):
            for row in records.rows("interface").values():
                yield from in_use(row)


class Zones:
    """Returns the zone of a device's clock: what its configuration says, else the policy.

    It can be sent to other machines.
    """

    def __init__(self, files: WorkspaceFiles) -> None:
        self._texts = files.texts
        self._dialects = files.dialects
        self._policy = files.policy if files.has_policy else None

    def __call__(self, device: Device) -> StampZone | None:
        said = self._configured(device)
        if said is not None:
            return zone_named(said, CONFIGURATION)
        clock = None if self._policy is None else effective(self._policy, device).get("clock")
        need = None if clock is None else clock.needs.get("zone")
        if need is None or need.any_of is None or len(need.any_of) != 1:
            return None
        return zone_named(next(iter(need.any_of)), POLICY)

    def _configured(self, device: Device) -> str | None:
        try:
            data, _ = self._texts.text(device)
            records = read_records(self._dialects.of(device), data)
        except Unreadable:
            return None
        value = records.get("clock.zone").value
        return value if isinstance(value, str) else None


def directory_of(files: WorkspaceFiles | None) -> Directory:
    """Return the directory that finds the devices of a workspace; without one, it finds none."""
    if files is None:
        return Directory(())
    collectors = files.policy.collectors.values() if files.has_policy else ()
    return Directory(files.fleet.devices, collectors, Interfaces(files), Zones(files))


def attributed(
    messages: Messages, directory: Directory, zone: tzinfo
) -> Iterator[AttributedMessage]:
    """Yield each message with the device that sent it, and when it arrived."""
    for record in messages:
        one = arrived(record, directory, messages.near, zone)
        yield AttributedMessage(record, one.found, one.when)


def collector_of(policy: Policy, record: Record) -> str:
    """Return the collector that a message was sent to, '' if its record does not say.

    A capture contains the destination, and a file does not.
    """
    to = (record.to, record.port, record.transport)
    return next((c.name for c in policy.collectors.values() if c.endpoint == to), "")


_SETTLED_EVERY = 10_000  # packets of a capture, after which what waits for its order is put in it


def summarised(
    files: WorkspaceFiles | None, given: MessageFiles, options: RunOptions, new: Callable[[], G]
) -> tuple[G, tuple[str, ...]]:
    """Return the summary of all messages, and what was wrong with files or lines.

    `new`: makes an empty summary, and messages are added to it.
    """
    summary = new()
    wrong = dict[str, Summed[G]]()
    every: list[Messages] = []
    directory = directory_of(files)
    policy = files.policy if files is not None and files.has_policy else None

    def chunks() -> Iterator[Chunk]:
        """Yield what other processes can summarise; summarise the messages of captures here."""
        for collector, some in by_collector(given, files).items():
            messages = opened(given, some)
            every.append(messages)
            for part in messages.parts(by_path=not options.send):
                if isinstance(part, Chunk):
                    yield replace(part, collector=collector)
                    continue
                at = collector or (collector_of(policy, part) if policy is not None else "")
                arrival = arrived(part, directory, messages.near, given.zone, at)
                if given.period.holds(arrival.when):
                    summary.add(arrival)
                    if part.line % _SETTLED_EVERY == 0:
                        summary.settle()

    summing = Summing(directory, given.zone, new, given.period)
    for summed in through_pieces(summing, lambda workers: chunks(), options.scheduler):
        summary.merge(summed.gathered)
        known = wrong.setdefault(summed.shown, summed)
        if known is not summed:
            known.wrong += summed.wrong
            known.first = known.first or summed.first
            known.shortened += summed.shortened
    summary.settle()
    problems = [problem for messages in every for problem in messages.problems]
    for one in wrong.values():
        problems += problems_of(one.shown, one.wrong, one.first, one.shortened)
    return summary, tuple(problems)


def wording_of(files: WorkspaceFiles) -> Mapping[str, Mapping[str, str]]:
    """Return, by device, the words that report changes and logins in its messages.

    Empty if the policy asks for neither.
    """
    asked = {name for rule in files.policy.rules for name in rule.require}
    if not asked & {"changes", "logins"}:
        return {}  # dialects take a while to be read
    devices = files.fleet.devices
    platforms = {d.platform for d in devices if d.platform in files.dialects.files}
    wording = {name: files.dialects[name].tells for name in platforms}
    return {d.name: wording[d.platform] for d in devices if d.platform in wording}


def evidence_of(
    files: WorkspaceFiles,
    given: MessageFiles,
    options: RunOptions,
    moments: Mapping[str, Sequence[float]] | None = None,
) -> tuple[Evidence, tuple[str, ...]]:
    """Return the summary of messages by device, and the problems with files or lines.

    `moments`: by device, when it showed its counters, between which its messages are counted.
    """
    wording = wording_of(files)
    return summarised(files, given, options, lambda: Evidence(wording, moments))


def changes_of(files: WorkspaceFiles) -> Mapping[str, float]:
    """Return when a delivery changed each device last, in seconds since 1970."""
    from ivrel.live.journal import last_changes
    from ivrel.live.targets import own_folder

    return {name: when.timestamp() for name, when in last_changes(own_folder(files)).items()}


_SOON = 3600.0  # seconds; a configuration may be saved a while after it took effect
_NAMED = 3


class FleetClaims:
    """The claims about the devices of a fleet, by what was heard of all of them."""

    def __init__(self, files: WorkspaceFiles, evidence: Evidence) -> None:
        self._policy = files.policy
        self._texts = files.texts
        self._evidence = evidence
        self.changes = changes_of(files)
        self._common = common_offset(evidence, evidence.devices)

    def of(self, device: Device) -> tuple[Claim, ...]:
        """Return the claims about one device, setting by setting."""
        changed = self.changes.get(device.name)
        return claims_of(device, self._policy, self._evidence, changed, self._common)

    def messages(self, claims: Iterable[Claim]) -> MessagesGot:
        """Return what collectors got of a device, to be held against its display."""
        return MessagesGot({claim.setting: claim for claim in claims}, self._evidence.counts)

    def remarks(self, devices: Iterable[Device]) -> tuple[str, ...]:
        """Return a remark if messages are older than the configurations that they are held against,
        which may say something else since.
        """
        older = []
        for device in devices:
            ended = self._evidence.of(device.name).ended
            written = self._texts.written(device)
            if ended is not None and written is not None and ended + _SOON < written:
                older.append(device.name)
        if not older:
            return ()
        some = ", ".join(older[:_NAMED]) + (" and others" if len(older) > _NAMED else "")
        said = f"messages of {some} ({counted_words(len(older), 'device')})"
        return (f"{said} are older than their configurations, which may say something else since",)

    def by_setting(self, device: Device) -> Mapping[str, Claim]:
        """Return the claims about one device by setting."""
        return {claim.setting: claim for claim in self.of(device)}


class MessageList(Struct, frozen=True):
    """Messages in the order of their arrival.

    `total`: messages read, wanted or not; `problems`: files and lines that could not be read.
    """

    messages: tuple[AttributedMessage, ...]
    total: int
    problems: tuple[str, ...] = ()


def messages_of(files: WorkspaceFiles | None, given: MessageFiles, wanted: Wanted) -> MessageList:
    """Return the wanted messages in the order of their arrival."""
    messages = opened(given, given.files)
    total = 0
    # A message without a time stays behind the one that it came after.
    last = datetime.min.replace(tzinfo=UTC)
    found: list[tuple[datetime, AttributedMessage]] = []
    for one in attributed(messages, directory_of(files), given.zone):
        total += 1
        if given.period.holds(one.when) and wanted.takes(one.record, one.found):
            last = one.when or last
            found.append((last, one))
    found.sort(key=lambda pair: pair[0])
    return MessageList(tuple(one for _, one in found), total, tuple(messages.problems))


class MessageCounts(Struct, frozen=True):
    """How many messages have each value, the most frequent first.

    `total`: messages read, wanted or not; `problems`: files and lines that could not be read.
    """

    groups: tuple[MessageGroup, ...]
    total: int
    problems: tuple[str, ...] = ()


def counted(
    files: WorkspaceFiles | None, given: MessageFiles, wanted: Wanted, by: str, options: RunOptions
) -> MessageCounts:
    """Return how many of the wanted messages have each value; `by`: of COUNTED_BY."""
    found, problems = summarised(files, given, options, lambda: Counting(by, wanted))
    return MessageCounts(found.groups, found.total, problems)


class MessageTrace(Struct, frozen=True):
    """One message, what it alone proves or contradicts, and the collector that it was sent to.

    `message`: None if the file has no such message; `problems`: files and lines that could not be
    read.
    """

    message: AttributedMessage | None
    claims: tuple[Claim, ...] = ()
    collector: str = ""
    problems: tuple[str, ...] = ()


def traced(
    files: WorkspaceFiles | None, given: MessageFiles, line: int | None, device: str = ""
) -> MessageTrace:
    """Return one message with all decisions about it.

    `line`: the line of the file, or None for the last message; `device`: of this device.
    """
    if device and files is not None:
        choose(files.fleet, DeviceSelection((device,)))
    messages = opened(given, given.files)
    found: AttributedMessage | None = None
    directory = directory_of(files)
    for one in attributed(messages, directory, given.zone):
        if line is None and device in ("", one.found.device):
            found = one
        elif line is not None and one.record.line == line:
            found = one
            break
    problems = tuple(messages.problems)
    if found is None or files is None or not found.found.is_sure or not files.has_policy:
        return MessageTrace(found, problems=problems)
    policy = files.policy
    record = found.record
    collector = collector_of(policy, record)
    alone = Evidence(wording_of(files))
    zone = directory.zone_of(found.found.device, given.zone)
    alone.add(Arrival(record, found.found, found.when, collector, zone))
    sender = next(d for d in files.fleet.devices if d.name == found.found.device)
    claims = [c for c in claims_of(sender, policy, alone) if c.setting in JUDGED]
    return MessageTrace(found, tuple(claims), collector, problems)
