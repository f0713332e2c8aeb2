"""The fleet: which devices there are, what each one is, and where its configuration lies.

`fleet.yaml` holds `fleet: NAME`, a list `devices:`, `apart:`, the groups that are pairs, and
`reach:`, how devices are reached; `fleet.csv` has the fields of devices as columns.

Passes: `{device: tarsk-fw2, kind: firewall, site: tarsk, platform: skarn, identity: 192.0.2.34}`
Fails:  `{device: tarsk-fw2, kind: fridge}` (site and platform are missing)
"""

from __future__ import annotations

import csv
import io
import posixpath
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from difflib import get_close_matches
from fnmatch import fnmatchcase
from functools import lru_cache
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.form import (
    Key,
    ListOf,
    MapOf,
    MappingField,
    Node,
    Report,
    TextField,
    place,
    read_yaml,
)
from ivrel.core.reach import HOSTS, REACH, RULES, Reach, reach_of
from ivrel.core.vocabulary.addresses import address
from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.core.vocabulary.software import Software, Version, read_package, read_versions
from ivrel.core.vocabulary.wording import not_one_of, shorten
from ivrel.core.ways import ON, Ways, checked_ways

KINDS = ("router", "switch", "firewall", "gateway", "server")


class Device(Struct, frozen=True, gc=False):
    """One device; `identity` is the address that it should be known by, `line` where the fleet file
    has it.

    `rivals`: other devices with the same identity in the fleet; `reach`: how it is reached, as far
    as that is at the device; `names`: what its configuration calls it, in addition to its name;
    `software`: what is installed on it, as far as the fleet file says.
    """

    name: str
    kind: str
    site: str
    platform: str
    groups: tuple[str, ...] = ()
    identity: str | None = None
    configuration: str | None = None
    line: int = 0
    column: int = 0
    rivals: tuple[str, ...] = ()
    reach: Reach | None = None
    names: tuple[str, ...] = ()
    software: Software = Software()


class Fleet(Struct, frozen=True):
    """The devices in the order of the file that lists them.

    `apart`: groups, or globs, whose devices never change at the same time; `ways`: how devices are
    reached.
    """

    name: str
    devices: tuple[Device, ...]
    file: str
    apart: tuple[str, ...] = ()
    ways: Ways = Ways()


class DeviceSelection(Struct, frozen=True):
    """Which devices a command is about; an empty field asks for nothing."""

    names: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    sites: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()


LONGEST = 200  # signs of a name: files are called by names
_NAME = re.compile(r"(?!\.)[\w.-]+")


@lru_cache(maxsize=65536)
def _name(text: str) -> str:
    if len(text) > LONGEST:
        raise ValueError(f"'{shorten(text)}' is longer than {LONGEST} signs")
    if not _NAME.fullmatch(text):
        raise ValueError(
            f"'{shorten(text)}' is not a name; expected letters, digits, '-', '_' and '.'"
        )
    return text


@lru_cache(maxsize=64)
def _kind(text: str) -> str:
    likely = get_close_matches(text, KINDS, 1, 0.8)
    if likely and text not in KINDS:  # any word will do, but this one is hardly meant
        raise ValueError(f"kind {not_one_of(text, KINDS)}")
    return _name(text)


@lru_cache(maxsize=4096)
def _groups(text: str) -> tuple[str, ...]:
    return tuple(_name(word) for word in text.replace(";", " ").split())


@lru_cache(maxsize=4096)
def _packages(text: str) -> tuple[str, ...]:
    """Return the packages of a cell; 'none' says that there are none."""
    words = text.replace(";", " ").split()
    return () if words == ["none"] else tuple(map(read_package, words))


