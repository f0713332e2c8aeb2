"""A policy, and what it asks of a device.

Rules apply in the order of the file; a later one replaces an earlier one setting by setting; with
`any` it takes the requirement back.

Passes: `- {rule: firewalls speak as local6, where: {kind: firewall}, require: {facility: local6}}`
Fails:  `- {rule: firewalls, where: {colour: red}, require: {facility: local9}}`
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from fnmatch import fnmatchcase
from typing import Any

from msgspec import Struct
from msgspec.structs import force_setattr, replace

from ivrel.core.fleet import Device
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import SITE, Need, Needs, SetNeed
from ivrel.core.vocabulary.memo import Remembering

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
    text: str = ""  # in words

    def __post_init__(self) -> None:
        words = (f"{part} {need.text}".strip() for part, need in self.needs.items())
        force_setattr(self, "text", ", ".join(words) or ANY)


class Rule(Struct, frozen=True):
    """What is asked of the devices that `where` selects.

    Every selector must fit, any of its words will do.
    """

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
        return _fits(at, "site", self.where.get("site", ("*",))) and not _fits(
            at, "site", self.but.get("site", ())
        )

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
        """Whether the exception is about a device and a setting."""
        return setting == self.setting and fnmatchcase(device.name, self.device)


class Site(Struct, frozen=True):
    """What holds at one site: its collectors (a relay, for one) and its zone."""

    collectors: tuple[str, ...] = ()
    zone: str | None = None
    line: int = 0


class Policy(Remembering, frozen=True, eq=False):
    """Collectors, rules and waivers, as the files have them.

    `settings`: the names of all settings, in the order of reports.
    """

    name: str
    collectors: Mapping[str, Collector]
    rules: tuple[Rule, ...]
    waivers: tuple[Waiver, ...]
    file: str
    sites: Mapping[str, Site] = {}
    settings: tuple[str, ...] = ()


def effective(policy: Policy, device: Device) -> dict[str, Requirement]:
    """Return the requirements of a policy for a device, in the order of the table of settings.

    A later rule replaces an earlier one setting by setting.
    """
    # Devices that rules cannot tell apart are asked the same; fleets have many such.
    name = device.name if policy.once("names devices", lambda: _names_devices(policy)) else ""
    at = ("effective", name, device.kind, device.site, device.platform, device.groups)
    return dict(policy.once(at, lambda: _effective(policy, device)))


def _names_devices(policy: Policy) -> bool:
    return any("device" in rule.where or "device" in rule.but for rule in policy.rules)


def _effective(policy: Policy, device: Device) -> dict[str, Requirement]:
    asked: dict[str, Requirement] = {}
    for rule in policy.rules:
        if rule.holds_for(device):
            asked.update(rule.require)
    named = (name for name in policy.settings if name in asked and asked[name].needs)
    return {name: at_site(asked[name], policy, device.site) for name in named}


def at_site(asked: Requirement, policy: Policy, name: str) -> Requirement:
    """Return a requirement with `site` replaced by its value at a site."""
    if not any(_names_site(need) for need in asked.needs.values()):
        return asked
    # The same requirement at the same site is one object: what was judged by it is known by it.
    return policy.once(("at site", id(asked), name), lambda: _at_site(asked, policy, name))


def _at_site(asked: Requirement, policy: Policy, name: str) -> Requirement:
    site = policy.sites.get(name)
    needs: dict[str, Any] = {}
    for part, need in asked.needs.items():
        if not _names_site(need):
            needs[part] = need
            continue
        values: tuple[str, ...] = site.collectors if site else ()
        if part == "zone":
            values = (site.zone,) if site and site.zone else ()
        if not values:
            what = "zone" if part == "zone" else "collectors"
            said = f"the policy's table of sites gives no {what} for {name}"
            return replace(asked, problem=said)
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
