"""Proving on what a device says now: the change that is to be sent, or one computed again."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import date
from difflib import unified_diff

from msgspec import Struct

from ivrel.core.correcting import Corrector, Property, Written, judge_change
from ivrel.core.delivery.owners import Owners
from ivrel.core.dialects import Dialect
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy
from ivrel.core.vocabulary.errors import IvrelError, Unreadable
from ivrel.core.vocabulary.verdict import DeviceResult
from ivrel.live.journal import Verdicts


class Ready(Struct, frozen=True):
    """A change that holds on what a device says now. `problem`: why it is not sent; `is_there`: it
    says so already; `again`: how it differs from the change that was to be sent, line by line.
    """

    change: str = ""
    before: bytes = b""
    proved: bytes = b""
    verdicts: Verdicts = ()
    problem: str = ""
    is_there: bool = False
    computed_again: tuple[str, ...] = ()


class Prover:
    """Proves changes by a policy, on one day; `again`: where a configuration is not the one that a
    change was made for, the change is computed again; `owners`: tells devices that are not those
    which they were taken for.
    """

    def __init__(
        self,
        policy: Policy,
        today: date,
        owners: Owners,
        names: Collection[str] = (),
        *,
        again: bool = False,
    ) -> None:
        self._corrector = Corrector(policy, today, names)
        self._again = again
        self._owners = owners

    def ready(self, device: Device, dialect: Dialect, data: bytes, written: Written) -> Ready:
        """Return the change to send to a device whose configuration is `data`."""
        against = self._owners.against(device, dialect, data)
        if against:
            return Ready(problem=f"this may be another device: {against}")
        try:
            return self._ready(device, dialect, data, written)
        except IvrelError as problem:
            return Ready(problem=str(problem))

    def _ready(self, device: Device, dialect: Dialect, data: bytes, written: Written) -> Ready:
        begun = self._corrector.start(device, dialect, data, device.name)
        judged = judge_change(begun, written)
        if judged.state == "done" or (judged.corrected and judged.corrected == data):
            return Ready(is_there=True, before=data, verdicts=verdicts_of(begun.before))
        if judged.stale:
            return self._stale(device, dialect, data, written)
        if judged.state != "holds":
            return Ready(problem=_against(judged.problem, judged.proof))
        return Ready(written.change, data, judged.corrected, verdicts_of(begun.before))

    def _stale(self, device: Device, dialect: Dialect, data: bytes, written: Written) -> Ready:
        """Return the change to send to a device whose configuration has changed since; nothing if
        it meets the policy already.
        """
        found = self._corrector.correct(device, dialect, data, device.name)
        if not found.changes:
            return Ready(is_there=True, before=data, verdicts=verdicts_of(found.before))
        if not self._again:
            said = "its configuration has changed since the correction was written"
            return Ready(problem=f"{said}; --prove-again computes and proves a new one")
        if not found.proved:
            return Ready(problem=f"the new correction: {_against('', found.proof)}")
        old = written.change.splitlines()
        new = found.change.splitlines()
        lines = list(unified_diff(old, new, lineterm="", n=0))[2:]
        shown = tuple(line for line in lines if not line.startswith("@@"))
        return Ready(
            found.change, data, found.corrected, verdicts_of(found.before), computed_again=shown
        )

    def verdicts(self, device: Device, dialect: Dialect, data: bytes) -> Verdicts:
        """Return the verdicts on a configuration."""
        try:
            return verdicts_of(self._corrector.auditor.audit(device, dialect, data, device.name))
        except Unreadable:
            return ()


def verdicts_of(result: DeviceResult) -> Verdicts:
    """Return settings with their verdicts."""
    return tuple((v.setting, v.verdict) for v in result.verdicts)


def _against(problem: str, proof: Iterable[Property]) -> str:
    if problem:
        return problem
    failed = next((p for p in proof if not p.holds), None)
    return f"not {failed.name}: {failed.why}" if failed else "its proof does not hold"
