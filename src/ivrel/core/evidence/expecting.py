"""Waiting for proof: which devices have been heard as the policy asks, by their latest messages."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date

from msgspec import Struct

from ivrel.core.attribution.arrival import Arrival
from ivrel.core.attribution.senders import Directory, attribute
from ivrel.core.evidence.claims import Claim, claims_of
from ivrel.core.evidence.summary import Evidence
from ivrel.core.fleet import Device
from ivrel.core.judging.judge import waived_settings
from ivrel.core.policy import Policy
from ivrel.core.syslog.record import Record

WAITING = "waiting"
HEARD = "heard"
CONTRADICTED = "contradicted"


class Expected(Struct, frozen=True):
    """The state of one device: `number`: messages so far; `against`: what its latest message
    contradicts.
    """

    device: str
    number: int = 0
    against: tuple[Claim, ...] = ()

    @property
    def state(self) -> str:
        """'waiting', 'heard' or 'contradicted'."""
        return CONTRADICTED if self.against else HEARD if self.number else WAITING


class Expecting:
    """What is waited for: a message of each device that contradicts nothing but what is waived.

    The latest message counts, for a change may be on its way: what came before it may be wrong.
    """

    def __init__(
        self, devices: Iterable[Device], policy: Policy, directory: Directory, today: date
    ) -> None:
        self._devices: Mapping[str, Device] = {d.name: d for d in devices}
        self._waived = {
            name: waived_settings(policy, device, today) for name, device in self._devices.items()
        }
        self._policy = policy
        self._directory = directory
        self.states = {name: Expected(name) for name in self._devices}

    def take(self, record: Record) -> None:
        """Take a message as it comes."""
        found = attribute(record, self._directory)
        device = self._devices.get(found.device)
        if device is None or not found.is_sure:
            return
        alone = Evidence()
        alone.add(Arrival(record, found, record.received))
        claims = claims_of(device, self._policy, alone)
        waived = self._waived[device.name]
        against = tuple(c for c in claims if c.claim == "contradicted" and c.setting not in waived)
        number = self.states[device.name].number + 1
        self.states[device.name] = Expected(device.name, number, against)

    @property
    def done(self) -> bool:
        """Whether every device was heard as the policy asks."""
        return all(one.state == HEARD for one in self.states.values())
