"""Deliveries: corrections are sent to devices in waves; each is recorded in the journal."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Collection, Coroutine, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting import Written
from ivrel.core.delivery import WaveCandidate, in_waves
from ivrel.core.delivery.course import HELD, WAITING
from ivrel.core.delivery.dialog import Exchange
from ivrel.core.delivery.owners import Owners
from ivrel.core.delivery.record import DeliveryRecord, DeliveryStep, DeviceDelivery
from ivrel.core.delivery.window import Window
from ivrel.core.fleet import Device
from ivrel.core.reach import PATIENCE
from ivrel.core.vocabulary.errors import InputError
from ivrel.core.vocabulary.wording import plain
from ivrel.live.course import DeliveryOptions, DeliveryResult
from ivrel.live.delivering import Delivering, DeliveryLimits, beside
from ivrel.live.hearing import Hearing, following
from ivrel.live.hooks import Hooks
from ivrel.live.journal import Delivery, DeviceEntry, Journal
from ivrel.live.proving import Prover
from ivrel.live.targets import own_folder, targets_of
from ivrel.sources.approval import SIGNERS, approved_by
from ivrel.sources.corrections import CHANGE, read_corrections, read_waves
from ivrel.sources.listening.session import ListenOptions, ListenSession
from ivrel.sources.listening.sockets import tls_context
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.correction import WaveOptions, order_of
from ivrel.work.listening import listen_addresses, listen_ports
from ivrel.work.messages import directory_of
from ivrel.work.run import RunOptions

__all__ = ["Deliveries", "DeliveryCall", "DeliveryResult", "DeliveryWatch"]

SPARE = 10  # seconds of a trial beyond those in which a message is expected


class DeliveryCall(Struct, frozen=True):
    """What a delivery is asked to do; the journal keeps it, and `resume` reads it again.

    dry: connect, fetch, compare and prove, but change nothing.
    rehearse: as `dry`, and let each device that can do so try the change and discard it.
    stop_after: begin no further devices after this many failures.
    at_once: number of devices to talk to at the same time.
    last_look: read devices again once every trial has expired.
    again: prove a correction again if the configuration changed since, and send that.
    expect: confirm each change only after a message from the device arrives.
    within: seconds to wait for that message.
    heard: folder where `ivrel listen` keeps recordings, instead of listening.
    udp, tcp, tls: ports to listen on; on: addresses; certificate, key, clients: files for TLS.
    settings: prove only these settings, if any.
    policy, today: another policy file; the day that waivers are judged for.
    approved: file of the signature that is required; signers: who may sign.
    between: begin and end of the maintenance window, local time, such as ("22:00", "04:00").
    """

    dry: bool = False
    rehearse: bool = False
    stop_after: int = 1
    at_once: int = 10
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
        """The hours when devices are begun; None if that is any time."""
        return Window.of(*self.between) if all(self.between) else None

    @property
    def is_dry(self) -> bool:
        """Whether nothing is changed."""
        return self.dry or self.rehearse

    def check(self) -> None:
        """Raise InputError if the fields contradict each other."""
        listens = bool(self.udp or self.tcp or self.tls)
        if (listens or self.heard) and not self.expect:
            said = "ports and --heard say where messages are expected; give --expect with them"
            raise InputError(said)
        if self.expect and not listens and not self.heard:
            raise InputError("--expect needs to hear: give ports (--udp 514), or --heard DIR")
        if self.approved and self.again:
            said = "--approved sends what was signed, and --prove-again what is computed again"
            raise InputError(f"{said}; choose one")
        if self.signers and not self.approved:
            raise InputError("--signers says who may sign; give --approved SIGNATURE with it")
        if self.heard and not Path(self.heard).is_dir():
            raise InputError(f"{self.heard}: no such folder; expected that of `ivrel listen -o`")
        begin, end = self.between
        if bool(begin) != bool(end):
            raise InputError("--between TIME and --and TIME belong together")
        try:
            _ = self.window
        except ValueError as problem:
            raise InputError(f"--between {begin} --and {end}: {problem}") from None


# Called between two waves with the number of the next wave, the number of its devices, how many
# waves there are, and the results so far; returns whether to continue.
BetweenWaves = Callable[[int, int, int, Sequence[DeliveryResult]], Awaitable[bool]]
# Called when a delivery begins, with a function that ends it gently, for the reason given.
Begun = Callable[[Callable[[str], None]], None]


class DeliveryWatch(Struct, frozen=True):
    """Who is asked and told during a delivery. `begun` is called inside the event loop."""

    between: BetweenWaves | None = None
    begun: Begun | None = None


NOBODY = DeliveryWatch()
USUAL = DeliveryCall()


class Deliveries:
    """The deliveries of a workspace, with their journal. As a context: closes the journal."""

    def __init__(
        self, files: WorkspaceFiles, options: RunOptions, watch: DeliveryWatch = NOBODY
    ) -> None:
        self._files = files
        self._options = options
        self._watch = watch
        self._journal = Journal(own_folder(files))

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        problem: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the journal."""
        self._journal.close()

    def deliver(
        self, folder: Path | str, devices: Sequence[Device], call: DeliveryCall = USUAL
    ) -> DeliveryRecord:
        """Send the corrections of a folder to devices, in waves; return the record.

        Raise InputError if the folder has no corrections of these devices, or is not signed.
        """
        call.check()
        folder = Path(folder)
        journal = self._journal
        call = replace(call, today=call.today or self._options.today.isoformat())
        approved = self._approved(call, folder)
        written, refused = self._written(folder, devices)
        self._approved(call, folder)  # what was read is what was signed
        waves = self._in_waves(folder, written)
        platforms = {d.name: d.platform for d in self._files.fleet.devices}
        rows = []
        for number, wave in enumerate(waves, 1):
            rows += [(name, number, platforms[name]) for name in wave]
        rows += [(name, 0, platforms.get(name, "")) for name in refused]
        encoded = msgspec.json.encode(call).decode()
        number = journal.begin(
            str(folder.absolute()), encoded, rows, dry=call.is_dry, approved=approved
        )
        for name, why in refused.items():
            journal.settle(number, name, "not begun", why)
        run = _Run(self._files, self._options, self._watch, journal, number, call)
        try:
            run.carry_out(written, waves)
        except InputError:
            journal.withdraw(number)  # if nothing was begun, there was no delivery
            raise
        return self._recorded(number, run)

    def resume(self) -> tuple[DeliveryRecord | None, str]:
        """Continue the delivery that was interrupted.

        Return its record, or None if there was none; and why its folder could not be read, or ''.
        """
        journal = self._journal
        one = journal.last(unfinished=True)
        if one is None:
            return None, ""
        journal.take_over(one.number)
        call = msgspec.json.decode(one.options, type=DeliveryCall)
        files = self._files
        if call.policy and not files.other_policy:
            files = files.with_policy(call.policy)
        written: Mapping[str, Written] = {}
        problem = ""
        try:
            self._approved(call, Path(one.folder))
            written, _ = self._written(Path(one.folder), files.fleet.devices)
            self._approved(call, Path(one.folder))
        except InputError as error:
            problem = str(error)  # what is in progress can be settled without the folder
        entries = journal.entries(one.number)
        held = [e for e in entries if e.state in HELD]
        run = _Run(files, self._options, self._watch, journal, one.number, call)
        run.carry_out(written, self._left(one, entries, written), held)
        return self._recorded(one.number, run), problem

    def record(self, number: int = 0) -> DeliveryRecord:
        """Return the record of a delivery, of the last one for 0. Raise InputError if none is."""
        one = self._journal.delivery(number) if number else self._journal.last()
        if one is None:
            raise InputError(
                f"there is no delivery {number}" if number else "there is no delivery yet"
            )
        return self._recorded(one.number)

    def release(self, device: str, because: str) -> int:
        """Release a device in doubt that a person checked; return the number of its delivery."""
        return self._journal.release(device, plain(because).strip())

    def _left(
        self, one: Delivery, entries: Sequence[DeviceEntry], written: Collection[str]
    ) -> list[list[str]]:
        """Return the waves of the devices that still wait."""
        waiting: dict[int, list[str]] = {}
        for entry in entries:
            if entry.state == WAITING and entry.device in written:
                waiting.setdefault(entry.wave, []).append(entry.device)
        # Devices that an older delivery left waiting had their turn in a later one.
        last = self._journal.last()
        is_last = last is not None and last.number == one.number
        return [waiting[n] for n in sorted(waiting)] if is_last or not one.ended else []

    def _approved(self, call: DeliveryCall, folder: Path) -> str:
        """Return who signed the folder; '' if no signature is required."""
        if not call.approved:
            return ""
        signers = Path(call.signers) if call.signers else self._files.folder / SIGNERS
        return approved_by(folder, Path(call.approved), signers)

    def _written(
        self, folder: Path, devices: Sequence[Device]
    ) -> tuple[Mapping[str, Written], Mapping[str, str]]:
        """Return the changes of a folder for some devices, and why others are not sent."""
        chosen = {d.name for d in devices}
        fleet = {d.name for d in self._files.fleet.devices}
        written: dict[str, Written] = {}
        refused: dict[str, str] = {}
        for name, one in read_corrections(folder).items():
            if name not in fleet:
                refused[name] = "no device of the fleet is called so"
            elif name not in chosen:
                continue
            elif isinstance(one, str):
                refused[name] = one
            elif not (folder / name / CHANGE).is_file():
                refused[name] = "its change is not proved"
            else:
                written[name] = one
        if not written and not refused:
            raise InputError(f"{folder} holds no change of the devices that are chosen")
        return written, refused

    def _in_waves(self, folder: Path, written: Collection[str]) -> list[list[str]]:
        """Return the waves of the change sheet; without one, waves that are made now."""
        waves = [[n for n in wave if n in written] for wave in read_waves(folder)]
        left = set(written)
        for wave in waves:
            left -= set(wave)
        if left:
            some = [d for d in self._files.fleet.devices if d.name in left]
            candidates = [WaveCandidate(d, 1, True, True) for d in some]
            made = in_waves(candidates, order_of(self._files, WaveOptions()))
            waves += [list(wave.devices) for wave in made]
        return [wave for wave in waves if wave]

    def _recorded(self, number: int, run: _Run | None = None) -> DeliveryRecord:
        journal = self._journal
        one = journal.delivery(number)
        assert one is not None  # it was begun before
        results = run.results if run is not None else {}
        devices = []
        for entry in journal.entries(number):
            steps = tuple(journal.steps(number, entry.device))
            devices.append(_device(entry, results.get(entry.device), steps))
        is_waiting = any(d.state == WAITING for d in devices)
        return DeliveryRecord(
            fleet=self._files.fleet.name,
            number=one.number,
            begun=one.begun,
            ended=one.ended,
            who=one.who,
            host=one.host,
            folder=one.folder,
            devices=tuple(devices),
            # If no device waits, nothing was left to stop.
            stopped=run.stopped if run is not None and is_waiting else "",
            called=tuple(journal.steps(number, "")),
        )


