"""Fetching configurations and host keys from devices into a workspace."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Sequence
from functools import partial
from itertools import groupby

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting.difference import changed_statements
from ivrel.core.delivery.gathering import GatheredDevice, HostKey
from ivrel.core.delivery.owners import Owners
from ivrel.core.delivery.shrinking import shrunk
from ivrel.core.delivery.standing import differs
from ivrel.core.fleet import Device
from ivrel.core.reading import read_records
from ivrel.core.reading.secrets import masked
from ivrel.core.vocabulary.errors import IvrelError, Unreachable, Unreadable
from ivrel.live.access import fingerprint
from ivrel.live.gathering import AT_ONCE, Fetched, Shown, fetched, shown_key, through
from ivrel.live.links import Target
from ivrel.live.targets import hosts_between, targets_of
from ivrel.sources.displays import keep_display
from ivrel.sources.gathered import keep_beside, standing_text, write_gathered
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.run import RunOptions


class GatherOptions(Struct, frozen=True):
    """How configurations are fetched.

    `at_once`: number of devices to talk to at the same time; `since`: also return the statements
    that changed; `rename_ok`: accept configurations that name another device; `shrunk_ok`: accept
    configurations that lost most of their statements; `state`: also keep what each device shows of
    its present state.
    """

    at_once: int = AT_ONCE
    since: bool = False
    rename_ok: bool = False
    shrunk_ok: bool = False
    state: bool = False


USUAL = GatherOptions()


class HostKeys(Struct, frozen=True):
    """The host keys of devices; `file`: where they are recorded."""

    keys: tuple[HostKey, ...]
    file: str


def gathered(
    files: WorkspaceFiles,
    options: RunOptions,
    devices: Iterable[Device],
    how: GatherOptions = USUAL,
) -> tuple[GatheredDevice, ...]:
    """Fetch configurations, write those that changed, and return the state of each device.

    Devices of a platform without dialect are left out.
    """
    targets = targets_of(files, files.with_dialect(devices))
    by_name = {t.device.name: t for t in targets}
    owners = Owners(files.fleet.devices)
    done: dict[str, GatheredDevice] = {}

    async def fetch_all() -> None:
        async for one in through(targets, partial(fetched, with_display=how.state), how.at_once):
            target = by_name[one.device]
            written = _written(files, owners, target, one, how)
            done[one.device] = _with_display(files, target, one, written)
            if options.progress is not None:
                options.progress("gathering", len(done), len(targets))

    asyncio.run(fetch_all())
    return tuple(done[t.device.name] for t in targets)


def _with_display(
    files: WorkspaceFiles, target: Target, one: Fetched, written: GatheredDevice
) -> GatheredDevice:
    """Keep what a device showed of its state, and return the device with the file."""
    # What was said by another device than expected is not kept under this one's name.
    if one.display is None or one.taken is None or written.problem:
        return replace(written, no_display=one.no_display)
    try:
        shown = keep_display(files, target.device, one.display, one.taken)
    except IvrelError as problem:
        return replace(written, no_display=str(problem))
    return replace(written, display=shown)


def _written(
    files: WorkspaceFiles, owners: Owners, target: Target, one: Fetched, how: GatherOptions
) -> GatheredDevice:
    """Write what was fetched of a device, if it changed, and return the device's state."""
    device = target.device
    problem = one.problem
    old = None if problem else standing_text(files, device)
    is_same = old is not None and not differs(target.dialect, one.data, old)
    # An unchanged text was compared with the fleet when it was written.
    if not problem and not how.rename_ok and not is_same:
        against = owners.against(device, target.dialect, one.data)
        if against:
            problem = f"{against}; if that is right, use --rename-ok, or names: in the fleet"
    if problem:
        return GatheredDevice(device.name, device.platform, "not gathered", problem=problem)
    try:
        if old == one.data:
            shown = files.configuration(device) or ""
            return GatheredDevice(
                device.name, device.platform, "as before", shown, remark=one.remark
            )
        less = ""
        if old is not None and not is_same and not how.shrunk_ok:
            less = shrunk(target.dialect, old, one.data)
        if less:
            beside = keep_beside(files, device, one.data)
            said = f"{less}; saved as {beside}; --shrunk-ok accepts it"
            return GatheredDevice(device.name, device.platform, "kept beside", problem=said)
        shown = write_gathered(files, device, one.data)
    except IvrelError as error:
        return GatheredDevice(device.name, device.platform, "not gathered", problem=str(error))
    gone: tuple[str, ...] = ()
    come: tuple[str, ...] = ()
    if how.since and old is not None:
        gone, come = _changed(target, old, one.data)
    state = "other layout" if is_same else "new" if old is None else "changed"
    return GatheredDevice(device.name, device.platform, state, shown, "", gone, come, one.remark)


def _changed(target: Target, old: bytes, new: bytes) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Return the statements of export settings that were removed, and those that were added."""
    try:
        before = read_records(target.dialect, old)
        after = read_records(target.dialect, new)
    except Unreadable as problem:
        return (), (f"it cannot be read: {problem}",)
    gone, come = changed_statements(before, after)
    return tuple(map(masked, gone)), tuple(map(masked, come))


def host_keys(
    files: WorkspaceFiles, options: RunOptions, devices: Iterable[Device], at_once: int = AT_ONCE
) -> HostKeys:
    """Return the host keys of devices and of the hosts in between; record those not known yet."""
    targets = targets_of(files, files.with_dialect(devices))
    keys: list[HostKey] = []
    # A host is logged in to only when its key is known, so the hosts in between come first.
    for _, some in groupby(hosts_between(targets), key=lambda one: len(one.between)):
        keys += _learned(options, list(some), at_once)
    keys += _learned(options, targets, at_once)
    return HostKeys(tuple(keys), str(targets[0].access.file))


def _learned(options: RunOptions, targets: Sequence[Target], at_once: int) -> list[HostKey]:
    found: dict[str, Shown] = {}

    async def ask_all() -> None:
        async for one in through(targets, shown_key, at_once):
            found[one.device] = one
            if options.progress is not None:
                options.progress("asking", len(found), len(targets))

    asyncio.run(ask_all())
    keys = [_key(target, found[target.device.name]) for target in targets]
    learned = []
    for target, key in zip(targets, keys, strict=True):
        shown = found[target.device.name].key
        if key.state == "learnt" and shown is not None:
            learned.append((target.reach, shown))
    targets[0].access.learn(learned)
    return keys


def _key(target: Target, shown: Shown) -> HostKey:
    reach = target.reach
    name = target.device.name
    if shown.key is None:
        return HostKey(name, reach.address, reach.port, problem=shown.problem)
    try:
        known = target.access.host_keys(reach)
    except Unreachable:
        state = "learnt"
    else:
        state = "known" if shown.key in known else "another"
    kind = shown.key.get_algorithm()
    return HostKey(name, reach.address, reach.port, kind, fingerprint(shown.key), state)
