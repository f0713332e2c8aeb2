"""An audit: the verdicts of devices and settings."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import msgspec
from msgspec.structs import replace

from ivrel.core.judging.remarks import Remark
from ivrel.core.policy import Policy
from ivrel.core.vocabulary.verdict import DeviceResult, Verdict, badness, totals
from ivrel.output.views.view import LineText, View

BY_RULE = "rule"


class AuditView(View, frozen=True, kw_only=True):
    """An audit on its way: its results come one by one, and can be gone through once.

    `remarks`: exceptions that ran out or soon will; `by`: what verdicts are counted by; `every`:
    whether each device is shown, also of a large fleet; `where`: the words that name the workspace;
    `proved`: by device, the settings that messages prove, which grows as results come.
    """

    fleet: str
    policy: Policy
    results: Iterable[DeviceResult]
    remarks: tuple[Remark, ...] = ()
    text_of: LineText
    by: str = ""
    every: bool = False
    where: str = ""
    proved: Mapping[str, frozenset[str]] = {}

    def machine(self) -> Any:
        results = list(self.results)
        return {
            "fleet": self.fleet,
            "devices": [msgspec.to_builtins(r) for r in results],
            "totals": totals(results),
        }

    def ranked(self) -> list[DeviceResult]:
        """Return the results, the worst device first, without what a terminal does not show.

        What is as asked keeps no details, so that memory does not grow with it.
        """
        met: dict[tuple[str, str], Verdict] = {}
        return sorted((_slim(result, met) for result in self.results), key=badness)


def _slim(result: DeviceResult, met: dict[tuple[str, str], Verdict]) -> DeviceResult:
    verdicts = []
    for v in result.verdicts:
        if v.verdict == "meets":
            bare = Verdict(v.setting, "meets", "", "", v.rule, "", ())
            v = met.setdefault((v.setting, v.rule), bare)
        verdicts.append(v)
    return replace(result, verdicts=tuple(verdicts))


def parts_of(r: DeviceResult, by: str) -> Iterator[tuple[str, tuple[Verdict, ...]]]:
    """Yield the groups that a device belongs to, with its verdicts there."""
    if by != BY_RULE:
        yield str(getattr(r, by)), r.verdicts
        return
    for rule in dict.fromkeys(v.rule for v in r.verdicts):
        yield rule, tuple(v for v in r.verdicts if v.rule == rule)
