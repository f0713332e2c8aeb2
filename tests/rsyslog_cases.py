"""The cases of rsyslog: texts, and what a real rsyslogd sent for each, recorded with its
version.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

import yaml
from rsyslogd import Endpoint, Seen

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.reading.records import Records, read_records
from ivrel.core.settings import Scope
from ivrel.core.settings.relevance import bearing
from ivrel.core.settings.sending import sendings
from ivrel.core.text.bundle import pack
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.severity import Selection, selection_of
from ivrel.core.vocabulary.software import Software, read_versions
from ivrel.sources.dialects import Dialects

FOLDER = Path(__file__).parent / "rsyslog" / "cases"
_DIALECTS = Dialects()
# What the daemon was that the cases were recorded from, and which of its packages were there.
RECORDED = Software(read_versions("8.2302"), ("rsyslog-gnutls", "rsyslog-relp"))


def dialect_with(software: Software) -> Dialect:
    """How a daemon of this version reads, with these packages."""
    return _DIALECTS.of(Device("x1", "server", "main", "rsyslog", software=software))


RSYSLOG = dialect_with(RECORDED)
MAIN = "rsyslog.conf"


@dataclass(frozen=True)
class Case:
    """One case: why it is there, the files, the input that messages enter by, and what the daemon
    sent.
    """

    topic: str
    why: str
    files: Mapping[str, str]
    sends: Mapping[Endpoint, Selection]
    starts: bool = True
    enter: tuple[str, int] | None = None
    read: str = "certain"  # how it is read: certain, within bounds, or unknown

    @property
    def order(self) -> dict[str, object]:
        """What the daemon is to run."""
        return {"files": dict(self.files), "enter": self.enter}

    @property
    def data(self) -> bytes:
        """The configuration as it is read."""
        return pack({name: text.encode() for name, text in self.files.items()})


def cases() -> Iterator[Case]:
    """All cases, by topic."""
    for path in sorted(FOLDER.glob("*.yaml")):
        for said in yaml.safe_load(path.read_text())["cases"]:
            files = {MAIN: said["text"], **said.get("files", {})}
            sends = {
                _endpoint(where): selection_of(word)
                for where, word in (said["sends"] or {}).items()
            }
            enter = said.get("enter")
            way = (str(enter.split()[0]), int(enter.split()[1])) if enter else None
            yield Case(
                path.stem,
                said["why"],
                files,
                sends,
                said.get("starts", True),
                way,
                said.get("read", "certain"),
            )


@dataclass(frozen=True)
class OtherVersion:
    """What another version does with the cases."""

    software: Software
    sends: Mapping[tuple[str, str], Mapping[Endpoint, Selection]]  # by topic and reason
    starts: Mapping[tuple[str, str], bool]

    def does(self, case: Case) -> tuple[Mapping[Endpoint, Selection], bool]:
        """What it sends, and whether it starts."""
        key = case.topic, case.why
        return self.sends.get(key, case.sends), self.starts.get(key, case.starts)


def other_versions() -> Iterator[OtherVersion]:
    """Versions that the cases were given to as well; all packages were there."""
    for path in sorted((FOLDER.parent / "versions").glob("*.yaml")):
        rows = yaml.safe_load(path.read_text())["differs"]
        packages = (*(RECORDED.packages or ()), "rsyslog-openssl")
        yield OtherVersion(
            Software(read_versions(path.stem), packages),
            {
                (r["topic"], r["why"]): {
                    _endpoint(where): selection_of(word) for where, word in r["sends"].items()
                }
                for r in rows
            },
            {(r["topic"], r["why"]): r["starts"] for r in rows},
        )


def _endpoint(text: str) -> Endpoint:
    address, port, transport = text.split()
    return address, int(port), transport


def selections(seen: Seen) -> dict[Endpoint, Selection]:
    """What arrived; a connection without any message counts for none."""
    return {end: found for end, found in sorted(seen.sends.items()) if found}


def compared(
    data: bytes,
    sends: Mapping[Endpoint, Selection],
    *,
    starts: bool = True,
    software: Software = RECORDED,
) -> tuple[str, str]:
    """How a text is read against what a daemon sent: certain, bounds, unknown or wrong, and what
    shows it.
    """
    try:
        records = read_records(dialect_with(software), data)
    except Unreadable as problem:
        return "unknown", str(problem)
    doubts = [
        f"{s.line}: {s.text}"
        for s in records.unparsed
        if {"level", "collectors"} & set(bearing(RSYSLOG, s.strange))
    ]
    if doubts:
        return "unknown", "; ".join(doubts)
    if not starts:
        return "wrong", "the daemon does not start"
    return _compared(records, sends)


def _compared(records: Records, sends: Mapping[Endpoint, Selection]) -> tuple[str, str]:
    scope = Scope(None, records, {})
    unsure = []
    known: set[Endpoint] = set()
    for d in scope.destinations:
        end: Endpoint = str(d.endpoint[0]), int(str(d.endpoint[1])), str(d.endpoint[2])
        known.add(end)
        said, got = sendings(scope, d)[""], sends.get(end, Selection(0))
        if not got <= said:
            return "wrong", f"{end} gets more: {(got - said).describe()}"
        if not said.sure <= got and end[2] != "relp" and not end[0].startswith("127."):
            return "wrong", f"{end} gets less: without {(said.sure - got).describe()}"
        if not said.certain:
            unsure.append(str(end))
    more = [str(end) for end, got in sends.items() if got and end not in known and end[2] != "tls"]
    if more:
        return "wrong", f"not known: {', '.join(more)}"
    return ("bounds", ", ".join(unsure)) if unsure else ("certain", "")
