"""Writes a large fleet, the same for the same arguments: any number of devices and lines, with
seeded faults; or the example's devices of all platforms, each several times.

python bench/generate.py bench/data --devices 10000 --lines 1300
python bench/generate.py bench/data --example 15
"""

from __future__ import annotations

import argparse
import csv
import json
import re
from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path
from random import Random

from ivrel.core import Corrector, read_fleet, read_policy
from ivrel.demo.texts import whole_text
from ivrel.demo.workspace import configurations, fleet_text, policy_text
from ivrel.sources.dialects import Dialects

Faults = frozenset[str]
FAULTY = 0.3  # the share of copies of the example that are not corrected
FAULTS = ("export", "collectors", "level", "facility", "stamp", "source")
KINDS = ("router", "switch", "firewall")


def _quern(identity: str, facility: str, faults: Faults) -> str:
    out = ["events", f"    export {'off' if 'export' in faults else 'on'}"]
    out.append(f"    facility {'local2' if 'facility' in faults else facility}")
    if "source" not in faults:
        out.append("    leave-from loop1")
    out.append("    stamp uptime" if "stamp" in faults else "    stamp calendar millis year zone")
    level = "error" if "level" in faults else "informational"
    out.append(f"    send 198.51.100.21 udp 514 through {level}")
    if "collectors" not in faults:
        out.append(f"    send 198.51.100.22 tcp 601 through {level}")
    out += [
        "    number on",
        "    tag name",
        "    tell changes on",
        "    tell logins on",
        "    screen off",
        "    seats off",
    ]
    out += ["    memory 262144 through debug", "    disk 65536 through warning", "    queue 500"]
    out += ["    debug-stamp calendar millis", "names", "    ask 198.51.100.53"]
    return "\n".join(out)


def _skarn(identity: str, facility: str, faults: Faults) -> str:
    out = [
        f"journal.active = {'no' if 'export' in faults else 'yes'}",
        "journal.stamp.grain = milli",
    ]
    out.append(f"journal.stamp.zone = {'no' if 'stamp' in faults else 'yes'}")
    out += [
        "journal.number = yes",
        "journal.tag = name",
        "journal.tell.change = yes",
        "journal.screen = none",
    ]
    out += [
        "journal.memory.size = 65536",
        "journal.disk.least = warning",
        "journal.pace = immediate",
    ]
    out += ["names.1 = 198.51.100.53"]
    severities = ["emergency", "alert", "critical", "error", "warning", "notice"]
    if "level" in faults:
        severities.remove("critical")
    rule = 0
    for name, address, carry, port in (
        ("beacon-a", "198.51.100.21", "udp", 5514 if "collectors" in faults else 514),
        ("beacon-b", "198.51.100.22", "tcp", 601),
    ):
        head = f"journal.target.{name}"
        out += [f"{head}.inet = {address}", f"{head}.carry = {carry}", f"{head}.port = {port}"]
        out.append(f"{head}.from = {'203.0.113.42' if 'source' in faults else identity}")
        out.append(f"{head}.facility = {'local2' if 'facility' in faults else facility}")
        for severity in severities:
            rule += 1
            out += [
                f"journal.rule.{rule}.severity = {severity}",
                f"journal.rule.{rule}.target = {name}",
            ]
    return "\n".join(out)


def _other_family(text: str) -> str:
    """So many devices need identities of IPv6, and so their collectors are reached by it."""
    return text.replace("198.51.100.2", "2001:db8:c::2")


WRITERS: dict[str, Callable[[str, str, Faults], str]] = {"quern": _quern, "skarn": _skarn}


def generate(
    folder: Path, devices: int, lines: int, platforms: tuple[str, ...] = tuple(WRITERS)
) -> int:
    """Write fleet.csv, policy.yaml and the configurations; return how many devices there are."""
    (folder / "configs").mkdir(parents=True, exist_ok=True)
    (folder / "policy.yaml").write_text(_other_family(policy_text()))
    with (folder / "fleet.csv").open("w", newline="") as file:
        rows = csv.writer(file)
        rows.writerow(["device", "kind", "site", "platform", "groups", "identity"])
        for n in range(devices):
            dice = Random(n)
            platform, kind = platforms[n % len(platforms)], dice.choice(KINDS)
            name, site = f"d{n:05d}", f"site{n % 40:02d}"
            identity = _identity(n)
            group = "edge" if kind == "firewall" else "refit"
            rows.writerow([name, kind, site, platform, group, identity])
            faults = frozenset(f for f in FAULTS if dice.random() < 0.06)
            facility = "local6" if kind == "firewall" else "local4"
            export = _other_family(WRITERS[platform](identity, facility, faults))
            text = whole_text(platform, name, site, identity, export, lines)
            (folder / "configs" / f"{name}.conf").write_text(text)
    return devices


def copies(folder: Path, times: int, faulty: float) -> int:
    """Write the example's devices so many times, each with a name and an address of its own, and
    return how many there are. `faulty`: the share that is as the example has it; the others are
    corrected.
    """
    corrector = Corrector(read_policy(policy_text(), "policy.yaml"), date(2026, 11, 23))
    dice, dialects, lines, given = Random(1), Dialects(), ["fleet: copies", "devices:"], set[str]()
    (folder / "configs").mkdir(parents=True, exist_ok=True)
    (folder / "policy.yaml").write_text(policy_text())
    for device in read_fleet(fleet_text(), "fleet.yaml").devices:
        files = configurations()[device.name]
        if set(files) != {""}:
            continue
        wrong = files[""]
        done = corrector.correct(device, dialects[device.platform], wrong.encode(), device.name)
        right, old = done.corrected.decode(), str(device.identity)
        for n in range(times):
            text = wrong if dice.random() < faulty else right
            free = (a for a in _addresses() if a not in given and not _standing(a).search(wrong))
            new = next(free, None)
            if new is None:
                raise SystemExit(f"{times} copies are too many: no address is free")
            given.add(new)
            name = f"{device.name}-{n}"
            (folder / "configs" / f"{name}.conf").write_text(_standing(old).sub(new, text))
            of = {"kind": device.kind, "site": device.site, "platform": device.platform}
            row = {"device": name, **of, "groups": device.groups, "identity": new}
            lines.append(f"  - {json.dumps(row)}")
    (folder / "fleet.yaml").write_text("\n".join(lines) + "\n")
    return len(lines) - 2


def _addresses() -> Iterator[str]:
    """Yield the addresses that are there for examples (RFC 5737)."""
    for net in ("192.0.2", "198.51.100", "203.0.113"):
        yield from (f"{net}.{host}" for host in range(1, 255))


def _standing(address: str) -> re.Pattern[str]:
    """Return what matches an address that stands by itself."""
    return re.compile(rf"(?<![\d.]){re.escape(address)}(?![\d.])")


def _identity(n: int) -> str:
    """Return the address of a device by its number: each has one of its own."""
    if n < 65_000:
        return f"2001:db8::{n + 1:x}"
    block, rest = divmod(n - 65_000, 60_000)
    return f"2001:db8:{block + 1:x}::{rest + 1:x}"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--devices", type=int, default=10_000)
    parser.add_argument("--lines", type=int, default=1300)
    parser.add_argument("--example", type=int, help="copies of each of its devices")
    args = parser.parse_args()
    if args.example:
        copies(args.folder, args.example, FAULTY)
        return
    generate(args.folder, args.devices, args.lines)


if __name__ == "__main__":
    main()
