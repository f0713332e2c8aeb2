"""Trials: what a configuration says after some edits, without writing and reading its text each
time.

The edits are carried out on the statements that were understood. Whether that is what the platform
would do is not taken on trust: the text after all of the edits is written and read once, and must
hold the same statements; where it does not, every trial works on the text.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence, Set
from functools import cached_property

from msgspec import Struct

from ivrel.core.correcting.beginnings import Beginnings
from ivrel.core.correcting.case import Case
from ivrel.core.correcting.changes import fine_edits
from ivrel.core.correcting.difference import may_differ
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import NO_PATTERN, Key, Mark, Strange, Stray
from ivrel.core.reading.tables import rows_of
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import Refused, Unreadable

Statement = tuple[Path, Words, Mark | None]
State = Mapping[object, Statement]  # by what tells statements apart

_NEW_STRAY = Stray(0, "", Strange((), ()))


class _Named(Struct, frozen=True):
    """A statement that an edit sets, and what tells it apart."""

    at: object
    statement: Statement


class Trial:
    """A change applied to a configuration, which is read once.

    `edits`: those of the change; `fine`: the single statements that they set or remove; `text` and
    `after`: what comes of it. Refused or Unreadable if the change cannot be applied.
    """

    def __init__(self, case: Case, before: Records, edits: Sequence[Edit]) -> None:
        self.case, self.before, self.edits = case, before, tuple(edits)
        self.text: Text = case.apply(before.text, edits)
        self.fine = tuple(fine_edits(case.dialect, before.text, edits))
        self.after = case.read(self.text)
        self._matcher = matcher(case.dialect)
        # Of all tables that are looked up, corrections change that of traffic rules alone. There
        # can be thousands of these, and they are left out where no edit is about one.
        self._held = ("gate",) if any(self._touches("gate", edit) for edit in self.fine) else ()
        self._start = self._state_of(before)
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
            end = self._end = self._edited(self._start, self.fine)
        except Refused:
            return False
        # A line of the change that no pattern understands may do anything.
        if any(mark is None for _, _, mark in end.values()):
            return False
        # The proof that statements may stand for the text: both ways, once, to the same end.
        said = {(path, words) for path, words, _ in end.values()}
        read = {(path, words) for path, words, _ in self._state_of(self.after).values()}
        return said == read and len(self.after.strays) == len(self.before.strays)

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

    def _edited(self, state: State, edits: Sequence[Edit]) -> dict[object, Statement]:
        out = dict(state)
        for edit in edits:
            if not edit.removes:
                for statement in self._set_by[edit]:
                    self._put(out, statement)
                continue
            gone = [
                at
                for at, path, words in self._beginnings.find(edit.path, edit.words)
                if at in out and out[at][:2] == (path, words)
            ]
            if not gone:
                raise Refused("there is nothing to remove", edit.line)
            for at in gone:
                del out[at]
        return out

    @cached_property
    def _set_by(self) -> Mapping[Edit, Sequence[_Named]]:
        """The statements that each edit sets."""
        return {edit: list(self._named(edit)) for edit in self.fine if not edit.removes}

    def _named(self, edit: Edit) -> Iterator[_Named]:
        """Yield the headers that an edit needs, and its statement; a header is one only where a
        pattern reads it as that.
        """
        whole = (*edit.path, edit.words)
        for level, words in enumerate(whole):
            path = whole[:level]
            match = self._matcher.find(path, words)
            if match is not None:
                yield _Named(self._matcher.identity_of(match), (path, words, (match, 0)))
            # It is kept as it is, so that it counts as one more that is not understood.
            elif level == len(edit.path) and not self._matcher.is_header(path, words):
                yield _Named((path, words), (path, words, None))

    @cached_property
    def _beginnings(self) -> Beginnings:
        """All statements that are there before the change, or that it sets."""
        out = Beginnings()
        for at, (path, words, _) in self._start.items():
            out.add(at, path, words)
        for some in self._set_by.values():
            for one in some:
                out.add(one.at, *one.statement[:2])
        return out

    def _put(self, state: dict[object, Statement], new: _Named) -> None:
        """Set a statement."""
        own, words, mark = new.statement
        old = state.get(new.at) if mark is not None else None
        if old is not None and old[:2] == (own, words):
            return
        if old is not None and old[0] == own:
            # Of a choice, one case takes the place of the other with all that stands in it.
            for at, path, _ in self._beginnings.find(own, old[1]):
                is_below = path[: len(own) + 1] == (*own, old[1])
                if is_below and at in state and state[at][0] == path:
                    del state[at]
        state[new.at] = new.statement

    @cached_property
    def end(self) -> Records:
        """What is said after all edits; rows that a state has in common with it are the same
        objects.
        """
        if not self._by_statements:
            return self.after
        return self._records(self._end, self.after, self.before)

    @cached_property
    def _touched(self) -> Mapping[Edit, frozenset[object]]:
        """What each edit may set or take away, by what tells statements apart."""
        spellings: dict[object, set[tuple[Path, Words]]] = {}
        for at, path, words in self._beginnings.every():
            spellings.setdefault(at, set()).add((path, words))
        out: dict[Edit, frozenset[object]] = {}
        for edit in self.fine:
            if edit.removes:
                found = self._beginnings.find(edit.path, edit.words)
                out[edit] = frozenset(at for at, _, _ in found)
                continue
            touched = {one.at for one in self._set_by[edit]}
            for one in self._set_by[edit]:
                # Of a choice, the other cases go.
                for path, words in spellings[one.at] - {one.statement[:2]}:
                    touched |= {at for at, _, _ in self._beginnings.find(path, words)}
            out[edit] = frozenset(touched)
        return out

    @cached_property
    def _times_touched(self) -> Mapping[object, int]:
        """How many edits touch a statement."""
        return Counter(at for touched in self._touched.values() for at in touched)

    @cached_property
    def _coming_back(self) -> Set[object]:
        """What tells apart the statements that one edit takes away and another sets."""
        set_anew = {one.at for some in self._set_by.values() for one in some}
        taken: set[object] = set()
        for edit in self.fine:
            taken |= self._touched[edit] - {one.at for one in self._set_by.get(edit, ())}
        return set_anew & taken

    @cached_property
    def _of_row(self) -> Mapping[tuple[str, Key], Sequence[object]]:
        """What tells the statements of each row apart."""
        out: dict[tuple[str, Key], dict[object, None]] = {}
        told = [
            *self._start.items(),
            *((o.at, o.statement) for s in self._set_by.values() for o in s),
        ]
        for at, (_, _, mark) in told:
            if mark is not None:
                out.setdefault((mark[0].table, mark[0].key), {})[at] = None
        return {row: tuple(some) for row, some in out.items()}

    def _near(self, state: State, near: State, known: Records, touched: Set[object]) -> Records:
        """Return the records of a state that differs in few statements from another one.

        `known`: the records of the other one; `touched`: what tells apart the statements in which
        they may differ.
        """
        rows: dict[tuple[str, Key], None] = {}
        for at in touched:
            here, there = state.get(at), near.get(at)
            for _, _, mark in () if here is there else filter(None, (here, there)):
                if mark is None:
                    return self._records(state, known, known)
                rows[mark[0].table, mark[0].key] = None
        for table, key in rows:
            # Where a row that is new stands among the others, only all statements tell; and so they
            # do of the order in a row of which a statement comes back that went.
            at_row = self._of_row[table, key]
            if key not in known.rows(table) or not self._coming_back.isdisjoint(at_row):
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
        strays = (*self.before.strays, *fresh)
        told = self.case.dialect, marks, strays, base.text, base, self._held
        return Records(*told, like=like)

    def without_each(self) -> Iterator[tuple[Edit, Records | None]]:
        """Yield each single edit, and what is said if it alone is left out.

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
        # Each half is carried out once for all edits of the other half, and so on to single ones.
        waiting: list[tuple[State, Sequence[Edit]]] = []
        if self.fine:
            waiting.append((self._start, self.fine))
        while waiting:
            state, edits = waiting.pop()
            if len(edits) == 1:
                touched = self._touched[edits[0]]
                # What another edit touches, too, may have become another by that.
                if any(self._times_touched[at] > 1 for at in touched):
                    yield edits[0], self._records(state, self.after, self.end)
                else:
                    yield edits[0], self._near(state, self._end, self.end, touched)
                continue
            half = len(edits) // 2
            for kept, tried in ((edits[:half], edits[half:]), (edits[half:], edits[:half])):
                try:
                    waiting.append((self._edited(state, kept), tried))
                except Refused:
                    for edit in tried:
                        yield edit, self._on_text([e for e in self.fine if e is not edit])

    def after_each(self) -> Iterator[tuple[Edit, Records]]:
        """Yield each step of the change, and what is said after it.

        A section that is written anew is one step. Refused where the platform does not take one.
        """
        whole = any(edit.body is not None for edit in self.edits)
        edits = self.edits if whole else self.fine
        if self._by_statements and not whole:
            state: State = self._start
            records = self._records(state, self.before, self.before)
            for edit in edits[:-1]:
                before, state = state, self._edited(state, [edit])
                records = self._near(state, before, records, self._touched[edit])
                yield edit, records
            # After the last, all is as after the change.
            yield from ((edit, self.after) for edit in edits[-1:])
            return
        text = self.before.text
        for edit in edits:
            text = self.case.apply(text, [edit])
            yield edit, self.case.read(text)

    def _on_text(self, edits: Sequence[Edit]) -> Records | None:
        """Return what the text says after edits; None if they are refused."""
        try:
            return self.case.read(self.case.apply(self.before.text, edits))
        except (Refused, Unreadable):
            return None
