"""Oddities: what is strange about who sent, whatever the messages say."""

from __future__ import annotations

from collections.abc import Container, Iterator

from msgspec import Struct

from ivrel.core.evidence.summary import Evidence, ExampleMessage


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
    names, messages that name another device, strangers. `chosen`: the devices that it is about.
    """
    for name, summary in sorted(heard.devices.items()):
        if name not in chosen:
            continue
        sources = summary.of("source")
        if len(sources) > 1:
            said = f"{name} sends from {' and '.join(sorted(sources))}"
            number = sum(t.number for t in sources.values())
            rarest = min(sources.values(), key=lambda t: t.number)
            yield Anomaly("several addresses", name, said, number, rarest.first)
        for other, tally in summary.of("conflict").items():
            said = f"{name} sends what names {other}"
            yield Anomaly("another's name", name, said, tally.number, tally.first)
    names: dict[str, list[str]] = {}
    for value in heard.senders.of("names"):
        address, _, name = value.partition(" ")
        names.setdefault(address, []).append(name)
    for address, several in sorted(names.items()):
        if len({name.lower().partition(".")[0] for name in several}) > 1:
            tallies = [heard.senders.of("names")[f"{address} {name}"] for name in several]
            said = f"{address} calls itself {' and '.join(sorted(several))}"
            number = sum(t.number for t in tallies)
            rarest = min(tallies, key=lambda t: t.number)
            yield Anomaly("several names", address, said, number, rarest.first)
    for called, tally in heard.strangers.of("called").items():
        said = f"{called} is not a device of the fleet"
        yield Anomaly("stranger", called, said, tally.number, tally.first)
