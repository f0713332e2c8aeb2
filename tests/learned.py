"""Platforms made up for the learner alone: their texts, and the facts that hold.

Each differs from the others, and from the stand-ins that ship, in shape, words and order. `PETREL`
and `RAIL` were written down before the learner was tried on any of these, and it was never changed
for them.
"""

from __future__ import annotations

from typing import NamedTuple


class Platform(NamedTuple):
    """The texts of some devices, by name, and what each says: `setting key` to value."""

    shape: str
    texts: dict[str, str]
    facts: dict[str, dict[str, str]]


def _gull(name: str, address: str, port: int, level: str, facility: str, more: str = "") -> str:
    return f"""! harbour access router, saved at dusk
name {name}
keyring
  secret 5f2a{port}c0ffee
  watchword harbour{port}
wire lo7
  ip {address}/32
wire wan
  ip 203.0.113.{port % 200}/30
  width 1480
wire spare9
  note kept free
time
  peer 198.51.100.5
logs
  collector 198.51.100.21 over udp {port} severity {level} facility {facility}
{more}  source lo7
  timestamps absolute ms zone
  sequence enabled
  buffer 8192 severity debug
  screen off
"""


GULL = Platform(
    "blocks",
    {
        "quay-r1": _gull("quay-r1", "192.0.2.101", 514, "info", "local3"),
        "quay-r2": _gull("quay-r2", "192.0.2.102", 5514, "warn", "local3"),
        "quay-r3": _gull(
            "quay-r3", "192.0.2.103", 514, "info", "local2",
            "  collector 198.51.100.22 over tcp 601 severity err facility local3\n",
        ),
    },
    {
        "quay-r1": {
            "collectors 198.51.100.21": "198.51.100.21 udp 514",
            "level 198.51.100.21": "through informational",
            "facility 198.51.100.21": "local3", "source": "lo7",
            "stamp kind": "calendar", "stamp precision": "milliseconds", "stamp zone": "shown",
            "numbering": "on", "memory size": "8192", "memory level": "debug", "console": "none",
            "clock servers": "198.51.100.5",
        },
        "quay-r3": {
            "collectors 198.51.100.22": "198.51.100.22 tcp 601",
            "level 198.51.100.22": "through error",
            "facility 198.51.100.21": "local2",
            "facility 198.51.100.22": "local3",
        },
    },
)  # fmt: skip


def _tern(name: str, number: int, second: str = "") -> str:
    return f"""# tern
sys.name = {name}
sys.contact = desk
user.root.password = 77{number}deadbeef
if.a0.addr = 192.0.2.{number}/32
if.a1.addr = 203.0.113.{number}/30
if.a1.state = up
syslog.enabled = true
syslog.dest.1.host = 198.51.100.21
syslog.dest.1.port = 514
syslog.dest.1.protocol = udp
syslog.dest.1.severity = warn
syslog.dest.1.facility = local2
syslog.dest.1.source = a0
{second}syslog.timestamp.type = date
syslog.timestamp.precision = milli
syslog.timestamp.zone = true
syslog.sequence = true
"""


TERN = Platform(
    "paths",
    {
        "lock-1": _tern("lock-1", 111),
        "lock-2": _tern(
            "lock-2", 112,
            "syslog.dest.2.host = 198.51.100.22\nsyslog.dest.2.port = 601\n"
            "syslog.dest.2.protocol = tcp\nsyslog.dest.2.severity = crit\n",
        ),
    },
    {
        "lock-1": {
            "export": "on", "collectors 1": "198.51.100.21 udp 514", "level 1": "through warning",
            "facility 1": "local2", "source 1": "a0", "stamp kind": "calendar",
            "stamp precision": "milliseconds", "stamp zone": "shown", "numbering": "on",
        },
        "lock-2": {"collectors 2": "198.51.100.22 tcp 601", "level 2": "through critical"},
    },
)  # fmt: skip


def _auk(name: str, number: int, enable: str = "on") -> str:
    return f"""; auk
[system]
hostname = {name}
owner = harbour

[interface.eth0]
address = 192.0.2.{number}/32
[interface.eth1]
address = 203.0.113.{number}/30
comment = to the ring

[log]
enable = {enable}
facility = local5
from = eth0
timestamp = uptime

[server.main]
ip = 198.51.100.21
transport = tcp
port = 601
threshold = notice

[server.spare]
ip = 198.51.100.22
transport = udp
port = 514
threshold = alert
"""


AUK = Platform(
    "sections",
    {"sluice-1": _auk("sluice-1", 121), "sluice-2": _auk("sluice-2", 122, "off")},
    {
        "sluice-1": {
            "export": "on", "collectors main": "198.51.100.21 tcp 601",
            "collectors spare": "198.51.100.22 udp 514", "level main": "through notice",
            "level spare": "through alert", "facility": "local5", "source": "eth0",
            "stamp kind": "uptime",
        },
        "sluice-2": {"export": "off"},
    },
)  # fmt: skip


def _petrel(name: str, number: int, level: str) -> str:
    return f"""node "{name}" {{
  # set up by hand
  vault {{ secret a{number}b{number}c; }}
  nic e1 {{ addr 192.0.2.{number}/32; }}
  nic e2 {{ addr 203.0.113.{number}/30; speed 100; }}
  chronicle {{
    server main {{ address 198.51.100.21; transport udp; port 514; level {level}; facility local1; }}
    server other {{ address 198.51.100.22; transport tcp; port 601; level error; facility local1; }}
    format rfc5424;
    source e1;
    sequence on;
    rate 300;
  }}
}}
"""


PETREL = Platform(
    "braces",
    {"dock-1": _petrel("dock-1", 131, "warning"), "dock-2": _petrel("dock-2", 132, "debug")},
    {
        "dock-1": {
            "collectors main": "198.51.100.21 udp 514", "collectors other": "198.51.100.22 tcp 601",
            "level main": "through warning", "level other": "through error",
            "facility main": "local1", "facility other": "local1", "source": "e1",
            "numbering": "on", "rate": "300", "format": "rfc5424",
        },
        "dock-2": {"level main": "through debug"},
    },
)  # fmt: skip


def _rail(name: str, number: int, more: str = "") -> str:
    return f"""# rail
label {name}
begin link core1
inet 192.0.2.{number}/32
finish
begin link up0
inet 203.0.113.{number}/30
finish
begin journal
active yes
facility local6
send 198.51.100.21 tcp 601 notice
{more}leave core1
stamp date milli
finish
"""


RAIL = Platform(
    "enclosed",
    {
        "yard-1": _rail("yard-1", 141),
        "yard-2": _rail("yard-2", 142, "send 198.51.100.22 udp 514 warning\n"),
    },
    {
        "yard-1": {
            "export": "on", "facility": "local6", "source": "core1", "stamp kind": "calendar",
            "stamp precision": "milliseconds",
            "collectors 198.51.100.21": "198.51.100.21 tcp 601",
            "level 198.51.100.21": "through notice",
        },
        "yard-2": {
            "collectors 198.51.100.22": "198.51.100.22 udp 514",
            "level 198.51.100.22": "through warning",
        },
    },
)  # fmt: skip

PLATFORMS = {"gull": GULL, "tern": TERN, "auk": AUK, "petrel": PETREL, "rail": RAIL}
