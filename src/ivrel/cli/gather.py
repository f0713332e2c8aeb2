"""`ivrel gather`: fetches the configurations from the devices."""

from __future__ import annotations

import argparse
import asyncio
import time
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.bar import Bar
from ivrel.cli.parsing import SPEED, Parser

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ivrel.core.delivery.owners import Owners
    from ivrel.live.gathering import Fetched, Shown
    from ivrel.live.links import Target
    from ivrel.output.views.gathered import GatheredDevice, HostKey
    from ivrel.sources.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.format_argument(parser, "table", "json", "jsonl", "csv")
    at_once_argument(parser)
    parser.add_argument(
        "--since", action="store_true", help="show the statements that changed since the last time"
    )
    parser.add_argument(
        "--learn-keys",
        action="store_true",
        help="show the devices' host keys, and record those not known yet",
    )
    parser.add_argument(
        "--rename-ok",
        action="store_true",
        help="accept configurations that name another device",
    )
    parser.add_argument(
        "--shrunk-ok",
        action="store_true",
        help="accept configurations that lost most of their statements since the last time",
    )
    parser.add_argument("--all", action="store_true", help="list unchanged devices too")
    common.example(
        parser,
        "ivrel gather --learn-keys --site tarsk",
        "ivrel gather",
        "ivrel gather --since --kind firewall --at-once 10",
    )
    parser.set_defaults(run=run)


def at_once_argument(parser: Parser, most: int = 50) -> None:
    """Add the option that says how many devices are talked to at a time."""
    parser.group(SPEED).add_argument(
        "--at-once",
        type=common.whole_number,
        default=most,
        metavar="N",
        help=f"number of devices to talk to at the same time (default: {most})",
    )


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.live.targets import targets_of

    workspace = common.open_workspace(args)
    chosen = common.chosen(args, workspace)
    targets = targets_of(workspace, workspace.with_dialect(chosen))
    code = _learn(args, targets) if args.learn_keys else _gather(args, workspace, targets)
    # Nobody knows how to talk to the others.
    return max(code, int(len(targets) < len(chosen)))


def _gather(args: argparse.Namespace, workspace: Workspace, targets: Sequence[Target]) -> int:
    from ivrel.core.delivery.owners import Owners
    from ivrel.live.gathering import fetched, through
    from ivrel.output.views.gathered import GatheredView

    begun, by_name = time.monotonic(), {t.device.name: t for t in targets}
    owners = Owners(workspace.fleet.devices)

    async def go() -> list[GatheredDevice]:
        found = []
        with Bar(len(targets), "gathering") as bar:
            async for one in through(targets, fetched, args.at_once):
                found.append(_written(args, workspace, owners, by_name[one.device], one))
                bar.step()
        return found

    done = {one.device: one for one in asyncio.run(go())}
    devices = tuple(done[t.device.name] for t in targets)
    failed = any(d.problem for d in devices)
    where = common.workspace_words(args)
    unknown = any("--learn-keys" in d.problem for d in devices)
    further = [f"ivrel gather{where} --learn-keys"] if unknown else []
    if not all(d.problem for d in devices):
        further += [f"ivrel audit{where}"]
    common.show(
        GatheredView(
            fleet=workspace.fleet.name,
            devices=devices,
            tells_how=args.since,
            seconds=time.monotonic() - begun,
            every=args.all,
            next=tuple(further),
        ),
        args,
    )
    return 1 if failed else 0


