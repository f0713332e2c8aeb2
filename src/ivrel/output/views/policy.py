"""The policy: as a whole, and as it holds for one device."""

from __future__ import annotations

from datetime import date
from typing import Any

import msgspec

from ivrel.core.fleet import Device
from ivrel.core.judging.remarks import Remark
from ivrel.core.policy import Policy, Requirement, Rule
from ivrel.output.views.view import View, fields


class PolicyView(View, frozen=True, kw_only=True):
    """The policy as a whole.

    `matches`: how many devices each rule is about, if there is a fleet; `remarks`: what to look at.
    """

    policy: Policy
    matches: tuple[int, ...] | None
    remarks: tuple[Remark, ...]
    today: date

    def machine(self) -> Any:
        policy = self.policy
        plain = msgspec.to_builtins
        collectors = policy.collectors.values()
        return {
            "policy": policy.name,
            "collectors": [{**plain(c), "reaches": sorted(c.reaches)} for c in collectors],
            "rules": [_rule(rule) for rule in policy.rules],
            "sites": {name: plain(site) for name, site in policy.sites.items()},
            "waivers": [plain(w) for w in policy.waivers],
            "to_look_at": [plain(r) for r in self.remarks],
        }


def _rule(rule: Rule) -> dict[str, Any]:
    return {
        "rule": rule.name,
        "file": rule.file,
        "line": rule.line,
        "where": {k: list(v) for k, v in rule.where.items()},
        "not": {k: list(v) for k, v in rule.but.items()},
        "require": {name: r.text for name, r in rule.require.items()},
    }


class RequirementsView(View, frozen=True, kw_only=True):
    """What the policy asks of one device, and which rule of it does."""

    device: Device
    policy: Policy
    asked: tuple[Requirement, ...]

    def machine(self) -> Any:
        return {
            "device": self.device.name,
            "policy": self.policy.name,
            "requirements": [fields(r, "setting text:wanted rule file line") for r in self.asked],
        }
