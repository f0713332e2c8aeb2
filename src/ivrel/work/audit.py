"""Audits: the verdicts of many devices, as a stream, with or without messages beside them."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from typing import TYPE_CHECKING

from msgspec.structs import replace

from ivrel.core.fleet import Device
from ivrel.core.judging import DeviceResult
from ivrel.core.judging.remarks import Remark, ending
from ivrel.core.vocabulary.verdict import Place
from ivrel.runners import through
from ivrel.sources.lines import LinesOf
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.jobs import Auditing
from ivrel.work.message_files import MessageFiles
from ivrel.work.run import RunOptions

# What messages prove is loaded when messages are given.
if TYPE_CHECKING:
    pass


class Audit:
    """The audit of some devices: iterate over it for the result of each device.

    Each iteration audits again; results are not kept, so that memory does not grow with the fleet.

    `remarks`: waivers that ran out or soon will; `problems`: files and lines of messages that could
    not be read; `proved`: by device, the settings that messages prove, filled by the iteration.
    """

    def __init__(
        self,
        files: WorkspaceFiles,
        options: RunOptions,
        devices: Sequence[Device],
        settings: Collection[str] = (),
        messages: MessageFiles | None = None,
    ) -> None:
        self.devices = tuple(devices)
        self.problems: tuple[str, ...] = ()
        self.message_remarks: tuple[str, ...] = ()
        self.proved: dict[str, frozenset[str]] = {}
        self._files = files
        self._options = options
        self._settings = settings
        self._by_name = {d.name: d for d in devices}
        self._lines = LinesOf(files, self.devices)
        self._message_texts: dict[Place, str] = {}
        self._claims: FleetClaims | None = None
        if messages:
            from ivrel.work.messages import FleetClaims, evidence_of

            evidence, self.problems = evidence_of(files, messages, options)
            self._claims = FleetClaims(files, evidence)
            self.message_remarks = self._claims.remarks(self.devices)
        self._all_good: bool | None = None

    @property
    def remarks(self) -> tuple[Remark, ...]:
        """Waivers of these devices that ran out, or soon will."""
        policy = self._files.policy
        kept = [w for w in policy.waivers if any(w.covers(d, w.setting) for d in self.devices)]
        return tuple(ending(replace(policy, waivers=tuple(kept)), self._options.today))

    @property
    def is_good(self) -> bool | None:
        """Whether every device meets the policy, and no waiver ran out.

        None until all results have been iterated over.
        """
        if self._all_good is None:
            return None
        return self._all_good and not any(remark.wrong for remark in self.remarks)

    def __iter__(self) -> Iterator[DeviceResult]:
        options = self._options
        self._all_good = None
        good = True
        job = Auditing(self._files, options.today)
        results = through(job, self.devices, options.scheduler, send=options.send)
        for result in options.reported(results, len(self.devices), "auditing"):
            one = self._with_messages(self._of_settings(result))
            good = good and one.good
            yield one
        self._all_good = good

    def text_of(self, place: Place, setting: str = "") -> str:
        """Return the statement at a place, as far as a setting may show it, or the message."""
        return self._message_texts.get(place) or self._lines(place, setting)

    def _of_settings(self, result: DeviceResult) -> DeviceResult:
        if not self._settings:
            return result
        verdicts = tuple(v for v in result.verdicts if v.setting in self._settings)
        return replace(result, verdicts=verdicts)

    def _with_messages(self, result: DeviceResult) -> DeviceResult:
        """Return a result with what the messages of its device contradict."""
        if self._claims is None:
            return result
        from ivrel.core.evidence.beside import beside, proved

        device = self._by_name[result.device]
        claims = self._claims.by_setting(device)
        for claim in claims.values():
            if claim.example is not None:
                place = Place(claim.example.file, claim.example.line)
                self._message_texts[place] = claim.example.text
        self.proved[result.device] = proved(result, claims)
        return beside(result, claims)
