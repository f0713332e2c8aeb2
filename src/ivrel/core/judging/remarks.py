"""What is idle or about to end in a policy that reads well, held against a fleet where there is
one.

Passes: a rule that is about three devices, and whose requirements hold for one of them at least
Fails:  a rule about no device; a requirement that later rules replace everywhere, or that cannot be
had together with another; a waiver that waives nothing
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.policy.policy import Policy, Requirement, Rule, at_site, effective
from ivrel.core.settings import SETTINGS, SharedRequirements

SOON = 30  # days before its last day from which on a waiver is remarked


class Remark(Struct, frozen=True):
    """Something about a policy that somebody should look at; `wrong`: not only worth knowing."""

    file: str
    line: int
    text: str
    wrong: bool = True


def remarks(
    policy: Policy,
    devices: Sequence[Device],
    today: date,
    dialects: Mapping[str, Dialect] | None = None,
) -> list[Remark]:
    """Return everything to say of a policy, in the order of its files.

    Without devices, only what needs none.

    `dialects`: those of the devices, by name; what a platform cannot have together is reported only
    with them.
    """
    found = [
        *ending(policy, today),
        *_collectors(policy),
        *_clashes(policy, devices, dialects or {}),
    ]
    if devices:
        found += [
            *_rules(policy, devices),
            *_sites(policy, devices),
            *_idle_waivers(policy, devices),
        ]
    else:
        found += _hidden(policy)
    return sorted(found, key=lambda r: (r.file != policy.file, r.file, r.line, r.text))


def ending(policy: Policy, today: date) -> Iterator[Remark]:
    """Yield the waivers that ran out or soon will."""
    for w in policy.waivers:
        left = (w.until - today).days
        about = f"the waiver of {w.setting} for {w.device}"
        if left < 0:
            yield Remark(w.file, w.line, f"{about} ran out on {w.until}")
        elif left <= SOON:
            yield Remark(
                w.file, w.line, f"{about} runs out in {left} days, on {w.until}", wrong=False
            )


def _collectors(policy: Policy) -> Iterator[Remark]:
    """Yield the collectors that nothing asks for: no rule, no site, no relay."""
    used = {name for c in policy.collectors.values() for name in c.forwards}
    used |= {name for site in policy.sites.values() for name in site.collectors}
    for rule in policy.rules:
        for need in (
            rule.require["collectors"].needs.values() if "collectors" in rule.require else ()
        ):
            # To forbid a collector is to know it.
            used |= {*need.wanted, *need.never}
    for c in policy.collectors.values():
        # A relay is in use by the collectors that it forwards to.
        if c.name not in used and not c.reaches & used:
            yield Remark(policy.file, c.line, f"no rule asks for the collector {c.name}")


def _rules(policy: Policy, devices: Sequence[Device]) -> Iterator[Remark]:
    asked = [effective(policy, d) for d in devices]
    # A requirement that asks nothing is there to take back another.
    lifted = {(r.name, s) for r in policy.rules for s, q in r.require.items() if not q.needs}
    # What is in effect anywhere. Requirements that only lift others hold nowhere by design.
    holds = {(q.rule, name) for one in asked for name, q in one.items()}
    for rule in policy.rules:
        about = [d for d in devices if rule.holds_for(d)]
        if not about:
            yield Remark(rule.file, rule.line, f"rule '{rule.name}' is about no device")
            continue
        for name, requirement in rule.require.items():
            if (rule.name, name) not in holds | lifted:
                text = (
                    f"what rule '{rule.name}' asks of {name} holds nowhere: later rules "
                    "replace it on every device"
                )
                yield Remark(requirement.file, requirement.line, text)


def _hidden(policy: Policy) -> Iterator[Remark]:
    """Yield what rules alone say of rules: those that are about nothing, and those that are
    replaced wherever they hold.
    """
    for n, rule in enumerate(policy.rules):
        if any(
            set(words) <= set(rule.but.get(selector, ())) for selector, words in rule.where.items()
        ):
            yield Remark(
                rule.file,
                rule.line,
                f"rule '{rule.name}' is about no device: its `not` leaves nothing",
            )
            continue
        for name, requirement in rule.require.items():
            by = next(
                (r for r in policy.rules[n + 1 :] if name in r.require and _within(rule, r)), None
            )
            if by and requirement.needs:
                text = (
                    f"what rule '{rule.name}' asks of {name} holds nowhere: rule '{by.name}' "
                    "always replaces it"
                )
                yield Remark(requirement.file, requirement.line, text)


def _within(one: Rule, other: Rule) -> bool:
    """Whether every device that one rule is about is also what the other is about, as far as their
    words tell.
    """
    # Most rules are about something else altogether, which is seen without a look at their words.
    if not other.where.keys() <= one.where.keys() or not other.but.keys() <= one.but.keys():
        return False
    for selector, words in other.where.items():
        if one.where[selector] != words and not set(one.where[selector]) <= set(words):
            return False
    return all(set(words) <= set(one.but[selector]) for selector, words in other.but.items())


def _clashes(
    policy: Policy, devices: Sequence[Device], dialects: Mapping[str, Dialect]
) -> Iterator[Remark]:
    """Yield requirements that cannot be had together, on the devices that are there or else on
    those of each rule.
    """
    found: dict[
        tuple[int, int], tuple[Requirement, Requirement, dict[str, None], dict[str, None]]
    ] = {}
    profiles = [(effective(policy, d), d.site, d.name, dialects.get(d.platform)) for d in devices]
    for asked, site, device, dialect in profiles or [(*one, None) for one in _unseen(policy)]:
        needs = {name: q.needs for name, q in asked.items()}
        together = SharedRequirements(needs, policy.collectors, site or None, dialect)
        for name, q in asked.items():
            for clash in SETTINGS[name].clashes(together):
                other = asked[clash.setting]
                # One remark for each pair of requirements, however many devices it is about.
                _, _, whys, names = found.setdefault((id(q), id(other)), (q, other, {}, {}))
                whys[clash.why] = names[device] = None
    for one, other, whys, names in found.values():
        if one is other:
            said = f"rule '{one.rule}' contradicts itself in {one.setting}"
        elif one.rule == other.rule:
            said = f"rule '{one.rule}' contradicts itself in {one.setting} and {other.setting}"
        else:
            said = (
                f"rule '{one.rule}' ({one.setting}) contradicts rule '{other.rule}' "
                f"({other.setting})"
            )
        first = next(iter(names))
        where = (
            f"; on {len(names)} devices, {first} for one"
            if len(names) > 1
            else f"; on {first}"
            if first
            else ""
        )
        yield Remark(one.file, one.line, f"{said}: {', '.join(whys)}{where}")


def _unseen(policy: Policy) -> Iterator[tuple[dict[str, Requirement], str, str]]:
    """Yield what is asked wherever a rule holds, at each site of the policy: what is known without
    a fleet.
    """
    for rule in policy.rules:
        merged = {
            name: q
            for other in policy.rules
            if _within(rule, other)
            for name, q in other.require.items()
        }
        for site in ("", *policy.sites):
            # Where the rule holds for no device of a site, nothing is asked there.
            if site and not rule.may_be_at(site):
                continue
            asked = {name: at_site(q, policy, site) for name, q in merged.items()}
            yield {name: q for name, q in asked.items() if q.needs and not q.problem}, site, ""


def _sites(policy: Policy, devices: Sequence[Device]) -> Iterator[Remark]:
    """Yield the sites that are asked for and not told of, or told of and not there."""
    # A requirement has a problem only where its `site` stands for nothing.
    unknown = {d.site for d in devices if any(q.problem for q in effective(policy, d).values())}
    for site in sorted(unknown):
        yield Remark(
            policy.file,
            1,
            f"a rule asks for `site`, and the table of sites says nothing of it for {site}",
        )
    for site in sorted(policy.sites.keys() - {d.site for d in devices}):
        yield Remark(
            policy.file,
            policy.sites[site].line,
            f"the table of sites tells of {site}, where no device is",
        )


def _idle_waivers(policy: Policy, devices: Sequence[Device]) -> Iterator[Remark]:
    for w in policy.waivers:
        covered = [d for d in devices if w.covers(d, w.setting)]
        if not covered:
            yield Remark(w.file, w.line, f"the waiver for '{w.device}' is about no device")
        elif not any(w.setting in effective(policy, d) for d in covered):
            yield Remark(
                w.file,
                w.line,
                f"the waiver for '{w.device}' is idle: nothing asks {w.setting} of it",
            )
