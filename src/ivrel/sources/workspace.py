"""A workspace: a folder with a fleet, a policy and the configurations; and the audit of all of it."""

from __future__ import annotations

import os
from collections.abc import Sequence
from datetime import date
from functools import cached_property
from pathlib import Path

from ivrel.core.audit import Auditor, DeviceResult, unreadable
from ivrel.core.fleet import Device, Fleet, read_fleet
from ivrel.core.mistakes import InputError, Mistake, Unreadable, own_error
from ivrel.core.policy import Policy, read_policy
from ivrel.sources.dialects import Dialects
from ivrel.sources.files import read_configuration, read_text
from ivrel.sources.packed import ENDINGS


class Workspace:
    """The files of one folder; each is read when it is first asked for."""

    def __init__(self, folder: Path) -> None:
        if not folder.is_dir():
            raise InputError([Mistake(str(folder), "no such folder; expected a workspace")])
        self.folder, self._root = folder, str(folder)
        self._given: dict[str, tuple[bytes, str]] = {}
        self._auditor: Auditor | None = None
        self.dialects = Dialects(folder)

    @cached_property
    def fleet(self) -> Fleet:
        """The fleet, from `fleet.yaml` or `fleet.csv`."""
        found = [name for name in ("fleet.yaml", "fleet.csv") if (self.folder / name).exists()]
        if len(found) != 1:
            said = "both fleet.yaml and fleet.csv; expected one" if found else "no fleet.yaml or fleet.csv in it"
            raise InputError([Mistake(str(self.folder), said)])
        return read_fleet(read_text(self.folder / found[0], found[0]), found[0], self.dialects.files)

    @cached_property
    def policy(self) -> Policy:
        """The policy, from `policy.yaml`."""

        def opened(name: str) -> str:
            if Path(name).is_absolute() or ".." in Path(name).parts:
                raise Unreadable(f"{name}: lies outside of the workspace")
            try:
                return read_text(self.folder / name, name)
            except InputError as problem:
                raise Unreadable(str(problem.mistakes[0])) from None

        return read_policy(read_text(self.folder / "policy.yaml", "policy.yaml"), "policy.yaml", opened)

    @cached_property
    def _configs(self) -> dict[str, str]:
        """The files in `configs/`, by name and by name without ending."""
        try:
            found = sorted(path.name for path in (self.folder / "configs").iterdir())
            names = [name for name in found if name.isprintable()]  # others are no device's
        except OSError:
            return {}
        plain = {_without_packing(name): name for name in reversed(names)}
        stems = {stem.rpartition(".")[0]: name for stem, name in plain.items() if "." in stem}
        stems |= plain
        return {key: f"configs/{name}" for key, name in {**stems, **{n: n for n in names}}.items()}

    def replace_text(self, device: Device, data: bytes, shown: str) -> None:
        """Takes this text for a device's configuration, whatever lies in the folder."""
        self._given[device.name] = data, shown

    def configuration(self, device: Device) -> str | None:
        """The file of a device's configuration, from the workspace's folder; None if there is none."""
        if device.name in self._given:
            return self._given[device.name][1]
        return device.configuration or self._configs.get(device.name)

    def text(self, device: Device) -> tuple[bytes, str]:
        """A device's configuration and the name of its file; Unreadable tells why it cannot be had."""
        if device.name in self._given:
            return self._given[device.name]
        shown = self.configuration(device)
        if shown is None:
            raise Unreadable(f"no configuration; expected configs/{device.name}.conf or the like")
        return read_configuration(f"{self._root}/{shown}", shown), shown

    def audit_device(self, device: Device, today: date) -> DeviceResult:
        """The result of one device, whatever state its configuration is in."""
        try:
            data, shown = self.text(device)
        except Unreadable as problem:
            return unreadable(device, self.policy, str(problem))
        dialect = self.dialects[device.platform]
        if self._auditor is None or self._auditor.today != today:
            self._auditor = Auditor(self.policy, today, self.dialects)
        try:
            return self._auditor.audit(device, dialect, data, shown)
        except Exception as problem:  # one device never stops the others
            if os.environ.get("IVREL_TRACEBACK"):
                raise
            return unreadable(device, self.policy, f"{shown}: {own_error(problem)}")

    def prepare(self, devices: Sequence[Device]) -> None:
        """Reads what the audit of any of these devices needs besides its configuration."""
        for platform in {d.platform: None for d in devices}:
            self.dialects[platform]
        _ = self.policy, self._configs


def _without_packing(name: str) -> str:
    """The name of a file without the ending that says how it is compressed."""
    return next((name.removesuffix(ending) for ending in ENDINGS if name.endswith(ending)), name)
