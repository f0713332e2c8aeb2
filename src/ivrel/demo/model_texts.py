"""The texts around the export part of configurations that are trees: what else is in them."""

from __future__ import annotations

import json
from collections.abc import Iterator
from random import Random

from ivrel.demo.made_up import IETF_TYPE, KEEPERS, PLACES, PORTS, inet

_ETHERNET = (
    '<type xmlns:ianaift="urn:ietf:params:xml:ns:yang:iana-if-type">ianaift:ethernetCsmacd</type>'
)


def osier(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    """Yield the lines of a configuration in XML of our own."""
    dice = Random(device)
    yield "<osier>"
    yield f'  <unit label="{device}" place="{site}"/>'
    yield "  <keepers>"
    for name in dice.sample(KEEPERS, 3):
        yield (
            f'    <keeper id="{name}" rank="{dice.choice(("watch", "full"))}" '
            f'secret="{dice.randbytes(12).hex()}"/>'
        )
    yield "  </keepers>"
    yield "  <ports>"
    yield f'    <port id="ident" {inet(identity).replace(" ", chr(61) + chr(34))}"/>'
    yield '    <port id="up0" inet="203.0.113.42/30" state="up"/>'
    for port in range(max(4, lines // 20)):
        yield (
            f'    <port id="e{port}" about="{dice.choice(PLACES)}" '
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
            f'to="192.0.2.{dice.randrange(256)}" meets="{dice.choice(PORTS)}" feed="f1" '
            'tell="close"/>'
        )
    yield "  </gates>"
    yield "  <nets>"
    for n in range(max(4, lines // 2)):
        net = f"2001:db8:{dice.randrange(65536):x}::/48"
        by = f"2001:db8::{dice.randrange(1, 255):x}"
        yield f'    <net id="n{n}" to="{net}" by="{by}"/>'
    yield "  </nets>"
    yield "</osier>"


def ietf(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    """Valid for ietf-interfaces, ietf-ip and ietf-system.

    Secrets are where ietf-system has them.
    """
    dice = Random(device)
    names = ["lo0", "spare0", *(f"e{n}" for n in range(max(4, lines // 10)))]
    users = dice.sample(KEEPERS, 3)
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
            about = f"<description>{dice.choice(PLACES)}</description>"
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
        {"name": name, "description": dice.choice(PLACES), "type": IETF_TYPE} for name in names
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


def openconfig(device: str, site: str, identity: str, export: str, lines: int) -> Iterator[str]:
    """Yield lines that are valid for openconfig-system and openconfig-interfaces, in XML or JSON.

    Secrets are where openconfig-aaa has them.
    """
    dice = Random(device)
    names = ["lo0", *(f"e{n}" for n in range(max(4, lines // 12)))]
    users = {name: dice.randbytes(12).hex() for name in dice.sample(KEEPERS, 3)}
    of_kind = _openconfig_xml if export.lstrip().startswith("<") else _openconfig_json
    yield from of_kind(device, identity, export, names, users)


def _openconfig_xml(
    device: str, identity: str, export: str, names: list[str], users: dict[str, str]
) -> Iterator[str]:
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
    for name, password in users.items():
        secret = f"<password>{password}</password>"
        inside = f"<username>{name}</username><config><username>{name}</username>{secret}</config>"
        yield f"      <user>{inside}</user>"
    yield from ("    </users></authentication></aaa>", "  </system>", "</config>")


def _openconfig_json(
    device: str, identity: str, export: str, names: list[str], users: dict[str, str]
) -> Iterator[str]:
    own = {"ip": identity, "config": {"ip": identity, "prefix-length": 32}}
    interfaces: list[dict[str, object]] = [
        {"name": name, "config": {"name": name, "type": IETF_TYPE}} for name in names
    ]
    part = {
        "index": 0,
        "config": {"index": 0},
        "openconfig-if-ip:ipv4": {"addresses": {"address": [own]}},
    }
    interfaces[0]["subinterfaces"] = {"subinterface": [part]}
    passwords = [
        {"username": name, "config": {"username": name, "password": password}}
        for name, password in users.items()
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