# How the cells of each column are read, and the field that they fill.
_CELLS: dict[str, tuple[str, Callable[[str], object]]] = {
    "device": ("name", _name),
    "kind": ("kind", _kind),
    "site": ("site", _name),
    "platform": ("platform", _name),
    "groups": ("groups", _groups),
    "identity": ("identity", address),
    "configuration": ("configuration", str),
    "names": ("names", _groups),
    "versions": ("versions", read_versions),
    "packages": ("packages", _packages),
}


def _built(at: Node, device: str, **fields: Any) -> Device:
    line, column = place(at)
    return _with_software(name=device, line=line, column=column, **fields)


def _with_software(
    versions: tuple[Version, ...] = (), packages: tuple[str, ...] | None = None, **fields: Any
) -> Device:
    """Return the device with what is said of its software."""
    if versions or packages is not None:
        fields["software"] = Software(versions, packages)
    return Device(**fields)


def _software(
    at: Node, versions: tuple[Version, ...] = (), packages: tuple[str, ...] | None = None
) -> tuple[Software, Node]:
    """Return what is installed, and its place: a platform of no device is a mistake."""
    return Software(versions, packages), at


class _Placed(TextField):
    """A scalar that is held against the rest of the file later, and so keeps its place."""

    def read(self, node: Node, report: Report) -> Any:
        """Return the value and its node; None, and a mistake in the report, if it is wrong."""
        value = super().read(node, report)
        return None if value is None else (value, node)


_WORD = TextField("a word", _name)
_SOFTWARE = {
    "versions": Key(
        TextField("a version, or two as 8.2102..8.2504", read_versions),
        "the version of its daemon, or the lowest and the highest that it may have",
    ),
    "packages": Key(
        ListOf(TextField("the name of a package", read_package), one_is_enough=True),
        "the packages of its daemon that are installed, beside the daemon's own; [] is none",
    ),
}

DEVICE = MappingField(
    "a device",
    {
        "device": Key(_WORD, "the name of the device", must=True),
        "kind": Key(
            TextField("a kind of device", _kind),
            f"what the device is: {', '.join(KINDS)}, or any other word",
            must=True,
        ),
        "site": Key(_WORD, "where it stands", must=True),
        "platform": Key(_WORD, "the dialect that its configuration is written in", must=True),
        "groups": Key(ListOf(_WORD, one_is_enough=True), "groups that rules can ask for"),
        "identity": Key(TextField("an IP address", address), "the address it should be known by"),
        "configuration": Key(
            TextField("a file"),
            "its configuration, from the workspace; else configs/DEVICE or configs/DEVICE.*",
        ),
        "names": Key(
            ListOf(_WORD, one_is_enough=True),
            "what its configuration calls it, where that is not its name on purpose",
        ),
        "reach": Key(REACH, "how it is reached, over what the fleet's `reach:` says"),
        **_SOFTWARE,
    },
    _built,
)

FLEET = MappingField(
    "a fleet",
    {
        "fleet": Key(TextField("a title"), "the name of the fleet", must=True),
        "devices": Key(ListOf(DEVICE), "the devices", must=True),
        "apart": Key(
            ListOf(_Placed("a group or a glob"), one_is_enough=True),
            "groups, or globs, of which no two devices change at the same time: pairs",
        ),
        "software": Key(
            MapOf(MappingField("what is installed", _SOFTWARE, _software), _WORD),
            "what is installed, by platform, on devices that do not say it themselves",
        ),
        "reach": RULES,
        "hosts": HOSTS,
        "on": ON,
    },
)


