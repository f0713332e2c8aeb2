"""One device's verdicts from both ends: the rules, the lines, the comparison, the correction."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec

from ivrel.core.correcting import Correction
from ivrel.core.evidence.claims import Claim
from ivrel.core.evidence.witnesses import COUNTERS, Comparison
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy
from ivrel.core.vocabulary.verdict import Verdict
from ivrel.output.views.heard import claim_row, comparison_rows
from ivrel.output.views.view import LineText, View


class ExplanationView(View, frozen=True, kw_only=True):
    """Verdicts with every rule that speaks of them, and the lines that would correct them; what
    messages claim, by setting, if any were given; `comparisons`: what the device shows of itself
    beside both.
    """

    device: Device
    policy: Policy
    verdicts: tuple[Verdict, ...]
    correction: Correction
    text_of: LineText
    claims: Mapping[str, Claim] = {}
    comparisons: tuple[Comparison, ...] = ()

    def shown_of(self, setting: str) -> tuple[Comparison, ...]:
        """Return what the device shows of a setting; its counters are about its collectors."""
        about = (setting, COUNTERS) if setting == "collectors" else (setting,)
        return tuple(c for c in self.comparisons if c.setting in about)

    def machine(self) -> Any:
        return {
            "device": self.device.name,
            "verdicts": [self._verdict(v) for v in self.verdicts],
        }

    def _verdict(self, v: Verdict) -> dict[str, Any]:
        rules = [rule for rule in self.policy.rules if v.setting in rule.require]
        claim = self.claims.get(v.setting)
        changes = (c for c in self.correction.changes if v.setting in c.settings)
        return {
            **msgspec.to_builtins(v),
            "rules": [
                {
                    "rule": rule.name,
                    "line": rule.require[v.setting].line,
                    "asks": rule.require[v.setting].text,
                    "for_this_device": rule.holds_for(self.device),
                    "holds": rule.name == v.rule,
                }
                for rule in rules
            ],
            "correction": [msgspec.to_builtins(c) for c in changes],
            "heard": claim_row(claim) if claim is not None else None,
            "shown": comparison_rows(self.shown_of(v.setting)),
        }
