"""The example fleet as living devices: its workspace with all addresses on loopback, so that nobody
needs rights that a user does not have.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

from ivrel.demo.workspace import configurations, fleet_text, policy_text
from ivrel.sources.files import claim_folder, write_text
from ivrel.standin.files import RESTART

# The ranges for documentation (RFC 5737), and what stands for them on loopback.
RANGES: Mapping[str, str] = {
    "192.0.2": "127.2.0",
    "198.51.100": "127.51.100",
    "203.0.113": "127.113.0",
}
PORTS: Mapping[str, str] = {"514": "5514", "601": "5601"}  # those that need rights, and others
SSH_PORT = 2222
NETCONF_PORT = 8300
HOST = "127.2.0.254"  # that some devices are reached through
_ADDRESS = re.compile(r"\b(192\.0\.2|198\.51\.100|203\.0\.113)(?=\.\d)")
_PORT = re.compile(r"(?<![.\d])\b(514|601)\b(?!\.\d)")

REACH = f"""
# How the devices are reached: each at its identity, with the key that the stand-ins let in; those
# of one site through a host, those of one platform with a second password.
reach:
  - {{via: ssh, port: {SSH_PORT}, user: keeper, key: KEY, patience: 5, trial: 10}}
  - {{where: {{platform: [ietf-syslog, openconfig]}}, via: netconf, port: {NETCONF_PORT}}}
  - {{where: {{platform: rsyslog}}, restart: {RESTART}}}
  - {{where: {{platform: hollin}}, second-password: {{from: [cat, SECOND]}}}}
  - {{where: {{site: orrin}}, through: quay}}
hosts:
  - {{host: quay, address: {HOST}, port: {SSH_PORT}, user: keeper, key: KEY}}
"""


def on_loopback(text: str) -> str:
    """Return a text of the example with all addresses on loopback and unprivileged ports."""
    text = _ADDRESS.sub(lambda found: RANGES[found[1]], text)
    return _PORT.sub(lambda found: PORTS[found[1]], text)


def new_example(folder: Path, *, replace: bool = False) -> None:
    """Write the example for stand-ins into a folder; `replace`: even if it is not empty."""
    claim_folder(folder, replace)
    write_example(folder)


def write_example(folder: Path) -> None:
    """Write the example's workspace for stand-ins."""
    own = folder.absolute() / ".ivrel" / "standin"
    ways = REACH.replace("KEY", f"'{own / 'key'}'")
    ways = ways.replace("SECOND", f"'{own / 'second-password'}'")
    fleet = on_loopback(fleet_text()) + ways
    write_text(folder / "fleet.yaml", fleet)
    write_text(folder / "policy.yaml", on_loopback(policy_text()))
    for device, files in configurations().items():
        for name, text in files.items():
            path = folder / "configs" / (f"{device}/{name}" if name else f"{device}.conf")
            write_text(path, on_loopback(text))
