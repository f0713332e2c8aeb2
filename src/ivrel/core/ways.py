"""Ways: how the devices of a fleet are reached, by its rules and through which hosts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from ivrel.core.form import Key, ListOf, MappingField, Node, Report, TextField, read_yaml
from ivrel.core.reach import HOSTS, PORTS, RULES, Reach, Reached, ReachRule
from ivrel.core.vocabulary.wording import not_one_of, shorten

# The moments of a whole delivery at which programs are called, and what they are for.
MOMENTS: Mapping[str, str] = {
    "begin": "before the first device: if it fails, nothing is begun",
    "wave": "before each wave: if it fails, no more devices are begun",
    "failure": "when a device was not delivered",
    "end": "when all is done",
}
ON = Key(
    MappingField(
        "programs around a delivery",
        {
            name: Key(
                ListOf(TextField("a word of a command"), filled=True), f"a program called {means}"
            )
            for name, means in MOMENTS.items()
        },
        lambda at, **said: said,
    ),
    "programs of the user's around a whole delivery; each gets a line of JSON on standard input",
)
WAYS_FILE = MappingField("a file of ways", {"reach": RULES, "hosts": HOSTS, "on": ON})


class Ways(Struct, frozen=True):
    """How the devices of a fleet are reached.

    `rules`: a later one over an earlier one; `hosts`: those that devices are reached through, by
    their names; `on`: programs that are called around a delivery, by its MOMENTS.
    """

    rules: tuple[ReachRule, ...] = ()
    hosts: Mapping[str, Reach] = {}
    on: Mapping[str, tuple[str, ...]] = {}

    def between(self, reach: Reach) -> tuple[Reach, ...]:
        """Return the hosts that a device is reached through, the first one first."""
        default = Reach(port=PORTS["ssh"], patience=reach.patience)
        found = ((name, self.hosts[name]) for name in reach.through)
        return tuple(one.over(default).over(Reach(address=name)) for name, one in found)


def checked_ways(said: Mapping[str, Any], devices: Sequence[Reached], report: Report) -> Ways:
    """Return the ways that a file says under `reach`, `hosts` and `on`.

    A rule that is about no device is a mistake, as is a host that nobody described.
    """
    rules: list[tuple[Node, ReachRule]] = list(said.get("reach", ()))
    hosts: dict[str, Reach] = {}
    for node, name, reach in said.get("hosts", ()):
        if name in hosts:
            report.add(node, f"host '{shorten(name)}' stands twice")
        hosts[name] = reach
    for node, rule in rules:
        if not any(rule.holds_for(device) for device in devices):
            report.add(node, "this way is for no device of the fleet")
        for name in rule.reach.through:
            if name not in hosts:
                report.add(node, f"'through': host {not_one_of(name, sorted(hosts))}")
    for device in devices:
        for name in device.reach.through if device.reach is not None else ():
            if name not in hosts:
                known = not_one_of(name, sorted(hosts))
                report.add(None, f"'through' of {device.name}: host {known}")
    on = {name: tuple(words) for name, words in (said.get("on") or {}).items()}
    return Ways(tuple(rule for _, rule in rules), hosts, on)


def read_ways(text: str, file: str, devices: Sequence[Reached]) -> Ways:
    """Read the ways of a file of their own, beside a fleet that is a table; InputError holds every
    mistake.
    """
    values, report = read_yaml(text, file, WAYS_FILE)
    ways = checked_ways(values or {}, devices, report)
    report.settle()
    return ways
