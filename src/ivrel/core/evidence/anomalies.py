"""Oddities: what is strange about who sent, whatever the messages say."""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence

from msgspec import Struct

from ivrel.core.attribution.senders import DISPUTED, UNKNOWN_ADDRESS
from ivrel.core.evidence.summary import (
    SHARED_ADDRESS,
    STRANGER,
    Evidence,
    ExampleMessage,
    Tally,
)

_NAMED = 3  # devices that are named where several share an address


class Anomaly(Struct, frozen=True):
    """Something odd about who sent: `kind`: what it is, `about`: whom it is about, `told`: in
    words, `number`: of how many messages.
    """

    kind: str
    about: str
    told: str
    number: int
    example: ExampleMessage | None = None


def anomalies(heard: Evidence, chosen: Container[str]) -> Iterator[Anomaly]:
    """Yield what is odd about who sent: devices under several addresses, addresses with several
    names, messages that prove nothing, strangers. `chosen`: the devices that it is about.
    """
    for name, summary in sorted(heard.devices.items()):
        sources = summary.of("source")
        if name in chosen and len(sources) > 1:
            said = f"{name} sends from {' and '.join(sorted(sources))}"
            yield _of_rarest("several addresses", name, said, list(sources.values()))
    yield from _unproved(heard, chosen)
    yield from _several_names(heard)
    for called, tally in heard.others.of(STRANGER).items():
        said = f"{called} is not a device of the fleet"
        yield Anomaly("stranger", called, said, tally.number, tally.first)


def _unproved(heard: Evidence, chosen: Container[str]) -> Iterator[Anomaly]:
    """Yield the messages that name a device and prove nothing of it."""
    for value, tally in heard.others.of(DISPUTED).items():
        name, other, address = value.split("\0")
        if name in chosen or other in chosen:
            said = f"{name} ({address}) sends what names {other}, which proves nothing of either"
            more = f"if it relays, make {address} a collector with `forwards:`"
            yield Anomaly("another's name", name, f"{said}; {more}", tally.number, tally.first)
    for (name, called), summary in sorted(heard.renamed.items()):
        if name in chosen and summary is not heard.of(name):
            said = f"{name} sends what calls itself {called}, which proves nothing of it"
            more = "if it relays, make it a collector with `forwards:`"
            yield Anomaly("strange name", name, f"{said}; {more}", summary.number, summary.first)
    yield from _unknown_addresses(heard, chosen)
    for value, tally in heard.others.of(SHARED_ADDRESS).items():
        address, *names = value.split("\0")
        if not any(name in chosen for name in names):
            continue
        said = f"{address} is the address of {_some(names)}, and its messages name none of them"
        yield Anomaly("shared address", address, said, tally.number, tally.first)


def _unknown_addresses(heard: Evidence, chosen: Container[str]) -> Iterator[Anomaly]:
    """Yield the addresses that nobody in the fleet has, and that devices are named from."""
    by_address: dict[str, dict[str, Tally]] = {}
    for value, tally in heard.others.of(UNKNOWN_ADDRESS).items():
        name, _, address = value.partition("\0")
        by_address.setdefault(address, {})[name] = tally
    for address, named in by_address.items():
        about = next((name for name in named if name in chosen), "")
        if not about:
            continue
        if len(named) == 1:
            said = f"{address} calls itself {about}, and is no address of it that is known"
            more = "if it is one, give it as `identity`, or gather the configuration that has it"
        else:
            said = f"{address} calls itself {_some(list(named))}, and is an address of none of them"
            more = "if it relays, make it a collector with `forwards:`"
        yield _of_rarest("unknown address", about, f"{said}: {more}", list(named.values()))


def _some(names: Sequence[str]) -> str:
    """Return the first of some names, and how many more there are."""
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    return " and ".join(names[:_NAMED]) + more


def _several_names(heard: Evidence) -> Iterator[Anomaly]:
    names: dict[str, list[str]] = {}
    for value in heard.senders.of("names"):
        address, _, name = value.partition(" ")
        names.setdefault(address, []).append(name)
    for address, several in sorted(names.items()):
        if len({name.lower().partition(".")[0] for name in several}) > 1:
            tallies = [heard.senders.of("names")[f"{address} {name}"] for name in several]
            said = f"{address} calls itself {' and '.join(sorted(several))}"
            yield _of_rarest("several names", address, said, tallies)


def _of_rarest(kind: str, about: str, said: str, tallies: Sequence[Tally]) -> Anomaly:
    """Return an anomaly with the first message of its rarest value."""
    rarest = min(tallies, key=lambda t: t.number)
    return Anomaly(kind, about, said, sum(t.number for t in tallies), rarest.first)