def _written(
    args: argparse.Namespace, workspace: Workspace, owners: Owners, target: Target, one: Fetched
) -> GatheredDevice:
    """Write what was fetched of a device, if it changed, and return what is to be told."""
    from ivrel.core.delivery.shrinking import shrunk
    from ivrel.core.delivery.standing import differs
    from ivrel.core.vocabulary.errors import IvrelError
    from ivrel.output.views.gathered import GatheredDevice
    from ivrel.sources.gathered import keep_beside, standing_text, write_gathered

    device, problem = target.device, one.problem
    old = None if problem else standing_text(workspace, device)
    is_same = old is not None and not differs(target.dialect, one.data, old)
    # What is there already was held against the fleet when it was written.
    if not problem and not args.rename_ok and not is_same:
        against = owners.against(device, target.dialect, one.data)
        problem = (
            f"{against}; if that is right, use --rename-ok, or names: in the fleet"
            if against
            else ""
        )
    if problem:
        return GatheredDevice(device.name, device.platform, "not gathered", problem=problem)
    try:
        if old == one.data:
            shown = workspace.configuration(device) or ""
            return GatheredDevice(
                device.name, device.platform, "as before", shown, remark=one.remark
            )
        less = ""
        if old is not None and not is_same and not args.shrunk_ok:
            less = shrunk(target.dialect, old, one.data)
        if less:
            beside = keep_beside(workspace, device, one.data)
            said = f"{less}; saved as {beside}; --shrunk-ok accepts it"
            return GatheredDevice(device.name, device.platform, "kept beside", problem=said)
        shown = write_gathered(workspace, device, one.data)
    except IvrelError as problem:
        return GatheredDevice(device.name, device.platform, "not gathered", problem=str(problem))
    gone, come = _how(target, old, one.data) if args.since and old is not None else ((), ())
    state = "other layout" if is_same else "new" if old is None else "changed"
    return GatheredDevice(device.name, device.platform, state, shown, "", gone, come, one.remark)


def _how(target: Target, old: bytes, new: bytes) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Return the statements of export settings that are gone, and those that have come."""
    from ivrel.core.correcting.difference import changed_statements
    from ivrel.core.reading import read_records
    from ivrel.core.reading.secrets import masked
    from ivrel.core.vocabulary.errors import Unreadable

    try:
        before, after = (read_records(target.dialect, data) for data in (old, new))
    except Unreadable as problem:
        return (), (f"it cannot be read: {problem}",)
    gone, come = changed_statements(before, after)
    return tuple(map(masked, gone)), tuple(map(masked, come))


def _learn(args: argparse.Namespace, targets: Sequence[Target]) -> int:
    """Show the host keys, and record those that are not known."""
    from itertools import groupby

    from ivrel.live.targets import hosts_between
    from ivrel.output.views.gathered import HostKeysView

    keys, access = [], targets[0].access
    # A host is logged in to only when its key is known: those that others are behind come first.
    for _, some in groupby(hosts_between(targets), key=lambda one: len(one.between)):
        keys += _learn_some(args, list(some))
    keys += _learn_some(args, targets)
    where = common.workspace_words(args)
    further = (f"ivrel gather{where}{common.chosen_words(args)}",)
    common.show(
        HostKeysView(keys=tuple(keys), file=str(access.file), every=args.all, next=further), args
    )
    return 0 if all(k.state in ("learnt", "known") for k in keys) else 1


def _learn_some(args: argparse.Namespace, targets: Sequence[Target]) -> list[HostKey]:
    from ivrel.live.gathering import shown_key, through

    async def go() -> dict[str, Shown]:
        found = {}
        with Bar(len(targets), "asking") as bar:
            async for one in through(targets, shown_key, args.at_once):
                found[one.device] = one
                bar.step()
        return found

    found = asyncio.run(go())
    keys = [_key(target, found[target.device.name]) for target in targets]
    learnt = {k.device for k in keys if k.state == "learnt"}
    targets[0].access.learn(
        (t.reach, key)
        for t in targets
        if t.device.name in learnt and (key := found[t.device.name].key) is not None
    )
    return keys


def _key(target: Target, shown: Shown) -> HostKey:
    from ivrel.core.vocabulary.errors import Unreachable
    from ivrel.live.access import fingerprint
    from ivrel.output.views.gathered import HostKey

    reach, name = target.reach, target.device.name
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