def _device(
    entry: DeviceEntry, result: DeliveryResult | None, steps: tuple[DeliveryStep, ...]
) -> DeviceDelivery:
    return DeviceDelivery(
        device=entry.device,
        platform=entry.platform,
        wave=entry.wave,
        state=entry.state,
        why=entry.why,
        seconds=result.seconds if result is not None else 0.0,
        change=entry.change,
        prints=(entry.before, entry.proved),
        before=dict(entry.verdicts),
        after=dict(entry.became),
        steps=steps,
        computed_again=result.computed_again if result is not None else (),
    )


class _Run:
    """One run of a delivery that the journal knows by its number."""

    def __init__(
        self,
        files: WorkspaceFiles,
        options: RunOptions,
        watch: DeliveryWatch,
        journal: Journal,
        number: int,
        call: DeliveryCall,
    ) -> None:
        self._files = files
        self._options = options
        self._watch = watch
        self._journal = journal
        self._number = number
        self._call = call
        self.results: dict[str, DeliveryResult] = {}
        self.stopped = ""

    def carry_out(
        self,
        written: Mapping[str, Written],
        waves: Sequence[Sequence[str]],
        held: Sequence[DeviceEntry] = (),
    ) -> None:
        """Deliver the waves; `held`: devices at which an earlier run was interrupted."""
        names = {entry.device for entry in held}
        for wave in waves:
            names |= set(wave)
        call = self._call
        hearing = self._hearing()
        hooks = None if call.is_dry else self._hooks()
        one = Delivering(
            self._journal,
            self._number,
            self._targets(names),
            written,
            self._prover(),
            self._delivery_options(),
            # Where nothing is sent, nothing has to be stopped: all is reported at once.
            DeliveryLimits(
                len(names) + 1 if call.is_dry else call.stop_after,
                call.at_once,
                None if call.is_dry else call.window,
            ),
            hearing,
            hooks,
        )

        def done(result: DeliveryResult) -> None:
            self.results[result.device] = result
            self._report("delivering", len(names))

        async def between(wave: int, results: Sequence[DeliveryResult]) -> bool:
            if self._watch.between is None:
                return True
            return await self._watch.between(wave, len(waves[wave - 1]), len(waves), results)

        async def run() -> None:
            if self._watch.begun is not None:
                self._watch.begun(one.stop)
            # Waiting for answers, and proofs, take a thread for each device.
            threads = ThreadPoolExecutor(call.at_once + 4)
            asyncio.get_running_loop().set_default_executor(threads)
            ready = asyncio.Event()
            async with beside(ready, *self._listeners(hearing, ready)):
                await one.settle(held, done)
                await one.deliver(waves, between, done)
            if one.waits:
                left = max(0.0, one.waits - time.monotonic())
                self._report(f"last look, in {left:.0f} s", len(names))
                await one.last_look(done)
            if hooks is not None and (one.begun or held):
                await hooks.call("end", devices=self._ends(), stopped=one.stopped)

        self._report("delivering", len(names))
        asyncio.run(run())
        one.finish()
        self.stopped = one.stopped

    def _report(self, doing: str, total: int) -> None:
        if self._options.progress is not None:
            self._options.progress(doing, len(self.results), total)

    def _ends(self) -> list[dict[str, str]]:
        entries = self._journal.entries(self._number)
        return [{"device": e.device, "state": e.state, "why": e.why} for e in entries]

    def _targets(self, names: Collection[str]) -> dict[str, Any]:
        devices = [d for d in self._files.fleet.devices if d.name in names]
        return {t.device.name: t for t in targets_of(self._files, devices)}

    @property
    def _today(self) -> date:
        return date.fromisoformat(self._call.today)

    def _prover(self) -> Prover:
        owners = Owners(self._files.fleet.devices)
        call = self._call
        return Prover(self._files.policy, self._today, owners, call.settings, again=call.again)

    def _delivery_options(self) -> DeliveryOptions:
        call = self._call
        trial = int(call.within) + SPARE if call.expect else 0
        return DeliveryOptions(trial, call.within, call.is_dry, call.rehearse, call.last_look)

    def _hooks(self) -> Hooks:
        """Return the programs that are called around a delivery, with what they are given."""
        one = self._journal.delivery(self._number)
        assert one is not None  # it was begun before
        facts = {
            "delivery": self._number,
            "fleet": self._files.fleet.name,
            "who": one.who,
            "folder": one.folder,
        }

        def note(moment: str, said: Sequence[Exchange]) -> None:
            self._journal.note(self._number, "", moment, said)

        return Hooks(self._files.fleet.ways.on, facts, note, PATIENCE)

    def _hearing(self) -> Hearing | None:
        if not self._call.expect or self._call.is_dry:
            return None
        files = self._files
        return Hearing(files.fleet.devices, files.policy, directory_of(files), self._today)

    def _listeners(
        self, hearing: Hearing | None, ready: asyncio.Event
    ) -> list[Coroutine[Any, Any, None]]:
        """Return the tasks that receive messages during the delivery; they set `ready` when
        messages can arrive.
        """
        call = self._call
        if hearing is None:
            ready.set()
            return []
        out: list[Coroutine[Any, Any, None]] = []
        if call.heard:
            out.append(following(Path(call.heard), hearing.take))
        if call.udp or call.tcp or call.tls:
            out.append(self._session(hearing).serve(ready.set))
        else:
            ready.set()
        return out

    def _session(self, hearing: Hearing) -> ListenSession:
        """Return a listener of the delivery's own."""
        call = self._call
        if bool(call.tls) != bool(call.certificate):
            raise InputError("--tls and --certificate belong together; give both or none")
        ports = listen_ports(call.udp, call.tcp, call.tls)
        context = None
        if call.certificate:
            key = Path(call.key) if call.key else None
            clients = Path(call.clients) if call.clients else None
            context = tls_context(Path(call.certificate), key, clients)
        return ListenSession(ListenOptions(ports, listen_addresses(call.on)), context, hearing.take)
