"""Reads a policy and says what it asks of a device.

Rules apply in the order in which they stand; a later one replaces an earlier one setting by setting; with
`any` it takes the requirement back.

Passes: `- {rule: firewalls speak as local6, where: {kind: firewall}, require: {facility: local6}}`
Fails:  `- {rule: firewalls, where: {colour: red}, require: {facility: local9}}`
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from fnmatch import fnmatchcase
from functools import lru_cache
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.fleet import Device
from ivrel.core.settings import SETTINGS, Collector, Needs
from ivrel.core.settings.need import SITE, Need, SetNeed

ANY = "any"  # asks nothing of a setting, whatever earlier rules ask
SELECTORS = ("kind", "site", "group", "platform", "device")


class Requirement(Struct, frozen=True, eq=False):
    """What is asked of one setting, and where the policy asks it."""

    setting: str
    needs: Needs
    rule: str
    line: int
    file: str = ""
    problem: str = ""  # why it is not known what is asked of this device

    @property
    def text(self) -> str:
        """The requirement in words."""
        return _text(self)


@lru_cache(maxsize=4096)
def _text(asked: Requirement) -> str:
    if not asked.needs:
        return ANY
    return ", ".join(f"{part} {need.text}".strip() for part, need in asked.needs.items())


class Rule(Struct, frozen=True):
    """What is asked of the devices that `where` selects; every selector must fit, any of its words will do."""

    name: str
    where: Mapping[str, tuple[str, ...]]
    require: Mapping[str, Requirement]
    line: int
    but: Mapping[str, tuple[str, ...]] = {}  # what the devices must not be
    file: str = ""

    def holds_for(self, device: Device) -> bool:
        """Whether the rule is about a device."""
        return all(_fits(device, *one) for one in self.where.items()) and not any(
            _fits(device, *one) for one in self.but.items()
        )

    def may_be_at(self, site: str) -> bool:
        """Whether the rule can be about devices of a site."""
        at = Device("", "", site, "")
        return _fits(at, "site", self.where.get("site", ("*",))) and not _fits(at, "site", self.but.get("site", ()))

    @property
    def about(self) -> str:
        """The devices that the rule is about, in words."""
        said = [f"{selector} {' or '.join(words)}" for selector, words in self.where.items()]
        said += [f"not {selector} {' or '.join(words)}" for selector, words in self.but.items()]
        return ", ".join(said) or "all devices"


class Waiver(Struct, frozen=True):
    """An exception for a device and a setting, up to and with its last day."""

    device: str
    setting: str
    until: date
    because: str
    line: int
    who: str = ""
    file: str = ""

    def covers(self, device: Device, setting: str) -> bool:
        return setting == self.setting and fnmatchcase(device.name, self.device)


class Site(Struct, frozen=True):
    """What holds at one site: its collectors (a relay, for one) and its zone."""

    collectors: tuple[str, ...] = ()
    zone: str | None = None
    line: int = 0


class Policy(Struct, frozen=True, eq=False):
    """Collectors, rules and waivers, as one file has them."""

    name: str
    collectors: Mapping[str, Collector]
    rules: tuple[Rule, ...]
    waivers: tuple[Waiver, ...]
    file: str
    sites: Mapping[str, Site] = {}


def effective(policy: Policy, device: Device) -> dict[str, Requirement]:
    """What a policy asks of a device, setting by setting in the order of the table of settings."""
    # Devices that rules cannot tell apart are asked the same; fleets have many such.
    name = device.name if _names_devices(policy) else ""
    return dict(_effective(policy, Device(name, device.kind, device.site, device.platform, device.groups)))


@lru_cache(maxsize=64)
def _names_devices(policy: Policy) -> bool:
    return any("device" in rule.where or "device" in rule.but for rule in policy.rules)


@lru_cache(maxsize=4096)
def _effective(policy: Policy, device: Device) -> dict[str, Requirement]:
    asked: dict[str, Requirement] = {}
    for rule in policy.rules:
        if rule.holds_for(device):
            asked.update(rule.require)
    return {
        name: at_site(asked[name], policy, device.site) for name in SETTINGS if name in asked and asked[name].needs
    }


@lru_cache(maxsize=65536)
def at_site(asked: Requirement, policy: Policy, name: str) -> Requirement:
    """A requirement with what `site` stands for at a site."""
    if not any(_names_site(need) for need in asked.needs.values()):
        return asked
    site = policy.sites.get(name)
    needs: dict[str, Any] = {}
    for part, need in asked.needs.items():
        if not _names_site(need):
            needs[part] = need
            continue
        values = (site.zone,) if site and part == "zone" and site.zone else site.collectors if site else ()
        if not values:
            what = "zone" if part == "zone" else "collectors"
            return replace(asked, problem=f"the policy's table of sites gives no {what} for {name}")
        needs[part] = need.with_site(values)
    return replace(asked, needs=needs)


def _names_site(need: Any) -> bool:
    if isinstance(need, Need):
        return need.any_of is not None and SITE in need.any_of
    return isinstance(need, SetNeed) and (SITE in need.wanted or SITE in need.never)


def _fits(device: Device, selector: str, words: tuple[str, ...]) -> bool:
    return any(fnmatchcase(has, word) for has in _selected(device, selector) for word in words)


def _selected(device: Device, selector: str) -> tuple[str, ...]:
    if selector == "group":
        return device.groups
    return (device.name,) if selector == "device" else (getattr(device, selector),)
