"""What is idle or about to end in a policy that reads well, held against a fleet where there is one.

Passes: a rule that is about three devices, and whose requirements hold for one of them at least
Fails:  a rule about no device; a requirement that later rules replace everywhere; a waiver that waives nothing
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.policy.policy import Policy, effective

SOON = 30  # days before its last day from which on a waiver is remarked


class Remark(Struct, frozen=True):
    """Something about a policy that somebody should look at; `wrong`: not only worth knowing."""

    file: str
    line: int
    text: str
    wrong: bool = True


def remarks(policy: Policy, devices: Sequence[Device], today: date) -> list[Remark]:
    """Everything to say of a policy, in the order of its files; without devices, only what needs none."""
    found = [*ending(policy, today), *_collectors(policy)]
    if devices:
        found += [*_rules(policy, devices), *_idle_waivers(policy, devices)]
    return sorted(found, key=lambda r: (r.file != policy.file, r.file, r.line, r.text))


def ending(policy: Policy, today: date) -> Iterator[Remark]:
    """The waivers that ran out or soon will."""
    for w in policy.waivers:
        left = (w.until - today).days
        about = f"the waiver of {w.setting} for {w.device}"
        if left < 0:
            yield Remark(w.file, w.line, f"{about} ran out on {w.until}")
        elif left <= SOON:
            yield Remark(w.file, w.line, f"{about} runs out in {left} days, on {w.until}", wrong=False)


def _collectors(policy: Policy) -> Iterator[Remark]:
    """Collectors that nothing asks for: no rule, no site, no relay."""
    used = {name for c in policy.collectors.values() for name in c.forwards}
    used |= {name for site in policy.sites.values() for name in site.collectors}
    for rule in policy.rules:
        for need in rule.require["collectors"].needs.values() if "collectors" in rule.require else ():
            used |= {*need.wanted, *need.never}
    for c in policy.collectors.values():
        if c.name not in used and not c.reaches & used:
            yield Remark(policy.file, c.line, f"no rule asks for the collector {c.name}")


def _rules(policy: Policy, devices: Sequence[Device]) -> Iterator[Remark]:
    asked = [effective(policy, d) for d in devices]
    lifted = {(r.name, s) for r in policy.rules for s, q in r.require.items() if not q.needs}
    holds = {(q.rule, name) for one in asked for name, q in one.items()}
    for rule in policy.rules:
        about = [d for d in devices if rule.holds_for(d)]
        if not about:
            yield Remark(rule.file, rule.line, f"rule '{rule.name}' is about no device")
            continue
        for name, requirement in rule.require.items():
            if (rule.name, name) not in holds | lifted:
                text = f"what rule '{rule.name}' asks of {name} holds nowhere: later rules replace it on every device"
                yield Remark(requirement.file, requirement.line, text)
    for site in sorted(
        {d.site for d, one in zip(devices, asked, strict=True) if any(q.problem for q in one.values())}
    ):
        yield Remark(policy.file, 1, f"a rule asks for `site`, and the table of sites says nothing of it for {site}")


def _idle_waivers(policy: Policy, devices: Sequence[Device]) -> Iterator[Remark]:
    for w in policy.waivers:
        covered = [d for d in devices if w.covers(d, w.setting)]
        if not covered:
            yield Remark(w.file, w.line, f"the waiver for '{w.device}' is about no device")
        elif not any(w.setting in effective(policy, d) for d in covered):
            yield Remark(w.file, w.line, f"the waiver for '{w.device}' is idle: nothing asks {w.setting} of it")
