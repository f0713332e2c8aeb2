"""Corrections of many devices: computed as a stream, and written where they are wanted."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from fnmatch import fnmatchcase
from pathlib import Path
from typing import BinaryIO

from msgspec import Struct

from ivrel.core.correcting import Correction
from ivrel.core.delivery import FIRST, Order, Wave, WaveCandidate, in_waves
from ivrel.core.delivery.corrections import CorrectionSet
from ivrel.core.fleet import Device
from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.core.vocabulary.wording import not_one_of
from ivrel.sources.corrections import BESIDE, CHANGE, SHEETS, UNPROVED
from ivrel.sources.daemon import why_not_carried
from ivrel.sources.files import claim_folder
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.correcting_jobs import Correcting, NotCorrected
from ivrel.work.correction_writers import CorrectionWriter, FolderWriter, InPlaceWriter, PatchWriter
from ivrel.work.deciding import Deciding, left_open
from ivrel.work.run import RunOptions


class WaveOptions(Struct, frozen=True):
    """How a delivery is divided into waves.

    `first`: the number of devices in the first wave; `apart`: groups (globs) whose devices are
    never in the same wave, in addition to those of the fleet.
    """

    first: int = FIRST
    apart: tuple[str, ...] = ()


class Corrections:
    """The corrections of some devices: iterate over them, or write them.

    Each iteration, `collect`, `write`, `patch` or `apply` computes them once, as a stream.
    """

    def __init__(
        self,
        files: WorkspaceFiles,
        options: RunOptions,
        devices: Sequence[Device],
        settings: Collection[str] = (),
        waves: WaveOptions | None = None,
        *,
        carry_out: bool = False,
    ) -> None:
        if carry_out and (why := why_not_carried()):
            raise InputError(f"corrections cannot be carried out: {why}")
        self.devices = tuple(devices)
        self._carries = carry_out
        self._files = files
        self._options = options
        self._settings = settings
        self._waves = waves
        if waves is not None:
            _check_groups(files, waves)

    def __iter__(self) -> Iterator[Correction | NotCorrected]:
        return self._through(needs_text=False)

    def collect(self) -> CorrectionSet:
        """Return the corrections, without writing them."""
        return self._into(CorrectionWriter())

    def write(
        self, folder: Path | str, *, replace: bool = False, keep_text: bool = True
    ) -> CorrectionSet:
        """Write the corrections to a folder, with back-outs and change sheets.

        `replace`: write into the folder even if it is not empty; `keep_text`: keep the text of the
        changes in the result. Raise InputError if the folder cannot be written.
        """
        clash = next((d.name for d in self.devices if d.name in BESIDE), None)
        if clash:
            said = f"a device is called '{clash}', as a file of the corrections is"
            raise InputError(f"{said}; give it another name")
        # The corrections take long: a folder that cannot be written is reported before.
        claim_folder(Path(folder), replace)
        policy = self._files.policy
        writer = FolderWriter(
            Path(folder), (policy.name, policy.file), self._options.today, keeps=keep_text
        )
        return self._into(writer, folder=str(folder))

    def patch(self, out: BinaryIO) -> tuple[CorrectionSet, PatchWriter]:
        """Write one patch over the configurations, for `git apply`; return what is in it."""
        writer = PatchWriter(self._files, out)
        return self._into(writer), writer

    def apply(self) -> CorrectionSet:
        """Apply the proved corrections to the workspace's configurations; `undo` reverts this."""
        return self._into(InPlaceWriter(self._files), in_place=True)

    def _into(
        self, writer: CorrectionWriter, folder: str = "", *, in_place: bool = False
    ) -> CorrectionSet:
        corrections: list[Correction] = []
        unread: list[tuple[str, str]] = []
        with writer:
            for done in self._through(needs_text=writer.needs_text):
                if isinstance(done, NotCorrected):
                    unread.append((done.device, done.problem))
                else:
                    corrections.append(writer.take(done))
            result = CorrectionSet(
                fleet=self._files.fleet.name,
                corrections=tuple(corrections),
                unread=tuple(unread),
                devices={d.name: d for d in self.devices},
                folder=folder,
                in_place=in_place,
                left_out=tuple(writer.left_out),
                waves=self._in_waves(corrections),
            )
            writer.done(result)
        return result

    def _through(self, *, needs_text: bool) -> Iterator[Correction | NotCorrected]:
        files = self._files
        options = self._options
        settings = self._settings
        run = Deciding(
            files,
            options,
            lambda usual: Correcting(
                files,
                options.today,
                settings,
                usual,
                needs_text=needs_text,
                carry_out=self._carries,
            ),
            left_open([files.policy], settings),
            doing="correcting",
        )
        return run.through(self.devices)

    def _in_waves(self, corrections: Sequence[Correction]) -> tuple[Wave, ...] | None:
        """Return the waves of a delivery; corrections that are not proved are in none."""
        if self._waves is None:
            return None
        done = {c.device: c for c in corrections}
        candidates = []
        for device in self.devices:
            if (c := done.get(device.name)) is not None:
                number = len(c.changes) if c.proved else 0
                candidates.append(WaveCandidate(device, number, c.sends, c.would_send))
        return in_waves(candidates, order_of(self._files, self._waves))


def order_of(files: WorkspaceFiles, waves: WaveOptions) -> Order:
    """Return the rules for the waves of a workspace: the collectors' own sites come last."""
    sites = (collector.site for collector in files.policy.collectors.values())
    last = frozenset(site for site in sites if site)
    return Order(first=waves.first, apart=(*files.fleet.apart, *waves.apart), last=last)


def files_to_read(result: CorrectionSet) -> tuple[str, str]:
    """Return the change sheet of corrections that were written, and the first change."""
    first = result.changed[0]
    name = CHANGE if first.proved else f"{UNPROVED}{CHANGE}"
    return f"{result.folder}/{SHEETS[0]}", f"{result.folder}/{first.device}/{name}"


def _check_groups(files: WorkspaceFiles, waves: WaveOptions) -> None:
    """Raise InputError if the fleet has no group of a name."""
    there = sorted({group for d in files.fleet.devices for group in d.groups})
    wrong = [word for word in waves.apart if not any(fnmatchcase(g, word) for g in there)]
    if wrong:
        raise InputError([Mistake("", f"group {not_one_of(word, there)}") for word in wrong])
