"""One run of a delivery: what it was called with, what it listens to, what it asks."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import signal
import sys
import time
from collections import Counter
from collections.abc import Coroutine, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import Struct

from ivrel.cli import common, evidence, listen
from ivrel.cli.bar import Bar
from ivrel.core.correcting import Written
from ivrel.core.delivery.dialog import Exchange
from ivrel.core.delivery.owners import Owners
from ivrel.core.delivery.window import Window
from ivrel.core.reach import PATIENCE
from ivrel.core.vocabulary.errors import InputError
from ivrel.core.vocabulary.wording import counted
from ivrel.live.course import DeliveryOptions, DeliveryResult
from ivrel.live.delivering import Delivering, DeliveryLimits, beside
from ivrel.live.hearing import Hearing, following
from ivrel.live.hooks import Hooks
from ivrel.live.journal import DeviceEntry, Journal
from ivrel.live.proving import Prover
from ivrel.live.targets import targets_of
from ivrel.sources.workspace import Workspace

if TYPE_CHECKING:
    from ivrel.sources.listening.session import Session

SPARE = 10  # seconds of a trial beyond those in which a message is expected


class Call(Struct, frozen=True):
    """What a delivery was called with, as far as `--resume` needs it again."""

    dry: bool = False
    rehearse: bool = False
    stop_after: int = 1
    at_once: int = 10
    ask: bool = False
    last_look: bool = True
    again: bool = False
    expect: bool = False
    within: float = 30.0
    heard: str = ""
    udp: tuple[int, ...] = ()
    tcp: tuple[int, ...] = ()
    tls: tuple[int, ...] = ()
    on: tuple[str, ...] = ()
    certificate: str = ""
    key: str = ""
    clients: str = ""
    settings: tuple[str, ...] = ()
    policy: str = ""
    today: str = ""
    approved: str = ""
    signers: str = ""
    between: tuple[str, str] = ("", "")

    @property
    def window(self) -> Window | None:
        """The hours in which devices are begun; None if that is any time."""
        return Window.of(*self.between) if all(self.between) else None

    @classmethod
    def of(cls, args: argparse.Namespace) -> Call:
        """Return what is asked for; InputError if it does not fit together."""
        ways = ("udp", "tcp", "tls")
        ports = {n: tuple(p for some in getattr(args, n) for p in some) for n in ways}
        listens = any(ports.values())
        if (listens or args.heard) and not args.expect:
            said = "ports and --heard say where messages are expected; give --expect with them"
            raise InputError(said)
        if args.expect and not listens and not args.heard:
            raise InputError("--expect needs to hear: give ports (--udp 514), or --heard DIR")
        if args.approved and args.prove_again:
            said = "--approved sends what was signed, and --prove-again what is computed anew"
            raise InputError(f"{said}; choose one")
        if args.signers and not args.approved:
            raise InputError("--signers says who may sign; give --approved SIGNATURE with it")
        if args.heard and not Path(args.heard).is_dir():
            raise InputError(f"{args.heard}: no such folder; expected that of `ivrel listen -o`")
        if bool(args.between) != bool(args.until):
            raise InputError("--between TIME and --and TIME belong together")
        if args.between:
            try:
                Window.of(args.between, args.until)
            except ValueError as problem:
                raise InputError(
                    f"--between {args.between} --and {args.until}: {problem}"
                ) from None
        ask = args.ask if args.ask is not None else sys.stdin.isatty() and sys.stdout.isatty()
        return cls(
            dry=args.dry_run or args.rehearse,
            rehearse=args.rehearse,
            stop_after=args.stop_after,
            at_once=args.at_once,
            ask=ask,
            last_look=args.last_look,
            again=args.prove_again,
            expect=args.expect,
            within=args.within,
            heard=str(Path(args.heard).absolute()) if args.heard else "",
            **ports,
            on=tuple(args.on),
            certificate=args.certificate or "",
            key=args.key or "",
            clients=args.clients or "",
            settings=common.settings(args.setting),
            policy=args.policy,
            today=common.day(args).isoformat(),
            approved=str(Path(args.approved).absolute()) if args.approved else "",
            signers=str(Path(args.signers).absolute()) if args.signers else "",
            between=(args.between or "", args.until or ""),
        )

    @classmethod
    def read(cls, options: str, args: argparse.Namespace) -> Call:
        """Return what an earlier run was called with; whether to ask is a matter of this one."""
        call = msgspec.json.decode(options, type=cls)
        ask = args.ask if args.ask is not None else sys.stdin.isatty() and sys.stdout.isatty()
        return msgspec.structs.replace(call, ask=ask)

    @property
    def encoded(self) -> str:
        """The call as text."""
        return msgspec.json.encode(self).decode()


class Run(Struct, frozen=True):
    """How one device fared in this run."""

    seconds: float
    anew: tuple[str, ...]


def deliver(
    call: Call,
    workspace: Workspace,
    journal: Journal,
    number: int,
    written: Mapping[str, Written],
    waves: Sequence[Sequence[str]],
    held: Sequence[DeviceEntry] = (),
) -> tuple[str, Mapping[str, Run]]:
    """Carry a delivery out; return why it was stopped, '' if it was not, and how each device
    fared.
    """
    names = {name for wave in waves for name in wave} | {entry.device for entry in held}
    devices = [d for d in workspace.fleet.devices if d.name in names]
    targets = {t.device.name: t for t in targets_of(workspace, devices)}
    day = date.fromisoformat(call.today)
    prover = Prover(
        workspace.policy, day, Owners(workspace.fleet.devices), call.settings, again=call.again
    )
    trial = int(call.within) + SPARE if call.expect else 0
    asked = DeliveryOptions(trial, call.within, call.dry, call.rehearse, call.last_look)
    hearing = _hearing(call, workspace) if call.expect and not call.dry else None
    # Where nothing is sent, nothing has to be stopped: all is reported at once.
    stop_after = len(names) + 1 if call.dry else call.stop_after
    limits = DeliveryLimits(stop_after, call.at_once, None if call.dry else call.window)
    hooks = None if call.dry else _hooks(workspace, journal, number)
    one = Delivering(journal, number, targets, written, prover, asked, limits, hearing, hooks)
    came: dict[str, Run] = {}
    bar = Bar(len(names), "delivering")

    def done(outcome: DeliveryResult) -> None:
        came[outcome.device] = Run(outcome.seconds, outcome.anew)
        bar.step()

    async def go() -> None:
        _heed_interrupts(one)
        # What waits for answers, or proves, in threads needs one for each device.
        threads = ThreadPoolExecutor(call.at_once + 4)
        asyncio.get_running_loop().set_default_executor(threads)
        ready = asyncio.Event()
        async with beside(ready, *_listeners(call, hearing, ready)):
            await one.settle(held, done)
            await one.deliver(waves, _Between(call, waves, bar), done)
        if one.waits:
            left = max(0.0, one.waits - time.monotonic())
            bar.says(f"last look, in {left:.0f} s")
            await one.last_look(done)
        if hooks is not None and (one.begun or held):
            ends = [
                {"device": e.device, "state": e.state, "why": e.why}
                for e in journal.entries(number)
            ]
            await hooks.call("end", devices=ends, stopped=one.stopped)

    with bar:
        asyncio.run(go())
    one.finish()
    return one.stopped, came


def _hooks(workspace: Workspace, journal: Journal, number: int) -> Hooks:
    """Return the programs that are called around a delivery, with what they are told of it."""
    told = journal.delivery(number)
    assert told is not None  # it was begun before
    facts = {
        "delivery": number,
        "fleet": workspace.fleet.name,
        "who": told.who,
        "folder": told.folder,
    }

    def note(moment: str, said: Sequence[Exchange]) -> None:
        journal.note(number, "", moment, said)

    return Hooks(workspace.fleet.ways.on, facts, note, PATIENCE)


def _heed_interrupts(one: Delivering) -> None:
    """Have the first interrupt end the delivery gently, and the second at once."""
    loop = asyncio.get_running_loop()

    def stop() -> None:
        one.stop("you interrupted it")
        print("No further devices are started; those in progress are finished.", file=sys.stderr)
        loop.remove_signal_handler(signal.SIGINT)

    with contextlib.suppress(NotImplementedError):
        loop.add_signal_handler(signal.SIGINT, stop)


class _Between:
    """Asks between two waves whether to go on, if that is asked for."""

    def __init__(self, call: Call, waves: Sequence[Sequence[str]], bar: Bar) -> None:
        self._call, self._waves, self._bar = call, waves, bar

    async def __call__(self, wave: int, came: Sequence[DeliveryResult]) -> bool:
        if not self._call.ask:
            return True
        self._bar.pause()
        told = ", ".join(f"{n} {state}" for state, n in Counter(o.state for o in came).items())
        for outcome in came:
            if outcome.why:
                print(f"{outcome.device}  {outcome.state}: {outcome.why}")
        devices = counted(len(self._waves[wave - 1]), "device")
        asked = f"So far: {told}. Go on with wave {wave} of {len(self._waves)}, {devices}? [y/N] "
        try:
            said = await asyncio.to_thread(input, asked)
        except EOFError:
            return False
        self._bar.go_on()
        return said.strip().lower() in ("y", "yes")


def _hearing(call: Call, workspace: Workspace) -> Hearing:
    directory = evidence.directory_of(workspace)
    today = date.fromisoformat(call.today)
    return Hearing(workspace.fleet.devices, workspace.policy, directory, today)


def _listeners(
    call: Call, hearing: Hearing | None, ready: asyncio.Event
) -> list[Coroutine[Any, Any, None]]:
    """Return what brings messages while the delivery runs; `ready`: set when they can be heard."""
    if hearing is None:
        ready.set()
        return []
    out: list[Coroutine[Any, Any, None]] = []
    if call.heard:
        out.append(following(Path(call.heard), hearing.take))
    if call.udp or call.tcp or call.tls:
        out.append(_session(call, hearing).serve(ready.set))
    else:
        ready.set()
    return out


def _session(call: Call, hearing: Hearing) -> Session:
    """Return a listener of the delivery's own."""
    from ivrel.sources.listening.session import ListenOptions as Listening
    from ivrel.sources.listening.session import Session
    from ivrel.sources.listening.sockets import ListenPort, tls_context

    if bool(call.tls) != bool(call.certificate):
        raise InputError("--tls and --certificate belong together; give both or none")
    ways = tuple(ListenPort(n, port) for n in ("udp", "tcp", "tls") for port in getattr(call, n))
    asked = Listening(ways, listen.addresses(call.on))
    context = None
    if call.certificate:
        files = (Path(name) if name else None for name in (call.key, call.clients))
        context = tls_context(Path(call.certificate), *files)
    return Session(asked, context, hearing.take)