def read_fleet(text: str, file: str) -> Fleet:
    r"""Read a fleet from YAML, or from CSV if `file` ends in `.csv`.

    InputError holds every mistake.

    >>> fleet = read_fleet("device,kind,site,platform\ngw1,router,pier,quern\n", "fleet.csv")
    >>> fleet.devices[0].kind
    'router'
    """
    report = Report(file)
    devices: Sequence[Device]
    apart: tuple[str, ...] = ()
    ways = Ways()
    if file.endswith(".csv"):
        name, devices = _read_csv(text, report)
    else:
        values, report = read_yaml(text, file, FLEET)
        name, devices = (values["fleet"], values["devices"]) if values else (file, ())
        apart = _apart(values.get("apart", ()) if values else (), devices, report)
        ways = checked_ways(values or {}, devices, report)
        if values and "software" in values:
            devices = _with_common(values["software"], devices, report)
    seen: dict[str, Device] = {}
    folded: dict[str, Device] = {}
    claims: dict[str, list[str]] = {}
    for device in devices:
        if device.name in seen:
            first = seen[device.name].line
            _at(
                report, device, f"device '{device.name}' stands twice; the first is in line {first}"
            )
        elif other := folded.get(device.name.casefold()):
            # Files of such names are one file on some systems.
            said = f"device '{device.name}' differs from '{other.name}' in line {other.line}"
            _at(report, device, f"{said} in case only")
        seen.setdefault(device.name, device)
        folded.setdefault(device.name.casefold(), device)
        if device.identity:
            claims.setdefault(device.identity, []).append(device.name)
    if not devices and not report.mistakes:
        raise InputError([Mistake(file, "the fleet is empty; expected at least one device", 1, 1)])
    report.settle()
    # Most fleets give each address once, and are spared the copying.
    if any(len(names) > 1 for names in claims.values()):
        devices = [_with_rivals(device, claims) for device in devices]
    return with_ways(Fleet(name, tuple(devices), file, apart), ways)


def with_ways(fleet: Fleet, ways: Ways) -> Fleet:
    """Return a fleet with how its devices are reached; where files are fetched tells what the
    includes in them are relative to.
    """
    devices = fleet.devices
    if any(rule.reach.files for rule in ways.rules) or any(d.reach is not None for d in devices):
        devices = tuple(_with_folder(device, ways) for device in devices)
    return replace(fleet, devices=devices, ways=ways)


def _with_folder(device: Device, ways: Ways) -> Device:
    files = reach_of(ways.rules, device).files
    folder = posixpath.dirname(files[0]) if files else ""
    if not folder:
        return device
    return replace(device, software=replace(device.software, folder=folder))


def _apart(
    said: Iterable[tuple[str, Node] | None], devices: Sequence[Device], report: Report
) -> tuple[str, ...]:
    """Return the groups that are apart; one that no device is of is a mistake."""
    there = sorted({group for device in devices for group in device.groups})
    named = [one for one in said if one is not None]
    for group, node in named:
        if not any(fnmatchcase(other, group) for other in there):
            report.add(node, f"group {not_one_of(group, there)}")
    return tuple(group for group, _ in named)


def _with_common(
    software: Mapping[str, tuple[Software, Node]], devices: Sequence[Device], report: Report
) -> Sequence[Device]:
    """Return the devices with what is installed on all of their platform."""
    there = sorted({device.platform for device in devices})
    for platform, (_, node) in software.items():
        if platform not in there:
            report.add(node, f"'software': platform {not_one_of(platform, there)}")
    return [
        replace(device, software=device.software.over(software[device.platform][0]))
        if device.platform in software
        else device
        for device in devices
    ]


def _with_rivals(device: Device, claims: Mapping[str, Sequence[str]]) -> Device:
    names = claims[device.identity] if device.identity else ()
    return replace(device, rivals=tuple(name for name in names if name != device.name))


def _at(report: Report, device: Device, said: str) -> None:
    report.mistakes.append(Mistake(report.file, said, device.line, device.column))


