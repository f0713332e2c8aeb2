"""The audit of many devices: what one run with one policy remembers, so that what is alike is
judged once.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging.judge import (
    Known,
    hosts_of,
    judge_one,
    scope_of,
    unreadable,
    with_waivers,
)
from ivrel.core.judging.verdict_cache import VerdictCache, is_of_text
from ivrel.core.policy import Policy, Requirement, effective
from ivrel.core.reading.recognising import looks_like
from ivrel.core.reading.records import Dependencies, Note, read_records
from ivrel.core.settings import Scope
from ivrel.core.settings.relevance import slots_to_read
from ivrel.core.text.bundle import Places
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Foreign, Unreadable
from ivrel.core.vocabulary.verdict import DeviceResult, Place, Verdict

__all__ = ["Auditor", "audit_text"]


# Gives what is known of a setting, and notes what was looked at; None if it is to be found again.
Found = Callable[[Requirement, Dependencies], Known | None]


def _nothing_known(asked: Requirement, notes: Dependencies) -> None:
    """Tell that what is not as asked is to be found again."""


class _Told(Struct, frozen=True):
    """A verdict that was given once, without lines, and the numbers of the statements that decide
    it.
    """

    verdict: Verdict
    at: tuple[int, ...]


class Auditor:
    """Judges devices against one policy, on one day.

    Fleets repeat themselves: most configurations differ in no statement but those of the device
    itself. A judgement notes what it looks at; a verdict is reported again to another device that
    says the same wherever it looked, unless that was the device itself, or a part of the text that
    is read only when asked for. `others`: dialects that a text may be written in if it is foreign
    to its own.
    """

    MOST_REMEMBERED = 20_000  # configurations remembered

    def __init__(self, policy: Policy, today: date, others: Iterable[Dialect] = ()) -> None:
        self.policy = policy
        self.today = today
        self.others = others
        self._recalls: dict[tuple[int, ...], VerdictCache[Mapping[str, _Told]]] = {}
        self._kept: list[object] = []
        self._count = 0

    def audit(
        self,
        device: Device,
        dialect: Dialect,
        data: bytes | Text,
        file: str,
        finding: Callable[[Scope], Found] = lambda scope: _nothing_known,
    ) -> DeviceResult:
        """Read a configuration and judge it.

        A text that cannot be read makes every verdict `unknown`. `finding`: gives what finds out
        what is not as asked of a configuration that is like none before.
        """
        asked = effective(self.policy, device)
        text = data if isinstance(data, Text) else Text(data)
        try:
            slots = slots_to_read(dialect, asked)
            records = read_records(dialect, text, slots, hosts_of(self.policy))
            scope = scope_of(device, records, self.policy, asked)
            verdicts = self.judge(scope, asked, file, finding=finding)
        except Foreign as problem:
            alike = looks_like(text, self.others)
            why = f"{file}: {problem}{f'; this looks like {alike}' if alike else ''}"
            return unreadable(device, self.policy, why)
        except Unreadable as problem:
            return unreadable(device, self.policy, f"{file}: {problem}")
        return with_waivers(device, verdicts, self.policy, self.today)

    def judge(
        self,
        scope: Scope,
        asked: Mapping[str, Requirement],
        file: str,
        found: Found = _nothing_known,
        finding: Callable[[Scope], Found] | None = None,
        *,
        told: bool = True,
    ) -> tuple[Verdict, ...]:
        """Return the verdicts of a scope, waivers aside.

        `found`: gives what is known of a setting, if anything is; `finding`: as for `audit`;
        `told`: whether the lines that decide are reported.
        """
        places = scope.records.place(file, told=told)
        if scope.records.unparsed or not places.file:
            notes = Dependencies()
            return tuple(judge_one(scope, r, places, found(r, notes)) for r in asked.values())
        about = (scope.records.dialect, *asked.values())
        key = tuple(map(id, about))
        recall = self._recalls.get(key)
        if recall is None:
            recall = self._recalls[key] = VerdictCache()
            self._kept.append(about)
        known = recall.find(scope.records.marks)
        if known is None:
            # What is remembered has lines.
            located = scope.records.place(file)
            first = self._first(scope, asked, recall, located, finding(scope) if finding else found)
            return first if told else tuple(replace(v, where=()) for v in first)
        given, marks = known
        lines = [line for _, line in marks]
        notes = Dependencies()
        return tuple(
            [
                _told_again(given[name], lines, places)
                if name in given
                else judge_one(scope, requirement, places, found(requirement, notes))
                for name, requirement in asked.items()
            ]
        )

    def _first(
        self,
        scope: Scope,
        asked: Mapping[str, Requirement],
        recall: VerdictCache[Mapping[str, _Told]],
        places: Places,
        found: Found,
    ) -> tuple[Verdict, ...]:
        """Return the verdicts of a configuration that says something new, and what they depend
        on."""
        records = scope.records
        notes = Dependencies()
        noting = scope.on(records.noting(notes))
        given: dict[str, Verdict] = {}
        looked: set[Note] = set()
        of_text: list[str] = []
        for name, requirement in asked.items():
            notes.seen = set()
            given[name] = judge_one(noting, requirement, places, found(requirement, notes))
            if is_of_text(notes.seen):
                looked |= notes.seen
                of_text.append(name)
        if self._count >= self.MOST_REMEMBERED:
            return tuple(given.values())
        trace = recall.trace(records.dialect, looked)
        marks = trace.concerned(records.marks)
        at = {line: n for n, (_, line) in enumerate(marks)}
        if len(at) < len(marks):
            # Of several statements in a line, it cannot be told which decides.
            return tuple(given.values())
        told: dict[str, _Told] = {}
        for name in of_text:
            where = given[name].where
            if all(place.line in at for place in where):
                marked = tuple(at[place.line] for place in where)
                told[name] = _Told(replace(given[name], where=()), marked)
        trace.keep(marks, told)
        self._count += 1
        return tuple(given.values())


def _told_again(told: _Told, lines: Sequence[int], places: Places) -> Verdict:
    """Return a verdict that was given once, with the lines of another text."""
    v = told.verdict
    if not told.at or not places.told:
        return v
    where = tuple([Place(places.file, line) for line in sorted([lines[n] for n in told.at])])
    # Written out: this is called for each verdict of a fleet, and `replace` takes longer.
    return Verdict(v.setting, v.verdict, v.found, v.wanted, v.rule, v.why, where, v.findings)


def audit_text(
    device: Device,
    dialect: Dialect,
    data: bytes,
    policy: Policy,
    today: date,
    file: str,
    others: Iterable[Dialect] = (),
) -> DeviceResult:
    """Read one configuration and judge it; see `Auditor` for many."""
    return Auditor(policy, today, others).audit(device, dialect, data, file)
