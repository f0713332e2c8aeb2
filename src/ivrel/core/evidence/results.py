"""Results of comparing messages with the policy and with devices' own records."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from msgspec import Struct

from ivrel.core.evidence.anomalies import Anomaly
from ivrel.core.evidence.claims import Claim
from ivrel.core.evidence.own import STATES, Kept
from ivrel.core.evidence.page import BAD
from ivrel.core.evidence.summary import Summary
from ivrel.core.evidence.witnesses import Comparison
from ivrel.core.fleet import Device


class DeviceHeard(Struct, frozen=True):
    """What was heard of one device: its summary, and a claim for each setting; `comparisons`: what
    its configuration, its display and the messages say together, if it has a display.
    """

    device: Device
    summary: Summary
    claims: tuple[Claim, ...]
    comparisons: tuple[Comparison, ...] = ()

    @property
    def differing(self) -> tuple[Comparison, ...]:
        """The comparisons in which the witnesses differ."""
        return tuple(c for c in self.comparisons if c.state == BAD)

    def count(self, claim: str) -> int:
        """Return how many of the claims are this one."""
        return sum(1 for c in self.claims if c.claim == claim)


class HeardResult(Struct, frozen=True):
    """What the messages of some devices prove and contradict, the most contradicted device first.

    `total`: messages read; `problems`: files and lines that could not be read; `remarks`: what to
    bear in mind, such as messages that are older than the configurations.
    """

    total: int
    devices: tuple[DeviceHeard, ...]
    anomalies: tuple[Anomaly, ...]
    problems: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()


class DeviceKept(Struct, frozen=True):
    """The messages that one device kept itself, and what became of them at one collector.

    `arrived`: messages of the device that the collector received; `unkept`: those of them, within
    the time of the device's record, that the device did not keep.
    """

    device: str
    collector: str
    kept: tuple[Kept, ...]
    arrived: int
    unkept: int

    @property
    def counts(self) -> Mapping[str, int]:
        """How many messages are in each state, the worst state first."""
        found = Counter(one.state for one in self.kept)
        return {state: found[state] for state in STATES}
