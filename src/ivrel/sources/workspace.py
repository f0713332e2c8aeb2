"""A workspace: a folder with a fleet, a policy, the configurations, and dialects of its own."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from ivrel.core.fleet import Device, Fleet, read_fleet, with_ways
from ivrel.core.judging.asking import read_policy
from ivrel.core.policy import Policy
from ivrel.core.vocabulary.errors import InputError, Mistake, Unreadable
from ivrel.core.ways import read_ways
from ivrel.sources.dialects import Dialects, no_dialect
from ivrel.sources.files import read_configuration, read_text
from ivrel.sources.packed import ENDINGS, LIMITS, SizeLimits

WAYS = "reach.yaml"  # how devices are reached, beside a fleet that is a table


class FolderTexts(Struct, frozen=True):
    """Configurations in a folder: the files by the names of devices, and texts given in their
    place.
    """

    root: str
    files: Mapping[str, str]
    given: Mapping[str, tuple[bytes, str]]
    limits: SizeLimits = LIMITS

    def file(self, device: Device) -> str | None:
        """Return the file of a device's configuration, from the root; None if there is none."""
        if device.name in self.given:
            return self.given[device.name][1]
        return device.configuration or self.files.get(device.name)

    def written(self, device: Device) -> float | None:
        """Return when the file of a device's configuration was written last, in seconds since 1970;
        None if there is none.
        """
        shown = self.file(device)
        if shown is None or device.name in self.given:
            return None
        path = Path(self.root, shown)
        try:
            some = path.iterdir() if path.is_dir() else [path]
            return max((one.stat().st_mtime for one in some), default=None)
        except OSError:
            return None

    def text(self, device: Device) -> tuple[bytes, str]:
        """Return a device's configuration and what it is called; Unreadable if there is none."""
        if device.name in self.given:
            return self.given[device.name]
        shown = self.file(device)
        if shown is None:
            said = f"no configuration; expected configs/{device.name}.conf or the like"
            raise Unreadable(said)
        return read_configuration(f"{self.root}/{shown}", shown, self.limits), shown


def policy_of(folder: Path, file: str) -> Policy:
    """Return the policy of a file in a folder, with the files beside it that it includes."""
    beside = file.rpartition("/")[0] + "/" * ("/" in file)

    def opened(name: str) -> str:
        inside = Path(name.removeprefix(beside))
        if inside.is_absolute() or ".." in inside.parts:
            raise Unreadable(f"{name}: lies outside of the folder of {file}")
        try:
            return read_text(folder / name, name)
        except InputError as problem:
            raise Unreadable(str(problem.mistakes[0])) from None

    return read_policy(read_text(folder / file, file), file, opened)


class WorkspaceFiles:
    """The files of one folder; each is read when it is first asked for.

    `policy`: the file of another policy than the folder's own, '' for that; `limits`: how large
    a configuration may be.
    """

    def __init__(self, folder: Path, policy: str = "", limits: SizeLimits = LIMITS) -> None:
        if not folder.is_dir():
            raise InputError([Mistake(str(folder), "no such folder; expected a workspace")])
        # Workers of a cluster run in folders of their own, and are reported whole paths.
        self.folder = folder
        self._root = str(folder.absolute())
        self.other_policy = policy
        self.limits = limits
        self._given: dict[str, tuple[bytes, str]] = {}
        self.dialects = Dialects(folder.absolute())

    def with_policy(self, policy: str) -> WorkspaceFiles:
        """Return the same folder with the policy of another file."""
        return WorkspaceFiles(self.folder, policy, self.limits)

    @cached_property
    def fleet(self) -> Fleet:
        """The fleet, from `fleet.yaml`, or from `fleet.csv` and `reach.yaml`."""
        found = [name for name in ("fleet.yaml", "fleet.csv") if (self.folder / name).exists()]
        if len(found) != 1:
            said = (
                "both fleet.yaml and fleet.csv; expected one"
                if found
                else "no fleet.yaml or fleet.csv in it"
            )
            raise InputError([Mistake(str(self.folder), said)])
        (name,) = found
        fleet = read_fleet(read_text(self.folder / name, name), name)
        if not (self.folder / WAYS).exists():
            return fleet
        if name.endswith(".yaml"):
            said = "stands beside fleet.yaml, which has room for it; expected its rules there"
            raise InputError([Mistake(WAYS, said)])
        ways = read_ways(read_text(self.folder / WAYS, WAYS), WAYS, fleet.devices)
        return with_ways(fleet, ways)

    def without_dialect(self, devices: Iterable[Device]) -> dict[str, list[Device]]:
        """Return the devices of each platform that no dialect describes."""
        out: dict[str, list[Device]] = {}
        for device in devices:
            if device.platform not in self.dialects.files:
                out.setdefault(device.platform, []).append(device)
        return out

    def with_dialect(self, devices: Iterable[Device]) -> list[Device]:
        """Return the devices whose platform a dialect describes. InputError if that is none."""
        every = list(devices)
        out = [device for device in every if device.platform in self.dialects.files]
        if every and not out:
            raise InputError(no_dialect(every[0].platform, self.dialects.files))
        return out

    @property
    def has_policy(self) -> bool:
        """Whether there is a policy."""
        return (self.folder / "policy.yaml").exists()

    @cached_property
    def policy(self) -> Policy:
        """The policy, from `policy.yaml` or the file that was named in its place."""
        if self.other_policy:
            return policy_of(Path(), self.other_policy)
        return policy_of(self.folder, "policy.yaml")

    @cached_property
    def _configs(self) -> dict[str, str]:
        """The files in `configs/`, by name and by name without ending."""
        try:
            found = sorted(path.name for path in (self.folder / "configs").iterdir())
            names = [name for name in found if name.isprintable()]  # others are no device's
        except OSError:
            return {}
        # Of several files of a name, the first in order counts, so the last is put in first.
        plain = {_without_packing(name): name for name in reversed(names)}
        stems = {stem.rpartition(".")[0]: name for stem, name in plain.items() if "." in stem}
        stems |= plain
        return {key: f"configs/{name}" for key, name in {**stems, **{n: n for n in names}}.items()}

    def replace_text(self, device: Device, data: bytes, shown: str) -> None:
        """Take this text for a device's configuration, whatever lies in the folder."""
        self._given[device.name] = data, shown

    def configuration(self, device: Device) -> str | None:
        """Return the file of a device's configuration, from the workspace's folder."""
        return self.texts.file(device)

    def text(self, device: Device) -> tuple[bytes, str]:
        """Return a device's configuration and its file's name; Unreadable if there is none."""
        return self.texts.text(device)

    @property
    def texts(self) -> FolderTexts:
        """The configurations of this workspace, apart from all else."""
        return FolderTexts(self._root, self._configs, self._given, self.limits)


def _without_packing(name: str) -> str:
    """Return the name of a file without the ending that says how it is compressed."""
    return next((name.removesuffix(ending) for ending in ENDINGS if name.endswith(ending)), name)
