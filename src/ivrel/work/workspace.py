"""A workspace: the entry to everything that Ivrel does, for programs and for the commands."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, date, datetime, tzinfo
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, TypedDict, Unpack

from msgspec import Struct

from ivrel.core.fleet import Device, DeviceSelection, Fleet, choose
from ivrel.core.policy import Policy
from ivrel.core.reach import Reach, reach_of
from ivrel.core.settings import SETTINGS
from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.core.vocabulary.wording import not_one_of
from ivrel.sources.dialects import no_dialect
from ivrel.sources.files import read_configuration, read_stdin
from ivrel.sources.packed import LIMITS, MIB, SizeLimits
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.run import Progress, RunOptions

# Each kind of run is loaded when it is first used: starting is cheap.
if TYPE_CHECKING:
    from ivrel.core.attribution.filtering import Wanted
    from ivrel.core.correcting import WhatIf
    from ivrel.core.delivery.gathering import GatheredDevice
    from ivrel.core.evidence.results import HeardResult
    from ivrel.core.judging.remarks import Remark
    from ivrel.core.policy.policy import Requirement
    from ivrel.core.settings.reading import DeviceReading
    from ivrel.sources.lines import LinesOf
    from ivrel.work.audit import Audit
    from ivrel.work.correction import Corrections, WaveOptions
    from ivrel.work.delivery import Deliveries, DeliveryWatch
    from ivrel.work.evidence import KeptResult
    from ivrel.work.explaining import Explanation
    from ivrel.work.gathering import GatherOptions, HostKeys
    from ivrel.work.measuring import Measuring
    from ivrel.work.message_files import MessageFiles
    from ivrel.work.messages import MessageList, MessageTrace
    from ivrel.work.proving import ProofResult
    from ivrel.work.why import Why

Devices = Iterable[str | Device]


class UnknownPlatform(Struct, frozen=True):
    """A platform that no dialect describes: its devices, why, and their configurations."""

    platform: str
    devices: tuple[Device, ...]
    problem: str
    samples: tuple[str, ...]


class SelectionOptions(TypedDict, total=False):
    """Which devices a run is about; without any of these, all devices.

    `devices`: names, globs or devices; `kinds`, `sites`, `groups`: names or globs. A list that is
    given and empty selects no device.
    """

    devices: Devices
    kinds: Iterable[str]
    sites: Iterable[str]
    groups: Iterable[str]


class RecordFormatOptions(TypedDict, total=False):
    """How files of messages are read.

    `form`: the format, detected if not given; `line_format`: the format of a line, such as
    '{received} {sender} {message}'; `zone`: the time zone of stamps that name none, where neither
    a configuration nor the policy says it (UTC); `since`, `until`: when the messages came, times
    with a zone, the second exclusive.
    """

    form: str
    line_format: str
    zone: tzinfo
    since: datetime
    until: datetime


class Workspace:
    """A folder with a fleet, a policy and configurations; `ivrel.open` returns it.

    Files are read when they are first needed, and not again. What cannot be read or does not exist
    is raised as `InputError`; a device whose configuration cannot be read is part of a result, and
    never stops the others.

    `largest`, `longest_line`: how large a configuration and its lines may be, in MiB; other
    parameters as for `ivrel.open`.

    `files`: the files of the workspace; `options`: how runs are carried out.
    """

    def __init__(
        self,
        folder: Path | str,
        *,
        policy: Path | str = "",
        today: date | None = None,
        progress: Progress | None = None,
        largest: int = LIMITS.largest // MIB,
        longest_line: int = LIMITS.longest_line // MIB,
        scheduler: str = "",
        send: bool = False,
    ) -> None:
        limits = SizeLimits(largest * MIB, longest_line * MIB)
        self.files = WorkspaceFiles(Path(folder), str(policy), limits)
        self.options = RunOptions(today or date.today(), progress, scheduler, send)

    @property
    def folder(self) -> Path:
        """The folder of the workspace."""
        return self.files.folder

    @property
    def fleet(self) -> Fleet:
        """The fleet: its name, its devices, and how they are reached."""
        return self.files.fleet

    @property
    def policy(self) -> Policy:
        """The policy: its rules, collectors and waivers."""
        return self.files.policy

    @cached_property
    def has_fleet(self) -> bool:
        """Whether there is a fleet."""
        return any((self.folder / name).exists() for name in ("fleet.yaml", "fleet.csv"))

    def select(self, **selection: Unpack[SelectionOptions]) -> tuple[Device, ...]:
        """Return the selected devices, in the order of the fleet.

        Raise InputError for a name or a glob that matches nothing.

        >>> import ivrel
        >>> [d.name for d in ivrel.open("skerry").select(kinds=["firewall"], sites=["tarsk"])]
        ['tarsk-fw2', 'tarsk-fw3']
        """
        given = tuple(selection.get("devices", ()))
        kinds = tuple(selection.get("kinds", ()))
        sites = tuple(selection.get("sites", ()))
        groups = tuple(selection.get("groups", ()))
        by_key = {"devices": given, "kinds": kinds, "sites": sites, "groups": groups}
        if any(not by_key[key] for key in selection):
            return ()  # a program that found no device must not get all of them
        devices = tuple(d for d in given if isinstance(d, Device))
        if len(selection) == 1 and devices and len(devices) == len(given):
            return devices
        names = tuple(d if isinstance(d, str) else d.name for d in given)
        return choose(self.fleet, DeviceSelection(names, kinds, sites, groups))

    def device(self, name: str) -> Device:
        """Return the device of this name. Raise InputError if there is not exactly one."""
        found = self.select(devices=[name])
        if len(found) != 1:
            raise InputError(f"'{name}' matches {len(found)} devices; expected one")
        return found[0]

    def without_dialect(self, devices: Iterable[Device]) -> tuple[UnknownPlatform, ...]:
        """Return the platforms of devices that no dialect describes; these devices are unknown."""
        found = []
        for platform, some in self.files.without_dialect(devices).items():
            samples = [file for d in some if (file := self.files.configuration(d))]
            problem = no_dialect(platform, self.files.dialects.files)
            found.append(UnknownPlatform(platform, tuple(some), problem, tuple(samples)))
        return tuple(found)

    def configuration(self, device: Device) -> str | None:
        """Return the file of a device's configuration, from the folder; None if there is none."""
        file = self.files.configuration(device)
        return file if file is not None and (self.folder / file).exists() else None

    def reaches(self, devices: Iterable[Device]) -> dict[str, Reach]:
        """Return how devices are reached, by name, if the fleet says anything about that."""
        rules = self.fleet.ways.rules
        return {d.name: reach_of(rules, d) for d in devices if rules or d.reach is not None}

    def use_text(self, device: Device, file: str) -> None:
        """Use the configuration in this file for a device; '-' is standard input."""
        limits = self.files.limits
        if file == "-":
            self.files.replace_text(device, read_stdin("standard input", limits), "standard input")
        else:
            self.files.replace_text(device, read_configuration(Path(file), file, limits), file)

    def statements(self, devices: Iterable[Device]) -> LinesOf:
        """Return the function that gives the statement at a place of these devices'
        configurations.
        """
        from ivrel.sources.lines import LinesOf

        return LinesOf(self.files, tuple(devices))

    def read(self, device: Device | str, settings: Iterable[str] = ()) -> DeviceReading:
        """Return the reading of one configuration; `settings`: only about these.

        Raise Unreadable if it cannot be read.
        """
        from ivrel.work.reading import reading_of

        one = device if isinstance(device, Device) else self.device(device)
        return reading_of(self.files, one, known_settings(settings))

    def audit(
        self,
        settings: Iterable[str] = (),
        heard: Iterable[str] = (),
        at: Mapping[str, Iterable[str]] | None = None,
        messages: MessageFiles | None = None,
        **selection: Unpack[SelectionOptions],
    ) -> Audit:
        """Return the audit of devices: iterate over it for the result of each device.

        `settings`: only these; `heard`, `at`: files of messages, compared with the verdicts;
        `messages`: the same with other options of reading.

        >>> import ivrel
        >>> for result in ivrel.open("skerry").audit(devices=["tarsk-fw2"], settings=["level"]):
        ...     for verdict in result.verdicts:
        ...         print(verdict.setting, verdict.verdict, verdict.why)
        level breaks beacon-a misses critical
        """
        from ivrel.work.audit import Audit

        given = messages or self.messages_from(heard, at or {})
        devices = self.select(**selection)
        return Audit(self.files, self.options, devices, known_settings(settings), given)

    def explain(
        self,
        device: Device | str,
        settings: Iterable[str] = (),
        messages: MessageFiles | None = None,
    ) -> Explanation:
        """Return one device's verdicts with its correction and what messages claim."""
        from ivrel.work.explaining import explained

        one = device if isinstance(device, Device) else self.device(device)
        return explained(self.files, self.options, one, known_settings(settings), messages)

    def correct(
        self,
        settings: Iterable[str] = (),
        waves: WaveOptions | None = None,
        *,
        carry_out: bool = False,
        **selection: Unpack[SelectionOptions],
    ) -> Corrections:
        """Return the corrections of devices: iterate over them, or `write` them to a folder.

        `settings`: only these; `waves`: also plan the waves of a delivery; `carry_out`: have the
        platform's own program run what is corrected, in namespaces; InputError if that cannot be.

        >>> import ivrel
        >>> found = ivrel.open("skerry").correct(devices=["tarsk-fw2"]).collect()
        >>> [(c.device, c.proved) for c in found.changed]
        [('tarsk-fw2', True)]
        """
        from ivrel.work.correction import Corrections

        devices = self.select(**selection)
        names = known_settings(settings)
        return Corrections(self.files, self.options, devices, names, waves, carry_out=carry_out)

    def prove(
        self, path: Path | str, settings: Iterable[str] = (), **selection: Unpack[SelectionOptions]
    ) -> ProofResult:
        """Prove changes that exist against the configurations at hand.

        `path`: a folder with DEVICE/change.txt, or one file for one device.
        """
        from ivrel.work.proving import existing_changes, proofs_of

        existing = existing_changes(self.files, Path(path), self.select(**selection))
        return proofs_of(self.files, self.options, existing, known_settings(settings))

    def requirements(self, device: Device | str) -> tuple[Requirement, ...]:
        """Return the requirements of the policy for a device."""
        from ivrel.core.policy import effective

        one = device if isinstance(device, Device) else self.device(device)
        return tuple(effective(self.policy, one).values())

    def policy_remarks(self) -> tuple[Remark, ...]:
        """Return remarks on the policy: contradictions, rules that match no device, waivers that
        ran out.
        """
        from ivrel.core.judging.remarks import remarks

        devices = self.fleet.devices if self.has_fleet else ()
        # What the rules say is known also of a device whose platform has no dialect.
        platforms = {d.platform for d in devices} & set(self.files.dialects.files)
        dialects = {name: self.files.dialects[name] for name in platforms}
        return tuple(remarks(self.policy, devices, self.options.today, dialects))

    def undo(self) -> tuple[str, ...]:
        """Revert what `Corrections.apply` wrote last; return the files."""
        from ivrel.sources.in_place import undo

        return tuple(undo(self.folder))

    def compare(
        self,
        policy: Policy | Path | str,
        settings: Iterable[str] = (),
        **selection: Unpack[SelectionOptions],
    ) -> tuple[WhatIf, ...]:
        """Return the differences that another policy makes: verdicts and correction lines by
        device.
        """
        from ivrel.work.comparing import compared, policy_of

        other = policy if isinstance(policy, Policy) else policy_of(policy)
        devices = self.select(**selection)
        return compared(self.files, self.options, other, devices, known_settings(settings))

    def messages_from(
        self,
        files: Iterable[str] = (),
        at: Mapping[str, Iterable[str]] | None = None,
        **options: Unpack[RecordFormatOptions],
    ) -> MessageFiles:
        """Return files of messages for a run; `at`: files by the collector that wrote them."""
        from ivrel.core.attribution.filtering import Period
        from ivrel.work.message_files import MessageFiles

        return MessageFiles(
            tuple(map(str, files)),
            {name: tuple(map(str, some)) for name, some in (at or {}).items()},
            options.get("form", ""),
            options.get("line_format", ""),
            zone=options.get("zone", UTC),
            period=Period(options.get("since"), options.get("until")),
        )

    def heard(
        self,
        files: Iterable[str] = (),
        at: Mapping[str, Iterable[str]] | None = None,
        settings: Iterable[str] = (),
        messages: MessageFiles | None = None,
        **selection: Unpack[SelectionOptions],
    ) -> HeardResult:
        """Return the claims that messages prove and contradict, device by device.

        `files`: files of messages; `at`: files by the collector that wrote them; `messages`: the
        same with other options of reading.
        """
        from ivrel.work.evidence import heard

        given = messages or self.messages_from(files, at)
        devices = self.select(**selection)
        return heard(self.files, given, self.options, devices, known_settings(settings))

    def why(
        self,
        device: Device | str,
        settings: Iterable[str] = (),
        messages: MessageFiles | None = None,
    ) -> Why:
        """Return all that is known of one device: its configuration, its messages, and the way
        between.
        """
        from ivrel.work.message_files import MessageFiles
        from ivrel.work.why import why

        one = device if isinstance(device, Device) else self.device(device)
        given = messages or MessageFiles()
        return why(self.files, self.options, one, given, known_settings(settings))

    def kept(self, own: Mapping[str, Sequence[str]], messages: MessageFiles) -> KeptResult:
        """Return the state of each message that devices kept themselves.

        `own`: the files of a device's own log, by device; `messages`: what collectors received.
        """
        from ivrel.work.evidence import kept

        return kept(self.files, messages, own)

    def messages(self, messages: MessageFiles, wanted: Wanted | None = None) -> MessageList:
        """Return the wanted messages (default: all), in the order of their arrival."""
        from ivrel.core.attribution.filtering import Wanted
        from ivrel.work.messages import messages_of

        return messages_of(self.files, messages, wanted or Wanted())

    def trace(self, file: str, line: int | None = None, device: str = "") -> MessageTrace:
        """Return one message with all decisions about it; without `line`, the last of a device."""
        from ivrel.work.messages import traced

        return traced(self.files, self.messages_from([file]), line, device)

    def measure(self, messages: MessageFiles, **selection: Unpack[SelectionOptions]) -> Measuring:
        """Return the measurements of messages, by silence, clocks, losses and volume."""
        from ivrel.work.measuring import Measuring

        return Measuring(self.files, messages, self.options, self.select(**selection))

    def gather(
        self, how: GatherOptions | None = None, **selection: Unpack[SelectionOptions]
    ) -> tuple[GatheredDevice, ...]:
        """Fetch configurations from devices into the workspace; return each device's state."""
        from ivrel.work.gathering import GatherOptions, gathered

        devices = self.select(**selection)
        return gathered(self.files, self.options, devices, how or GatherOptions())

    def learn_host_keys(self, at_once: int = 50, **selection: Unpack[SelectionOptions]) -> HostKeys:
        """Ask devices for their host keys, and record those that are not known yet."""
        from ivrel.work.gathering import host_keys

        return host_keys(self.files, self.options, self.select(**selection), at_once)

    def deliveries(self, watch: DeliveryWatch | None = None) -> Deliveries:
        """Return the deliveries of the workspace: deliver, resume, record, release.

        Close it after use, or use it in a `with` statement. `watch`: who is asked and told.
        """
        from ivrel.work.delivery import Deliveries, DeliveryWatch

        return Deliveries(self.files, self.options, watch or DeliveryWatch())


def known_settings(names: Iterable[str]) -> tuple[str, ...]:
    """Return names of settings. Raise InputError for one that there is not."""
    given = tuple(names)
    unknown = [name for name in given if name not in SETTINGS]
    if unknown:
        raise InputError([Mistake("", f"setting {not_one_of(n, SETTINGS)}") for n in unknown])
    return given
