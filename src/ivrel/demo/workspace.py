"""Writes the example workspace, and knows which faults are in it."""

from __future__ import annotations

import os
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path

import yaml
from msgspec import Struct, convert

from ivrel.demo.texts import whole_text
from ivrel.sources.files import claim_folder, write_text

HERE = Path(__file__).parent
LINES = 300
MAIN = "rsyslog.conf"
SAVED = datetime(2026, 11, 22, 21, tzinfo=UTC).timestamp()
INCLUDES = "$IncludeConfig /etc/rsyslog.d/*.conf\n"


class Seed(Struct, frozen=True):
    """A fault that was put into a text: the setting that it breaks, and the line that decides it,
    if any.
    """

    setting: str
    fault: str
    line: str


class ExampleDevice(Struct, frozen=True):
    """A device of the example."""

    device: str
    kind: str
    site: str
    platform: str
    groups: tuple[str, ...]
    identity: str
    seeds: tuple[Seed, ...]
    text: str = ""
    files: Mapping[str, str] = {}


def entries() -> tuple[ExampleDevice, ...]:
    """Return the devices of the example with what was seeded in them."""
    read = yaml.load((HERE / "devices.yaml").read_text(), Loader=yaml.SafeLoader)
    return tuple(convert(read["devices"], list[ExampleDevice]))


def policy_text() -> str:
    """Return the policy of the example."""
    return (HERE / "policy.yaml").read_text()


def fleet_text() -> str:
    """Return the fleet file of the example."""
    out = [
        "fleet: Skerry Line",
        "apart: [pair-*]",
        "software: {rsyslog: {versions: 8.2302, packages: [rsyslog-gnutls]}}",
        "devices:",
    ]
    for e in entries():
        groups = f"[{', '.join(e.groups)}]"
        out.append(
            f"  - {{device: {e.device}, kind: {e.kind}, site: {e.site}, platform: {e.platform}, "
            f"groups: {groups}, identity: {e.identity}}}"
        )
    return "\n".join(out) + "\n"


def configurations() -> Mapping[str, Mapping[str, str]]:
    """Return the configurations of the example, by device: of each its files by name, '' for a
    single one.
    """
    out: dict[str, Mapping[str, str]] = {}
    for e in entries():
        if e.files:
            out[e.device] = {
                MAIN: whole_text(e.platform, e.device, e.site, e.identity, INCLUDES, LINES),
                **e.files,
            }
        else:
            out[e.device] = {
                "": whole_text(e.platform, e.device, e.site, e.identity, e.text, LINES)
            }
    return out


def new_workspace(folder: Path, *, replace: bool) -> None:
    """Write the example into a folder; `replace`: even if it is not empty."""
    claim_folder(folder, replace)
    write_workspace(folder)


def write_workspace(folder: Path) -> None:
    """Write fleet, policy, another policy that is discussed, and configurations."""
    write_text(folder / "fleet.yaml", fleet_text())
    write_text(folder / "policy.yaml", policy_text())
    write_text(folder / "proposed.yaml", (HERE / "proposed.yaml").read_text())
    for device, files in configurations().items():
        for name, text in files.items():
            path = folder / "configs" / (f"{device}/{name}" if name else f"{device}.conf")
            write_text(path, text)
            # They were saved the day before the messages that the example has.
            os.utime(path, (SAVED, SAVED))
