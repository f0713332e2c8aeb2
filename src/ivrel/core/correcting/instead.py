"""What an operator can do where a platform cannot be as asked: another transport, a relay, a
waiver.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import date, timedelta

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.policy import Collector, Policy, Requirement
from ivrel.core.policy.need import SetNeed
from ivrel.core.vocabulary.values import TRANSPORTS
from ivrel.core.vocabulary.wording import listed

WAIVED_FOR = timedelta(days=180)  # from today on, in the text of a waiver


def instead(dialect: Dialect, policy: Policy, asked: Requirement) -> tuple[str, ...]:
    """Return sentences about the values that a platform offers in place of one that it cannot
    have.
    """
    need = asked.needs.get("")
    if not isinstance(need, SetNeed):
        return ()
    wanted = (policy.collectors[name] for name in need.wanted if name in policy.collectors)
    return tuple(said for collector in wanted for said in _other_ways(dialect, policy, collector))


def _other_ways(dialect: Dialect, policy: Policy, collector: Collector) -> Iterator[str]:
    """Yield other ways to a collector whose transport the platform does not have."""

    def can(transport: str) -> bool:
        return dialect.can_write("destination.transport", transport)

    if can(collector.transport):
        return
    name = collector.name
    relays = [r for r in policy.collectors.values() if name in r.reaches and can(r.transport)]
    for relay in relays:
        yield f"ask for {relay.name}, which takes {relay.transport} and forwards to {name}"
    ways = [transport for transport in TRANSPORTS if can(transport)]
    if ways and not relays:
        by = listed(ways)
        yield f"let {name} take {by}, or a relay that takes {by} forward to it"


def waiver_text(device: Device, setting: str, why: str, today: date) -> str:
    """Return a waiver for a policy's `waivers:`, with a last day and a reason to be edited."""
    until = today + WAIVED_FOR
    # JSON's strings are YAML's, too.
    because = json.dumps(why, ensure_ascii=False)
    return f"- {{device: {device.name}, setting: {setting}, until: {until}, because: {because}}}"
