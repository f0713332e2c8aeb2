"""Trials: what a configuration says after some edits, without writing and reading its text each
time.

The edits are carried out on the statements that were understood. Whether that is what the platform
would do is not taken on trust: the text after all of the edits is written and read once, and must
hold the same statements; where it does not, every trial works on the text.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence, Set
from functools import cached_property

from ivrel.core.correcting.case import Case
from ivrel.core.correcting.changes import fine_edits
from ivrel.core.correcting.difference import may_differ
from ivrel.core.correcting.effects import Effects, State, Statement
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import NO_PATTERN, Key, Unparsed, UnparsedLine
from ivrel.core.reading.tables import rows_of
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Refused, Unreadable

_NEW_STRAY = UnparsedLine(0, "", Unparsed((), ()))


class Trial:
    """A change applied to a configuration, which is read once.

    `edits`: those of the change; `fine`: the single statements that they set or remove; `text` and
    `after`: what comes of it. Refused or Unreadable if the change cannot be applied.
    """

    def __init__(self, case: Case, before: Records, edits: Sequence[Edit]) -> None:
        self.case = case
        self.before = before
        self.edits = tuple(edits)
        self.text: Text = case.apply(before.text, edits)
        self.fine = tuple(fine_edits(case.dialect, before.text, edits))
        self.after = case.read(self.text)
        self._matcher = matcher(case.dialect)
        # Of all tables that are looked up, corrections change that of traffic rules alone. There
        # can be thousands of these, and they are left out where no edit is about one.
        self._held = ("gate",) if any(self._touches("gate", edit) for edit in self.fine) else ()
        self._effects = Effects(self._matcher, self._state_of(before), self.fine)
        self._end: State = {}
        self._by_statements = self._agrees()

    def _state_of(self, records: Records) -> dict[object, Statement]:
        """Return the statements of a configuration that a correction may change."""
        marks = list(records.marks)
        for table in self._held:
            marks += records.marks_of(table)
        out: dict[object, Statement] = {}
        for mark in marks:
            match = mark[0]
            if match.pattern != NO_PATTERN:
                at = self._matcher.identity_of(match)
                out[at] = match.path, match.words, mark
        return out

    def _agrees(self) -> bool:
        """Whether the statements after all edits are those of the text after the change."""
        if self.case.dialect.shape.DERIVED:
            return False  # what one statement leaves out, another may come of
        # A section that is written as a whole takes away what it does not say, and interfaces are
        # not among the statements held here.
        if any(edit.body is not None or self._touches("interface", edit) for edit in self.fine):
            return False
        if not self._held and not self._has_same_gates():
            return False
        try:
            end = self._end = self._effects.edited(self._effects.start, self.fine)
        except Refused:
            return False
        # A line of the change that no pattern understands may do anything.
        if any(mark is None for _, _, mark in end.values()):
            return False
        # The proof that statements may stand for the text: both ways, once, to the same end.
        said = {(path, words) for path, words, _ in end.values()}
        read = {(path, words) for path, words, _ in self._state_of(self.after).values()}
        return said == read and len(self.after.unparsed) == len(self.before.unparsed)

    def _touches(self, table: str, edit: Edit) -> bool:
        """Whether an edit may be about a row of a table that is looked up."""
        return self._matcher.heads.is_of(table, edit.path[0] if edit.path else edit.words)

    def _has_same_gates(self) -> bool:
        if not may_differ(self.before, self.after, "gate"):
            return True
        before, after = (
            [match for match, _ in records.marks_of("gate")]
            for records in (self.before, self.after)
        )
        return before == after

    @cached_property
    def end(self) -> Records:
        """What is said after all edits; rows that a state has in common with it are the same
        objects.
        """
        if not self._by_statements:
            return self.after
        return self._records(self._end, self.after, self.before)

    def _near(self, state: State, near: State, known: Records, touched: Set[object]) -> Records:
        """Return the records of a state that differs in few statements from another one.

        `known`: the records of the other one; `touched`: the keys of the statements that may
        differ.
        """
        rows: dict[tuple[str, Key], None] = {}
        for at in touched:
            here = state.get(at)
            there = near.get(at)
            for _, _, mark in () if here is there else filter(None, (here, there)):
                if mark is None:
                    return self._records(state, known, known)
                rows[mark[0].table, mark[0].key] = None
        for table, key in rows:
            # Where a row that is new is among the others, only all statements tell; and so they
            # do of the order in a row of which a statement comes back that went.
            at_row = self._effects.of_row[table, key]
            if key not in known.rows(table) or not self._effects.coming_back.isdisjoint(at_row):
                return self._records(state, known, known)
            own = [state[at] for at in at_row if at in state]
            marks = [mark for _, _, mark in own if mark is not None]
            known = known.with_row(table, key, rows_of(self.case.dialect, marks).get(key))
        return known

    def _records(self, state: State, base: Records, like: Records) -> Records:
        """Return the records of a state; `base`: those that it is compared with; `like`: some that
        have most rows in common with it.
        """
        marks = [mark for _, _, mark in state.values() if mark is not None]
        fresh = [_NEW_STRAY for _, _, mark in state.values() if mark is None]
        unparsed = (*self.before.unparsed, *fresh)
        return Records(
            self.case.dialect, marks, unparsed, base.text, base=base, held=self._held, like=like
        )

    def without_each(self) -> Iterator[tuple[Edit, Records | None]]:
        """Yield each single edit, with the records of the change without it.

        None if the platform refuses the rest.
        """
        # Without the only one, all is as before.
        if len(self.fine) == 1:
            yield self.fine[0], self.before
            return
        if not self._by_statements:
            for n, edit in enumerate(self.fine):
                yield edit, self._on_text([*self.fine[:n], *self.fine[n + 1 :]])
            return
        # Each half is carried out once for all edits of the other half, and so on to single groups.
        waiting: list[tuple[State, Sequence[Sequence[Edit]]]] = [
            (self._effects.start, self._effects.groups)
        ]
        while waiting:
            state, groups = waiting.pop()
            half = len(groups) // 2
            if half:
                for kept, tried in ((groups[:half], groups[half:]), (groups[half:], groups[:half])):
                    others = [edit for group in kept for edit in group]
                    waiting.append((self._effects.edited(state, others), tried))
                continue
            for group in groups:
                yield from self._without_each_of(group, state)

    def _without_each_of(
        self, group: Sequence[Edit], state: State
    ) -> Iterator[tuple[Edit, Records | None]]:
        """Yield each edit of a group, and what is said without it.

        `state`: what all other groups lead to.
        """
        if len(group) == 1:
            yield group[0], self._near(state, self._end, self.end, self._effects.touched[group[0]])
            return
        for edit in group:
            try:
                rest = self._effects.edited(state, [one for one in group if one is not edit])
            except Refused:
                yield edit, self._on_text([one for one in self.fine if one is not edit])
            else:
                yield edit, self._records(rest, self.after, self.end)

    def after_each(self) -> Iterator[tuple[Edit, Records]]:
        """Yield each step of the change, and what is said after it.

        A section that is written again is one step. Refused where the platform does not take one.
        """
        whole = any(edit.body is not None for edit in self.edits)
        edits = self.edits if whole else self.fine
        if self._by_statements and not whole:
            state: State = self._effects.start
            records = self._records(state, self.before, self.before)
            for edit in edits[:-1]:
                before = state
                state = self._effects.edited(state, [edit])
                records = self._near(state, before, records, self._effects.touched[edit])
                yield edit, records
            # After the last, all is as after the change.
            yield from ((edit, self.after) for edit in edits[-1:])
            return
        text = self.before.text
        for edit in edits:
            text = self.case.apply(text, [edit])
            yield edit, self.case.read(text)

    def _on_text(self, edits: Sequence[Edit]) -> Records | None:
        """Return the records of the text after edits; None if the platform refuses them."""
        try:
            return self.case.read(self.case.apply(self.before.text, edits))
        except (Refused, Unreadable):
            return None
