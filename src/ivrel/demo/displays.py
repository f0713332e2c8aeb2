"""What the devices of the example show of themselves, in the morning and at night of its day.

They count what they send, so that what is lost on the way shows. Some show what their
configurations do not say: see ODD.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from datetime import timedelta
from pathlib import Path

from ivrel.core import read_fleet, read_policy
from ivrel.core.evidence.displaying import Counters, displayed
from ivrel.core.settings import Scope
from ivrel.demo.day import DAY, scope_of, sent_in_a_day
from ivrel.demo.workspace import configurations, fleet_text, policy_text
from ivrel.sources.dialects import Dialects
from ivrel.sources.displays import display_name
from ivrel.sources.files import write_bytes

MORNING = DAY + timedelta(hours=6)
NIGHT = DAY + timedelta(hours=23)
STUCK = "its counters stand still"
DOWN = "it does not reach beacon-b"
LOUD = "it sends more than its configuration says"
LOST = "of the messages that it counts, one in twenty is lost on the way"

# What devices show that their configurations do not say.
ODD: Mapping[str, str] = {
    "holmsay-sw1": STUCK,
    "orrin-sw1": DOWN,
    "brannay-sw1": LOUD,
    "tarsk-sw1": LOST,
}
BEFORE = 1000  # messages that each device had sent to each collector before the day


def write_displays(folder: Path) -> None:
    """Write two displays of each device that is asked by a command, into the example's folder."""
    policy = read_policy(policy_text(), "policy.yaml")
    dialects = Dialects()
    texts = configurations()
    sent = sent_in_a_day()
    for device in read_fleet(fleet_text(), "fleet.yaml").devices:
        display = dialects[device.platform].display
        if display is None or not display.show:
            continue
        scope = scope_of(device, texts[device.name], dialects, policy)
        for when in (MORNING, NIGHT):
            before = MORNING if ODD.get(device.name) == STUCK else when
            own = (m for m in sent if m.device == device.name and m.when <= before)
            data = _shown(scope, Counter(m.collector for m in own), ODD.get(device.name, ""))
            write_bytes(folder / display_name(device.name, when), data)


def _shown(scope: Scope, sent: Counter[str], odd: str) -> bytes:
    """Return what a device shows; `sent`: its messages of the day by collector."""
    names = {d.endpoint: d.collector or "" for d in scope.destinations}

    def counters(address: str, port: int, transport: str) -> Counters:
        out = Counters()
        collector = names.get((address, port, transport), "")
        out.sent = BEFORE + sent[collector] + (sent[collector] // 20 if odd == LOST else 0)
        out.is_down = odd == DOWN and collector == "beacon-b"
        return out

    data = displayed(scope, counters, 40)
    if odd == LOUD:
        return data.replace(b"through notice", b"through debug")
    return data
