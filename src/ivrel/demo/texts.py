"""Writes configurations that look like those of a real network: ports, routes, filters, accounts.

Everything is made up: names from the example's scenario, addresses from the ranges for
documentation (RFC 5737, RFC 3849). What comes out depends on the arguments alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from random import Random

from ivrel.demo.made_up import KEEPERS, PLACES, PORTS, inet
from ivrel.demo.model_texts import ietf, openconfig, osier


def whole_text(
    platform: str, device: str, site: str, identity: str, export: str, lines: int
) -> str:
    """Return a configuration of about `lines` lines around an export section."""
    return "".join(
        line + "\n" for line in _WRITERS[platform](device, site, identity, export, lines)
    )


def _quern(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    dice = Random(device)
    yield "# saved by the keeper's desk"
    yield f"unit {device}"
    yield f"place {site}"
    for name in dice.sample(KEEPERS, 3):
        yield f"keeper {name}"
        yield f"    rank {dice.choice(('watch', 'full'))}"
        yield f"    secret {dice.randbytes(12).hex()}"
    yield "link loop1"
    yield f"    {inet(identity)}"
    yield "link loop9"
    yield "    about kept free"
    yield "link up0"
    yield f"    about to the ring, {dice.choice(PLACES)}"
    yield f"    inet 203.0.113.{dice.randrange(0, 63) * 4 + 1}/30"
    yield f"    inet6 2001:db8:{dice.randrange(1, 9999):x}::1/64"
    for port in range(max(4, lines // 40)):
        yield f"link port{port}"
        yield f"    about {dice.choice(PLACES)} {dice.randrange(1, 40)}"
        yield f"    state {dice.choice(('up', 'up', 'up', 'down'))}"
        yield f"    lane {dice.randrange(10, 60)}"
    yield "clock"
    yield "    zone UTC"
    yield "    follow 198.51.100.5"
    yield from export.rstrip("\n").split("\n")
    yield "gate landward"
    for n in range(max(4, lines // 3)):
        yield (
            f"    {n * 10 + 10} {dice.choice(('pass', 'pass', 'stop'))} "
            f"{dice.choice(('tcp', 'udp'))} "
            f"198.51.100.{dice.randrange(256)} 192.0.2.{dice.randrange(256)} {dice.choice(PORTS)}"
        )
    for _ in range(max(4, lines // 2)):
        yield (
            f"route 2001:db8:{dice.randrange(65536):x}:{dice.randrange(65536):x}::/64 "
            f"by 2001:db8::{dice.randrange(1, 255):x} cost {dice.randrange(1, 200)}"
        )


def _skarn(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    dice = Random(device)
    yield "! saved by the keeper's desk"
    yield f"unit.label = {device}"
    yield f"unit.place = {site}"
    for name in dice.sample(KEEPERS, 3):
        yield f"keeper.{name}.rank = {dice.choice(('watch', 'full'))}"
        yield f"keeper.{name}.secret = {dice.randbytes(12).hex()}"
    yield f"port.ident.{inet(identity).replace(' ', ' = ')}"
    yield "port.up0.inet = 203.0.113.42/30"
    yield f"port.up0.inet6 = 2001:db8:{dice.randrange(1, 9999):x}::1/64"
    yield "port.up0.state = up"
    for port in range(max(4, lines // 40)):
        yield f"port.e{port}.about = {dice.choice(PLACES)} {dice.randrange(1, 40)}"
        yield f"port.e{port}.state = {dice.choice(('up', 'up', 'up', 'down'))}"
        yield f"port.e{port}.lane = {dice.randrange(10, 60)}"
    yield "time.zone = UTC"
    yield "time.peer.1 = 198.51.100.5"
    yield from export.rstrip("\n").split("\n")
    for n in range(max(4, lines // 6)):
        yield f"gate.{n}.act = {dice.choice(('pass', 'pass', 'stop'))}"
        yield f"gate.{n}.to = 192.0.2.{dice.randrange(256)} {dice.choice(PORTS)}"
    for n in range(max(4, lines // 2)):
        yield (
            f"route.{n}.net = 2001:db8:{dice.randrange(65536):x}:{dice.randrange(65536):x}::/64 "
            f"by 2001:db8::{dice.randrange(1, 255):x}"
        )


def _hollin(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    dice = Random(device)
    yield "# saved by the keeper's desk"
    yield f'unit "{device}" {{'
    yield f"    place {site};"
    for name in dice.sample(KEEPERS, 3):
        yield (
            f"    keeper {name} {{ rank {dice.choice(('watch', 'full'))}; secret "
            f"{dice.randbytes(12).hex()}; }}"
        )
    yield f"    port ident {{ {inet(identity)}; }}"
    yield f"    port keep0 {{ inet 203.0.113.{dice.randrange(0, 63) * 4 + 2}/30; plane keeper; }}"
    yield f"    port outer0 {{ inet 203.0.113.{dice.randrange(0, 63) * 4 + 1}/30; plane transit; }}"
    yield "    port spare0 { plane transit; }"
    for port in range(max(4, lines // 40)):
        yield f"    port e{port} {{"
        yield f'        about "{dice.choice(PLACES)} {dice.randrange(1, 40)}";'
        yield f"        state {dice.choice(('up', 'up', 'up', 'down'))};"
        yield "    }"
    yield "    clock { zone UTC; follow 198.51.100.5; }"
    yield from ("    " + line for line in export.rstrip("\n").split("\n"))
    yield "    gates {"
    for n in range(max(4, lines // 3)):
        yield (
            f"        gate {n * 10 + 10} {{ from 198.51.100.{dice.randrange(256)}; to "
            f"192.0.2.{dice.randrange(256)}; "
            f"meets {dice.choice(PORTS)}; action {dice.choice(('pass', 'pass', 'stop'))}; "
            f"record close; }}"
        )
    yield "    }"
    for _ in range(max(4, lines // 2)):
        yield (
            f"    route 2001:db8:{dice.randrange(65536):x}:{dice.randrange(65536):x}::/64 "
            f"by 2001:db8::{dice.randrange(1, 255):x};"
        )
    yield "}"


def _marl(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    dice = Random(device)
    yield "; saved by the keeper's desk"
    yield from ("[unit]", f"label = {device}", f"place = {site}", "")
    for name in dice.sample(KEEPERS, 3):
        yield from (f"[keeper.{name}]", f"rank = {dice.choice(('watch', 'full'))}")
        yield from (f"secret = {dice.randbytes(12).hex()}", "")
    yield from ("[port.mgmt]", f"inet = {identity}/32", "state = up", "")
    yield from ("[port.spare]", "about = kept free", "")
    for port in range(max(4, lines // 5)):
        yield from (f"[port.e{port}]", f"about = {dice.choice(PLACES)} {dice.randrange(1, 40)}")
        yield from (
            f"state = {dice.choice(('up', 'up', 'up', 'down'))}",
            f"lane = {dice.randrange(10, 60)}",
            "",
        )
    yield from export.rstrip("\n").split("\n")


def _rsyslog(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    dice = Random(device)
    yield f"# {device} at {site}, saved by the keeper's desk"
    yield 'module(load="imuxsock")'
    yield 'module(load="imklog")'
    yield (
        'global(workDirectory="/var/spool/rsyslog" '
        'defaultNetstreamDriverCAFile="/etc/ssl/certs/beacons.pem")'
    )
    yield from (
        f"# secret of keeper {name}: {dice.randbytes(12).hex()}" for name in dice.sample(KEEPERS, 3)
    )
    yield "$FileCreateMode 0640"
    yield from export.rstrip("\n").split("\n")
    yield "auth,authpriv.*  /var/log/auth.log"
    yield "*.*;auth,authpriv.none  -/var/log/syslog"
    for n in range(max(4, lines // 20)):
        yield (
            f'if $programname == "{dice.choice(PLACES).replace(" ", "")}{n}" then '
            f"/var/log/places/{n}.log"
        )
    yield "*.emerg  :omusrmsg:*"


_WRITERS: dict[str, Callable[[str, str, str, str, int], Iterator[str]]] = {
    "quern": _quern,
    "skarn": _skarn,
    "hollin": _hollin,
    "marl": _marl,
    "osier": osier,
    "ietf-syslog": ietf,
    "openconfig": openconfig,
    "rsyslog": _rsyslog,
}