def _read_csv(text: str, report: Report) -> tuple[str, list[Device]]:
    # Spreadsheets put a byte order mark in front of what they export.
    reader = csv.reader(io.StringIO(text.removeprefix("\ufeff")), strict=True)
    # A table has no room for the name of the fleet: the file gives it.
    name = report.file.replace("\\", "/").rpartition("/")[2].removesuffix(".csv")
    devices: list[Device] = []
    header: list[str] | None = None
    try:
        for row in reader:
            if not any(cell.strip() for cell in row):
                continue
            if header is None:
                header = [cell.strip().lower() for cell in row]
                _check_header(header, report)
                # Without a header that fits, every row would be told as wrong.
                if report.mistakes:
                    break
                continue
            if len(row) == len(header):
                device = _csv_device(zip(header, row, strict=True), reader.line_num, report)
                devices += [device] if device else []
            else:
                said = f"{len(row)} fields; expected {len(header)}, as in the header"
                report.mistakes.append(Mistake(report.file, said, reader.line_num, 1))
    except csv.Error as problem:
        report.mistakes.append(Mistake(report.file, f"not CSV: {problem}", reader.line_num, 1))
    return name, devices


def _check_header(header: Sequence[str], report: Report) -> None:
    for column, name in enumerate(header, 1):
        if name not in _CELLS:
            said = f"column {column} {not_one_of(name, _CELLS)}"
            report.mistakes.append(Mistake(report.file, said, 1, 1))
    report.mistakes.extend(
        Mistake(report.file, f"no column '{key}'", 1, 1)
        for key, known in DEVICE.keys.items()
        if known.must and key not in header
    )


def _csv_device(cells: Iterable[tuple[str, str]], line: int, report: Report) -> Device | None:
    fields: dict[str, Any] = {"line": line}
    wrong = []
    for key, cell in cells:
        name, parse = _CELLS[key]
        word = cell.strip()
        if not word.isprintable():
            wrong.append(f"{key} holds a control character")
        elif word:
            try:
                fields[name] = parse(word)
            except ValueError as problem:
                wrong.append(str(problem))
        elif DEVICE.keys[key].must:
            wrong.append(f"no {key}")
    report.mistakes += [Mistake(report.file, said, line, 1) for said in wrong]
    return None if wrong else _with_software(**fields)


def choose(fleet: Fleet, choice: DeviceSelection) -> tuple[Device, ...]:
    r"""Return the devices that `choice` asks for, in the fleet's order.

    A word that matches nothing is a mistake.

    >>> text = "device,kind,site,platform\ngw1,router,pier,quern\nfw1,firewall,pier,skarn\n"
    >>> fleet = read_fleet(text, "fleet.csv")
    >>> [device.name for device in choose(fleet, DeviceSelection(kinds=("fire*",)))]
    ['fw1']
    """
    mistakes = [
        Mistake("", _unmatched(name, fleet))
        for name in choice.names
        if not any(fnmatchcase(d.name, name) for d in fleet.devices)
    ]
    for wanted, what, has in (
        (choice.kinds, "kind", {d.kind for d in fleet.devices}),
        (choice.sites, "site", {d.site for d in fleet.devices}),
        (choice.groups, "group", {g for d in fleet.devices for g in d.groups}),
    ):
        mistakes += [
            Mistake("", f"{what} {not_one_of(word, sorted(has))}")
            for word in wanted
            if not any(fnmatchcase(name, word) for name in has)
        ]
    if mistakes:
        raise InputError(mistakes)
    return tuple(d for d in fleet.devices if _chosen(d, choice))


def _unmatched(name: str, fleet: Fleet) -> str:
    if any(c in name for c in "*?["):
        return f"no device matches '{name}'"
    likely = get_close_matches(name, [d.name for d in fleet.devices], 1)
    return f"no device is called '{name}'" + (f"; did you mean '{likely[0]}'?" if likely else "")


def _chosen(device: Device, choice: DeviceSelection) -> bool:
    def fits(words: tuple[str, ...], *values: str) -> bool:
        return not words or any(fnmatchcase(v, w) for v in values for w in words)

    return (
        fits(choice.names, device.name)
        and fits(choice.kinds, device.kind)
        and fits(choice.sites, device.site)
        and fits(choice.groups, *device.groups)
    )
