"""Verdicts, and how bad each is."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

# Given only where messages are held against the configuration: right on paper, and wrong in what
# arrives, which nobody would find otherwise.
CONTRADICTED = "contradicted"
# Worst first. `unknown` is never counted as good; `unable`: the platform cannot express what is
# asked.
VERDICTS = (CONTRADICTED, "breaks", "unknown", "unable", "waived", "meets")
GOOD = ("waived", "meets")
MARKS = {
    CONTRADICTED: "contradicted",
    "breaks": "breaks",
    "unknown": "unknown",
    "unable": "unable",
    "waived": "waived",
    "meets": "·",
}
LETTERS = {
    CONTRADICTED: "C",
    "breaks": "B",
    "unknown": "?",
    "unable": "N",
    "waived": "W",
    "meets": "·",
}

Totals = dict[str, int]


class Place(Struct, frozen=True, gc=False):
    """A line of a configuration; lines count from 1."""

    file: str
    line: int


class FindingRecord(Struct, frozen=True, gc=False, omit_defaults=True):
    """One finding, for machines: what kind of thing, about what, the values found and wanted.

    Setting, kind and `about` together are its key, which stays the same from audit to audit
    whatever the sentences of findings are.
    """

    kind: str
    about: str = ""
    found: str = ""
    wanted: str = ""
    judged: str = "breaks"


class Verdict(Struct, frozen=True, gc=False, omit_defaults=True):
    """The verdict of one device and one setting, with what decides it.

    `found` and `wanted`: what the configuration says and what is asked, in words; `why`: the
    findings in words; `where`: the lines that decide; `findings`: the same for machines.
    """

    setting: str
    verdict: str
    found: str
    wanted: str
    rule: str
    why: str
    where: tuple[Place, ...]
    findings: tuple[FindingRecord, ...] = ()


class DeviceResult(Struct, frozen=True, gc=False, omit_defaults=True):
    """All verdicts of one device.

    `problem` says why its configuration could not be read, if it could not.
    """

    device: str
    kind: str
    site: str
    platform: str
    verdicts: tuple[Verdict, ...]
    problem: str = ""

    def count(self, verdict: str) -> int:
        """Return how many of the verdicts are this one."""
        return sum(1 for v in self.verdicts if v.verdict == verdict)

    @property
    def good(self) -> bool:
        """Whether everything meets or is waived."""
        return not self.problem and all(v.verdict in GOOD for v in self.verdicts)


def badness(result: DeviceResult) -> tuple[int, ...]:
    """Sorts the worst device first: not readable, then by how often it breaks, is unknown, is
    unable.
    """
    return (-bool(result.problem), *(-result.count(v) for v in VERDICTS[:-1]))


def totals(results: Iterable[DeviceResult]) -> Totals:
    """Return how often each verdict was given; contradictions are counted where there are any."""
    out = dict.fromkeys(reversed(VERDICTS), 0)
    for result in results:
        for verdict in result.verdicts:
            out[verdict.verdict] += 1
    if not out[CONTRADICTED]:
        del out[CONTRADICTED]
    return out
