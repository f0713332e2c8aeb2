"""Why a device is not heard, or not as asked: all that is known of one device, on one page."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from datetime import UTC, datetime
from difflib import SequenceMatcher
from ipaddress import ip_address, ip_network
from itertools import chain
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from ivrel.core.evidence.anomalies import anomalies
from ivrel.core.evidence.claims import Claim, clock_time
from ivrel.core.evidence.emitters import Emitter, emitters
from ivrel.core.evidence.page import (
    BAD,
    COLLECTORS,
    CONFIGURATION,
    DISPLAY,
    GOOD,
    MESSAGES,
    NOTE,
    OPEN,
    OTHERS,
    PATH,
    WhyLine,
)
from ivrel.core.evidence.summary import STRANGER, Evidence, Tally
from ivrel.core.evidence.witnesses import NO_MESSAGES
from ivrel.core.fleet import Device
from ivrel.core.measuring.gathered import SUBJECTS, Measured
from ivrel.core.measuring.silence import Silence, silences
from ivrel.core.policy import effective
from ivrel.core.reading import read_records
from ivrel.core.settings import SETTINGS, Scope
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES
from ivrel.core.vocabulary.verdict import Verdict
from ivrel.core.vocabulary.wording import counted, span
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.jobs import Auditing
from ivrel.work.message_files import MessageFiles
from ivrel.work.messages import FleetClaims, Interfaces, changes_of, evidence_of, summarised
from ivrel.work.run import RunOptions
from ivrel.work.witnesses import Witnesses

_ALIKE = 0.8  # of two names, by difflib
_MOST_STRANGERS = 3
_GOOD_VERDICTS = ("meets", "waived")


class Why(Struct, frozen=True):
    """All that is known of one device; `problems`: files and lines that could not be read."""

    device: Device
    lines: tuple[WhyLine, ...]
    is_good: bool
    problems: tuple[str, ...] = ()


def why(
    files: WorkspaceFiles,
    options: RunOptions,
    device: Device,
    given: MessageFiles,
    settings: Collection[str] = (),
) -> Why:
    """Return what is known of a device: its configuration, its messages, and the way between.

    `settings`: verdicts and claims about these alone.
    """
    page = _Page(files, options, device, given, settings)
    lines = tuple(page.lines())
    return Why(device, lines, not any(one.state == BAD for one in lines), page.problems)


class _Page:
    """The page about one device, part by part."""

    def __init__(
        self,
        files: WorkspaceFiles,
        options: RunOptions,
        device: Device,
        given: MessageFiles,
        settings: Collection[str],
    ) -> None:
        self._files = files
        self._device = device
        self._given = given
        self._settings = settings
        self._result = Auditing(files, options.today).alone(device)
        self._speaks = tuple(_emitters(files, device))
        self.problems: tuple[str, ...] = ()
        self._evidence: Evidence | None = None
        self._times: Measured[Any] | None = None
        self._witnesses = Witnesses(files)
        if given:
            moments = self._witnesses.moments([device])
            self._evidence, self.problems = evidence_of(files, given, options, moments)

            def new() -> Measured[Any]:
                return Measured(SUBJECTS["silence"])

            self._times, _ = summarised(files, given, options, new)

    def lines(self) -> Iterator[WhyLine]:
        """Yield the lines of the page."""
        yield from self._configuration()
        yield from self._display()
        if self._evidence is None or self._times is None:
            said = "no messages were given: name recordings with --heard or --at"
            yield WhyLine(MESSAGES, "messages", said, OPEN)
            return
        if not self._evidence.number:
            yield WhyLine(MESSAGES, "messages", "no message is in the files", OPEN)
            return
        fleet = FleetClaims(self._files, self._evidence)
        yield from self._messages(self._evidence, self._times, fleet)
        yield from self._others(self._evidence)
        yield from self._collectors(self._evidence)
        if not self._evidence.of(self._device.name).number:
            yield from self._path(self._evidence)

    def _configuration(self) -> Iterator[WhyLine]:
        name = self._device.name
        if self._result.problem:
            yield WhyLine(CONFIGURATION, "file", self._result.problem, BAD)
            return
        shown = self._files.configuration(self._device) or ""
        written = self._files.texts.written(self._device)
        when = f", written {clock_time(written)} UTC" if written is not None else ""
        yield WhyLine(CONFIGURATION, "file", f"{shown}{when}")
        changed = changes_of(self._files).get(name)
        if changed is not None:
            said = f"a correction was sent to it at {clock_time(changed)} UTC"
            yield WhyLine(CONFIGURATION, "delivery", said)
        for one in self._speaks:
            yield WhyLine(CONFIGURATION, "sends", _spoken(one), GOOD if one.collector else OPEN)
        if not self._speaks:
            said = "nothing to anyone, as far as its configuration can be read"
            yield WhyLine(CONFIGURATION, "sends", said, BAD)
        wrong = [v for v in self._result.verdicts if self._is_wrong(v)]
        for v in sorted(wrong, key=lambda v: v.verdict != "breaks"):
            state = BAD if v.verdict == "breaks" else OPEN
            where = f"{v.where[0].file}:{v.where[0].line}" if v.where else ""
            yield WhyLine(CONFIGURATION, v.setting, v.why, state, where)
        if not wrong:
            number = counted(len(self._result.verdicts), "setting")
            yield WhyLine(CONFIGURATION, "verdict", f"as asked in {number}", GOOD)

    def _display(self) -> Iterator[WhyLine]:
        """Yield what the device shows of itself, held against the other witnesses."""
        device = self._device
        messages = NO_MESSAGES
        if self._evidence is not None:
            fleet = FleetClaims(self._files, self._evidence)
            messages = fleet.messages(fleet.of(device))
        said = self._witnesses.of(device, messages)
        self.problems = (*self.problems, *self._witnesses.problems)
        alike: dict[str, None] = {}
        order = (BAD, OPEN, GOOD, NOTE)
        for one in sorted(said, key=lambda c: (c.setting != DISPLAY, order.index(c.state))):
            if one.setting in SETTINGS and not self._is_meant(one.setting):
                continue
            if one.state == GOOD and one.setting in SETTINGS:
                alike[f"{one.setting} {one.of}".strip()] = None
                continue
            about = f"{one.setting} {one.of}" if one.setting != DISPLAY and one.of else one.setting
            yield WhyLine(DISPLAY, about, one.said, one.state, one.where)
        if alike:
            yield WhyLine(DISPLAY, "as configured", ", ".join(alike), GOOD)

    def _is_wrong(self, v: Verdict) -> bool:
        return v.verdict not in _GOOD_VERDICTS and self._is_meant(v.setting)

    def _is_meant(self, setting: str) -> bool:
        return not self._settings or setting in self._settings

    def _messages(
        self, evidence: Evidence, times: Measured[Any], fleet: FleetClaims
    ) -> Iterator[WhyLine]:
        name = self._device.name
        summary = evidence.of(name)
        until = times.last.timestamp() if times.last is not None else 0.0
        if not summary.number:
            said = f"nothing, among {counted(evidence.number, 'message')} up to {_time(until)}"
            yield WhyLine(MESSAGES, "heard", said, BAD)
            return
        said = counted(summary.number, "message")
        if summary.ended is not None and summary.begun is not None:
            ago = span(max(until - summary.ended, 0.0))
            said += f", the last at {_time(summary.ended)}, {ago} before the records end"
        yield WhyLine(MESSAGES, "heard", said, GOOD)
        devices = [d.name for d in self._files.fleet.devices]
        every = silences(times.devices, devices, until, 0.05)
        yield from _silence(next(one for one in every if one.device == name))
        for value, tally in summary.of("arrival").items():
            said = f"{counted(tally.number, 'message')}, the last at {_time(tally.ended)}"
            yield WhyLine(MESSAGES, f"at {value}", said)
        for claim in fleet.of(self._device):
            if self._is_meant(claim.setting) and claim.claim == "contradicted":
                where = f"{claim.example.file}:{claim.example.line}" if claim.example else ""
                yield WhyLine(MESSAGES, claim.setting, claim.why, BAD, where)
        proved = [c.setting for c in fleet.of(self._device) if self._is_proved(c)]
        if proved:
            yield WhyLine(MESSAGES, "proved", ", ".join(proved), GOOD)
        cut = summary.of("cut").get("yes")
        if cut is not None:
            said = f"{counted(cut.number, 'message')} without the end: too long, or cut off"
            yield WhyLine(MESSAGES, "cut", said, OPEN, f"{cut.first.file}:{cut.first.line}")

    def _is_proved(self, claim: Claim) -> bool:
        return claim.claim == "proved" and self._is_meant(claim.setting)

    def _others(self, evidence: Evidence) -> Iterator[WhyLine]:
        for odd in anomalies(evidence, {self._device.name}):
            if odd.kind not in ("stranger", "several names") or self._device.name in odd.told:
                where = f"{odd.example.file}:{odd.example.line}" if odd.example else ""
                said = f"{odd.told} ({counted(odd.number, 'message')})"
                yield WhyLine(OTHERS, odd.kind, said, OPEN, where)
        alike = list(self._strangers(evidence))
        yield from alike[:_MOST_STRANGERS]
        if len(alike) > _MOST_STRANGERS:
            said = f"{len(alike) - _MOST_STRANGERS} more like these"
            yield WhyLine(OTHERS, "strangers", said)

    def _strangers(self, evidence: Evidence) -> Iterator[WhyLine]:
        """Yield strangers that resemble the device: of a similar name, or from its network."""
        identity = self._device.identity
        own = [*([identity] if identity else []), *Interfaces(self._files)(self._device)]
        names: dict[str, list[str]] = {}
        for value in evidence.senders.of("names"):
            address, _, name = value.partition(" ")
            names.setdefault(address, []).append(name)
        for value, tally in evidence.others.of(STRANGER).items():
            called = [*names.get(value, ()), value.partition(" ")[0]]
            similar = next((one for one in called if self._is_alike(one)), "")
            near = any(_is_near(value, address) for address in own)
            if similar or near:
                why = f"calls itself {similar}" if similar and similar != value else ""
                why = why or ("is of its network" if near else "has a similar name")
                said = f"{value} {why} ({counted(tally.number, 'message')})"
                where = f"{tally.first.file}:{tally.first.line}"
                yield WhyLine(OTHERS, "stranger", said, OPEN, where)

    def _is_alike(self, called: str) -> bool:
        name = called.lower().partition(".")[0]
        return SequenceMatcher(None, name, self._device.name.lower()).ratio() >= _ALIKE

    def _wanted(self) -> tuple[str, ...]:
        """Return the collectors that the policy asks of the device."""
        asked = effective(self._files.policy, self._device).get("collectors")
        need = asked.needs.get("") if asked is not None else None
        return tuple(getattr(need, "wanted", ()))

    def _collectors(self, evidence: Evidence) -> Iterator[WhyLine]:
        """Yield what is known of each collector that is asked for."""
        site = {d.name for d in self._files.fleet.devices if d.site == self._device.site}
        for name in self._wanted():
            there = _arrived(evidence, name)
            near = sum(1 for device in there if device in site - {self._device.name})
            last = max((t.ended for t in there.values() if t.ended is not None), default=None)
            said = f"heard {counted(len(there), 'device')}, {near} of them at {self._device.site}"
            said += f", the last message at {_time(last)}" if last is not None else ""
            yield WhyLine(COLLECTORS, name, said, GOOD if there else OPEN)
            address = self._files.policy.collectors[name].address
            own = next((d for d in self._files.fleet.devices if d.identity == address), None)
            if own is not None:
                said = f"it is {own.name} of this fleet: ivrel explain {own.name}"
                yield WhyLine(COLLECTORS, name, said)
        yield from _listened(self._given)

    def _path(self, evidence: Evidence) -> Iterator[WhyLine]:
        """Yield what is proved of the way of a device that was not heard, and what is not."""
        for one in self._speaks:
            to = one.collector or one.address
            said = f"its configuration sends to {to}: proved by reading, if it is the running one"
            yield WhyLine(PATH, "device", said, GOOD)
        said = "whether the device is up, and runs this configuration: ivrel gather"
        yield WhyLine(PATH, "device", said, OPEN)
        site = [d.name for d in self._files.fleet.devices if d.site == self._device.site]
        near = [name for name in site if evidence.of(name).number]
        if near:
            said = f"{near[0]} of the same site is heard: the line of the site carries messages"
            yield WhyLine(PATH, "network", said, GOOD)
        else:
            said = f"no device at {self._device.site} is heard: the line of the site may be down"
            yield WhyLine(PATH, "network", said, OPEN)
        said = "filters on the way, by address or port, are not known here"
        yield WhyLine(PATH, "network", said, OPEN)


def _arrived(evidence: Evidence, collector: str) -> dict[str, Tally]:
    """Return the devices that were heard at a collector."""
    out: dict[str, Tally] = {}
    for device, summary in evidence.devices.items():
        for value, tally in summary.of("arrival").items():
            if value.partition(" ")[0] == collector:
                out[device] = tally.plus(out[device]) if device in out else tally
    return out


def _emitters(files: WorkspaceFiles, device: Device) -> Iterator[Emitter]:
    try:
        data, _ = files.text(device)
        records = read_records(files.dialects.of(device), data)
    except Unreadable:
        return
    scope = Scope(device, records, files.policy.collectors)
    yield from emitters(device, scope, lambda one: "")


def _spoken(one: Emitter) -> str:
    to = f"{one.collector} ({one.address})" if one.collector else f"{one.address}, no collector"
    taken = [s for s in range(len(SEVERITIES)) if one.takes.bits >> (one.facility * 8 + s) & 1]
    level = f"{SEVERITIES[max(taken)]} and more urgent" if taken else "nothing"
    sender = f", from {one.sender}" if one.sender else ""
    return f"{level} as {FACILITIES[one.facility]} to {to} by {one.transport} {one.port}{sender}"


def _silence(one: Silence) -> Iterator[WhyLine]:
    if one.longest is None or one.usual is None:
        return
    said = f"{span(one.longest)} from {_time(one.begun)}; its usual gap is {span(one.usual)}"
    states = {
        "silent": (f"{said}: longer than chance explains", BAD),
        "together": (f"{said}: with other devices, at the same time", OPEN),
        "open": (f"{said}; {span(one.enough or 0)} would be called a silence", OPEN),
        "uneven": (f"{said}; it speaks too unevenly to judge", NOTE),
        "seldom": (f"{said}; it speaks too seldom to judge", NOTE),
        "usual": (f"{said}: as usual", GOOD),
    }
    yield WhyLine(MESSAGES, "silence", *states[one.state])


def _time(seconds: float | None) -> str:
    return "an unknown time" if seconds is None else f"{clock_time(seconds)} UTC"


def _is_near(one: str, other: str) -> bool:
    """Whether two addresses are of one network of a usual size."""
    try:
        length = 24 if ip_address(other).version == 4 else 64
        return ip_address(one) in ip_network(f"{other}/{length}", strict=False)
    except ValueError:
        return False


class _Counts(Struct):
    """What a session of listening wrote about itself."""

    begun: float
    ended: float
    received: int
    dropped: int = 0
    shortened: int = 0
    cut: int = 0
    refused: int = 0
    idle: int = 0
    failed: int = 0
    unkept: int = 0


def _listened(given: MessageFiles) -> Iterator[WhyLine]:
    """Yield what was lost while the recordings were made."""
    every = chain(given.files, *given.at.values())
    folders = dict.fromkeys(Path(name).parent for name in every)
    for folder in folders:
        for path in sorted(folder.glob("listened-*.json")):
            try:
                counts = msgspec.json.decode(path.read_bytes(), type=_Counts)
            except (OSError, msgspec.DecodeError):
                continue
            lost = {
                "dropped by the system": counts.dropped,
                "cut": counts.cut + counts.shortened,
                "not kept": counts.unkept,
                "connections refused": counts.refused + counts.failed,
            }
            said = ", ".join(f"{number:,} {what}" for what, number in lost.items() if number)
            begun = datetime.fromtimestamp(counts.begun, UTC).strftime("%Y-%m-%d %H:%M")
            said = f"listening from {begun}: {counts.received:,} messages, {said or 'none lost'}"
            yield WhyLine(COLLECTORS, "listener", said, OPEN if sum(lost.values()) else GOOD)
