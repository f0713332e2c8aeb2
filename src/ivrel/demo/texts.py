"""Writes configurations that look like those of a real network: ports, routes, filters, accounts.

Everything is made up: names from the example's scenario, addresses from the ranges for
documentation (RFC 5737, RFC 3849). What comes out depends on the arguments alone.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from random import Random

_PLACES = (
    "pier",
    "car deck",
    "ticket hall",
    "bridge",
    "engine room",
    "gangway",
    "office",
    "mast",
    "crew mess",
)
_KEEPERS = ("alvar", "brisa", "corin", "dagny", "edda", "fenn")
_PORTS = (22, 53, 80, 123, 179, 443, 514, 601, 853, 5060, 8443)


_ETHERNET = (
    '<type xmlns:ianaift="urn:ietf:params:xml:ns:yang:iana-if-type">ianaift:ethernetCsmacd</type>'
)


def whole_text(
    platform: str, device: str, site: str, identity: str, export: str, lines: int
) -> str:
    """A configuration of about `lines` lines around an export section."""
    return "".join(
        line + "\n" for line in _WRITERS[platform](device, site, identity, export, lines)
    )


def _inet(identity: str) -> str:
    return f"inet6 {identity}/128" if ":" in identity else f"inet {identity}/32"


def _quern(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    dice = Random(device)
    yield "# saved by the keeper's desk"
    yield f"unit {device}"
    yield f"place {site}"
    for name in dice.sample(_KEEPERS, 3):
        yield f"keeper {name}"
        yield f"    rank {dice.choice(('watch', 'full'))}"
        yield f"    secret {dice.randbytes(12).hex()}"
    yield "link loop1"
    yield f"    {_inet(identity)}"
    yield "link loop9"
    yield "    about kept free"
    yield "link up0"
    yield f"    about to the ring, {dice.choice(_PLACES)}"
    yield f"    inet 203.0.113.{dice.randrange(0, 63) * 4 + 1}/30"
    yield f"    inet6 2001:db8:{dice.randrange(1, 9999):x}::1/64"
    for port in range(max(4, lines // 40)):
        yield f"link port{port}"
        yield f"    about {dice.choice(_PLACES)} {dice.randrange(1, 40)}"
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
            f"198.51.100.{dice.randrange(256)} 192.0.2.{dice.randrange(256)} {dice.choice(_PORTS)}"
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
    for name in dice.sample(_KEEPERS, 3):
        yield f"keeper.{name}.rank = {dice.choice(('watch', 'full'))}"
        yield f"keeper.{name}.secret = {dice.randbytes(12).hex()}"
    yield f"port.ident.{_inet(identity).replace(' ', ' = ')}"
    yield "port.up0.inet = 203.0.113.42/30"
    yield f"port.up0.inet6 = 2001:db8:{dice.randrange(1, 9999):x}::1/64"
    yield "port.up0.state = up"
    for port in range(max(4, lines // 40)):
        yield f"port.e{port}.about = {dice.choice(_PLACES)} {dice.randrange(1, 40)}"
        yield f"port.e{port}.state = {dice.choice(('up', 'up', 'up', 'down'))}"
        yield f"port.e{port}.lane = {dice.randrange(10, 60)}"
    yield "time.zone = UTC"
    yield "time.peer.1 = 198.51.100.5"
    yield from export.rstrip("\n").split("\n")
    for n in range(max(4, lines // 6)):
        yield f"gate.{n}.act = {dice.choice(('pass', 'pass', 'stop'))}"
        yield f"gate.{n}.to = 192.0.2.{dice.randrange(256)} {dice.choice(_PORTS)}"
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
    for name in dice.sample(_KEEPERS, 3):
        yield (
            f"    keeper {name} {{ rank {dice.choice(('watch', 'full'))}; secret "
            f"{dice.randbytes(12).hex()}; }}"
        )
    yield f"    port ident {{ {_inet(identity)}; }}"
    yield f"    port keep0 {{ inet 203.0.113.{dice.randrange(0, 63) * 4 + 2}/30; plane keeper; }}"
    yield f"    port outer0 {{ inet 203.0.113.{dice.randrange(0, 63) * 4 + 1}/30; plane transit; }}"
    yield "    port spare0 { plane transit; }"
    for port in range(max(4, lines // 40)):
        yield f"    port e{port} {{"
        yield f'        about "{dice.choice(_PLACES)} {dice.randrange(1, 40)}";'
        yield f"        state {dice.choice(('up', 'up', 'up', 'down'))};"
        yield "    }"
    yield "    clock { zone UTC; follow 198.51.100.5; }"
    yield from ("    " + line for line in export.rstrip("\n").split("\n"))
    yield "    gates {"
    for n in range(max(4, lines // 3)):
        yield (
            f"        gate {n * 10 + 10} {{ from 198.51.100.{dice.randrange(256)}; to "
            f"192.0.2.{dice.randrange(256)}; "
            f"meets {dice.choice(_PORTS)}; action {dice.choice(('pass', 'pass', 'stop'))}; "
            "record close; }}"
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
    for name in dice.sample(_KEEPERS, 3):
        yield from (f"[keeper.{name}]", f"rank = {dice.choice(('watch', 'full'))}")
        yield from (f"secret = {dice.randbytes(12).hex()}", "")
    yield from ("[port.mgmt]", f"inet = {identity}/32", "state = up", "")
    yield from ("[port.spare]", "about = kept free", "")
    for port in range(max(4, lines // 5)):
        yield from (f"[port.e{port}]", f"about = {dice.choice(_PLACES)} {dice.randrange(1, 40)}")
        yield from (
            f"state = {dice.choice(('up', 'up', 'up', 'down'))}",
            f"lane = {dice.randrange(10, 60)}",
            "",
        )
    yield from export.rstrip("\n").split("\n")


def _osier(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    dice = Random(device)
    yield "<osier>"
    yield f'  <unit label="{device}" place="{site}"/>'
    yield "  <keepers>"
    for name in dice.sample(_KEEPERS, 3):
        yield (
            f'    <keeper id="{name}" rank="{dice.choice(("watch", "full"))}" '
            f'secret="{dice.randbytes(12).hex()}"/>'
        )
    yield "  </keepers>"
    yield "  <ports>"
    yield f'    <port id="ident" {_inet(identity).replace(" ", chr(61) + chr(34))}"/>'
    yield '    <port id="up0" inet="203.0.113.42/30" state="up"/>'
    for port in range(max(4, lines // 20)):
        yield (
            f'    <port id="e{port}" about="{dice.choice(_PLACES)}" '
            f'lane="{dice.randrange(10, 60)}"/>'
        )
    yield "  </ports>"
    if "<clock" not in export:
        yield '  <clock zone="UTC"><peer id="1" inet="198.51.100.5"/></clock>'
    yield from ("  " + line for line in export.rstrip("\n").split("\n"))
    yield "  <gates>"
    for n in range(max(4, lines // 3)):
        yield (
            f'    <gate id="g{n}" act="{dice.choice(("pass", "pass", "stop"))}" '
            f'to="192.0.2.{dice.randrange(256)}" meets="{dice.choice(_PORTS)}" feed="f1" '
            'tell="close"/>'
        )
    yield "  </gates>"
    yield "  <nets>"
    for n in range(max(4, lines // 2)):
        net, by = (
            f"2001:db8:{dice.randrange(65536):x}::/48",
            f"2001:db8::{dice.randrange(1, 255):x}",
        )
        yield f'    <net id="n{n}" to="{net}" by="{by}"/>'
    yield "  </nets>"
    yield "</osier>"


_IETF_TYPE = "iana-if-type:ethernetCsmacd"


def _ietf(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    """Valid for ietf-interfaces, ietf-ip and ietf-system; secrets stand where ietf-system has
    them.
    """
    dice = Random(device)
    names = ["lo0", "spare0", *(f"e{n}" for n in range(max(4, lines // 10)))]
    users = dice.sample(_KEEPERS, 3)
    if export.lstrip().startswith("<"):
        yield '<data xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">'
        yield '  <interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">'
        for name in names:
            address = (
                f"<address><ip>{identity}</ip><prefix-length>32</prefix-length></address>"
                if name == "lo0"
                else ""
            )
            kind = _ETHERNET
            inside = f'<ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip">{address}</ipv4>'
            about = f"<description>{dice.choice(_PLACES)}</description>"
            yield f"    <interface><name>{name}</name>{about}{kind}{inside}</interface>"
        yield "  </interfaces>"
        yield from ("  " + line for line in export.rstrip("\n").split("\n"))
        yield (
            "  <system "
            f'xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>{device}</hostname>'
        )
        yield f"    <location>{site}</location>"
        yield "    <authentication>"
        for name in users:
            secret = f"$0${dice.randbytes(12).hex()}"
            yield f"      <user><name>{name}</name><password>{secret}</password></user>"
        yield from ("    </authentication>", "  </system>", "</data>")
        return
    interfaces = [
        {"name": name, "description": dice.choice(_PLACES), "type": _IETF_TYPE} for name in names
    ]
    lo0 = {"ietf-ip:ipv4": {"address": [{"ip": identity, "prefix-length": 32}]}}
    passwords = [{"name": name, "password": f"$0${dice.randbytes(12).hex()}"} for name in users]
    whole = {
        "ietf-system:system": {
            "hostname": device,
            "location": site,
            "authentication": {"user": passwords},
        },
        "ietf-interfaces:interfaces": {"interface": [{**interfaces[0], **lo0}, *interfaces[1:]]},
        "ietf-syslog:syslog": json.loads(export),
    }
    yield from json.dumps(whole, indent=2).split("\n")


def _openconfig(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    """Valid for openconfig-system and openconfig-interfaces; secrets stand where openconfig-aaa has
    them.
    """
    dice = Random(device)
    names = ["lo0", *(f"e{n}" for n in range(max(4, lines // 12)))]
    users = dice.sample(_KEEPERS, 3)
    if export.lstrip().startswith("<"):
        yield "<config>"
        yield '  <interfaces xmlns="http://openconfig.net/yang/interfaces">'
        for name in names:
            kind = _ETHERNET
            length = "<prefix-length>32</prefix-length>"
            prefix = f"<ip>{identity}</ip><config><ip>{identity}</ip>{length}</config>"
            address = f"<addresses><address>{prefix}</address></addresses>" if name == "lo0" else ""
            inside = f'<ipv4 xmlns="http://openconfig.net/yang/interfaces/ip">{address}</ipv4>'
            index = "<index>0</index><config><index>0</index></config>"
            inside = f"<subinterface>{index}{inside}</subinterface>"
            inside = (
                f"<config><name>{name}</name>{kind}</config><subinterfaces>{inside}</subinterfaces>"
            )
            yield f"    <interface><name>{name}</name>{inside}</interface>"
        yield "  </interfaces>"
        yield '  <system xmlns="http://openconfig.net/yang/system">'
        yield f"    <config><hostname>{device}</hostname></config>"
        yield "    <logging>"
        yield from ("      " + line for line in export.rstrip("\n").split("\n"))
        yield "    </logging>"
        yield "    <aaa><authentication><users>"
        for name in users:
            secret = f"<password>{dice.randbytes(12).hex()}</password>"
            inside = (
                f"<username>{name}</username><config><username>{name}</username>{secret}</config>"
            )
            yield f"      <user>{inside}</user>"
        yield from ("    </users></authentication></aaa>", "  </system>", "</config>")
        return
    own = {"ip": identity, "config": {"ip": identity, "prefix-length": 32}}
    interfaces: list[dict[str, object]] = [
        {"name": name, "config": {"name": name, "type": _IETF_TYPE}} for name in names
    ]
    part = {
        "index": 0,
        "config": {"index": 0},
        "openconfig-if-ip:ipv4": {"addresses": {"address": [own]}},
    }
    interfaces[0]["subinterfaces"] = {"subinterface": [part]}
    passwords = [
        {"username": name, "config": {"username": name, "password": dice.randbytes(12).hex()}}
        for name in users
    ]
    whole = {
        "openconfig-interfaces:interfaces": {"interface": interfaces},
        "openconfig-system:system": {
            "config": {"hostname": device},
            "aaa": {"authentication": {"users": {"user": passwords}}},
            "logging": json.loads(export),
        },
    }
    yield from json.dumps(whole, indent=2).split("\n")


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
        f"# secret of keeper {name}: {dice.randbytes(12).hex()}"
        for name in dice.sample(_KEEPERS, 3)
    )
    yield "$FileCreateMode 0640"
    yield from export.rstrip("\n").split("\n")
    yield "auth,authpriv.*  /var/log/auth.log"
    yield "*.*;auth,authpriv.none  -/var/log/syslog"
    for n in range(max(4, lines // 20)):
        yield (
            f'if $programname == "{dice.choice(_PLACES).replace(" ", "")}{n}" then '
            f"/var/log/places/{n}.log"
        )
    yield "*.emerg  :omusrmsg:*"


_WRITERS: dict[str, Callable[[str, str, str, str, int], Iterator[str]]] = {
    "quern": _quern,
    "skarn": _skarn,
    "hollin": _hollin,
    "marl": _marl,
    "osier": _osier,
    "ietf-syslog": _ietf,
    "openconfig": _openconfig,
    "rsyslog": _rsyslog,
}
