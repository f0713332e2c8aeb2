"""Trials: what a configuration says after some edits, without writing and reading its text for each of them.

The edits are carried out on the statements that were understood. Whether that is what the platform would do is
not taken on trust: the text after all of the edits is written and read once, and must hold the same statements;
where it does not, every trial works on the text.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.matching import Mark, Stray, matcher
from ivrel.core.dialects.pattern import Path, Words
from ivrel.core.dialects.records import Records, read_records
from ivrel.core.dialects.shapes import Edit
from ivrel.core.dialects.shapes.base import Refused
from ivrel.core.dialects.steps import beyond_export
from ivrel.core.dialects.write import apply_edits
from ivrel.core.mistakes import Unreadable

Statement = tuple[Path, Words, Mark | None]
State = Mapping[object, Statement]  # by what tells statements apart


class Trials:
    """The trials of one change: `edits` are its single statements, in order."""

    def __init__(self, before: Records, edits: Sequence[Edit], corrected: bytes) -> None:
        self._before, self._dialect, self._data = before, before.dialect, before.text
        self.edits = tuple(edits)
        self._reader = matcher(self._dialect)
        self.after = read_records(self._dialect, corrected)
        self._start = self._state_of(before)
        self._by_statements = self._agrees()

    def _state_of(self, records: Records) -> dict[object, Statement]:
        """The statements of a configuration that a correction may change."""
        marks = list(records.marks)
        if "gate" in self._dialect.keys:
            marks += [mark for key in records.rows("gate") for mark in records.statements("gate", key)]
        out: dict[object, Statement] = {}
        for mark in marks:
            match = mark[0]
            if match.pattern >= 0:
                out[self._reader.identity(match.path, match.words)] = match.path, match.words, mark
        return out

    def _agrees(self) -> bool:
        """Whether the statements after all edits are those of the corrected text."""
        if self._dialect.grammar.DERIVED:
            return False  # what one statement leaves out, another may come of
        if any(edit.body is not None or self._touches_interfaces(edit) for edit in self.edits):
            return False
        try:
            end = self._edited(self._start, self.edits)
        except Refused:
            return False
        said = {(path, words) for path, words, mark in end.values() if mark is not None}
        read = {(path, words) for path, words, _ in self._state_of(self.after).values()}
        unknown = any(mark is None for _, _, mark in end.values())
        return said == read and not unknown and len(self.after.strays) == len(self._before.strays)

    def _touches_interfaces(self, edit: Edit) -> bool:
        head = edit.path[0] if edit.path else edit.words
        return any(head[: len(known)] == known for known in self._reader.lazy_heads["interface"])

    def _edited(self, state: State, edits: Sequence[Edit]) -> dict[object, Statement]:
        out = dict(state)
        for edit in edits:
            if edit.removes:
                gone = [at for at, (path, words, _) in out.items() if _is_removed(edit, path, words)]
                if not gone:
                    raise Refused(edit, "there is nothing to remove")
                for at in gone:
                    del out[at]
                continue
            for level, header in enumerate(edit.path):
                self._put(out, edit.path[:level], header, header=True)
            self._put(out, edit.path, edit.words, header=False)
        return out

    def _put(self, state: dict[object, Statement], path: Path, words: Words, *, header: bool) -> None:
        """Sets a statement; a header is one only where a pattern reads it as that."""
        match = self._reader.find(path, words)
        if match is None:
            if not header and not self._reader.is_header(path, words):
                state[path, words] = path, words, None
            return
        at = self._reader.identity(path, words)
        old = state.get(at)
        if old is not None and old[:2] == (path, words):
            return
        if old is not None and old[0] == path:
            # Of a choice, one case takes the place of the other with all that stands in it.
            below = (*path, old[1])
            for other in [o for o, (where, _, _) in state.items() if where[: len(below)] == below]:
                del state[other]
        state[at] = path, words, (match, 0)

    def _records(self, state: State) -> Records:
        marks = [mark for _, _, mark in state.values() if mark is not None]
        fresh = [Stray(0, "", ()) for _, _, mark in state.values() if mark is None]
        return Records(self._dialect, marks, (*self._before.strays, *fresh), self._data, base=self._before)

    def without_each(self) -> Iterator[tuple[Edit, Records | None]]:
        """For each edit, what the configuration says if it alone is left out; None if the rest is refused."""
        if not self._by_statements:
            for n in range(len(self.edits)):
                yield self.edits[n], self._read([*self.edits[:n], *self.edits[n + 1 :]])
            return
        # Each half is carried out once for all edits of the other half, and so on down to single ones.
        waiting: list[tuple[State, Sequence[Edit]]] = [(self._start, self.edits)] if self.edits else []
        while waiting:
            state, edits = waiting.pop()
            if len(edits) == 1:
                yield edits[0], self._records(state)
                continue
            half = len(edits) // 2
            for kept, tried in ((edits[:half], edits[half:]), (edits[half:], edits[:half])):
                try:
                    waiting.append((self._edited(state, kept), tried))
                except Refused:
                    for edit in tried:
                        yield edit, self._read([e for e in self.edits if e is not edit])

    def after_each(self, edits: Sequence[Edit]) -> Iterator[tuple[Edit, Records]]:
        """What the configuration says after each of these edits; Refused where the platform takes one not."""
        if self._by_statements:
            state: State = self._start
            for edit in edits:
                state = self._edited(state, [edit])
                yield edit, self._records(state)
            return
        text = self._data
        for edit in edits:
            text = apply_edits(self._dialect, text, [edit])
            yield edit, read_records(self._dialect, text)

    def _read(self, edits: Sequence[Edit]) -> Records | None:
        """What the text says after edits; None if they are refused."""
        try:
            return read_records(self._dialect, apply_edits(self._dialect, self._data, edits))
        except (Refused, Unreadable):
            return None


def _is_removed(edit: Edit, path: Path, words: Words) -> bool:
    """Whether a statement goes with a removal: it begins with its words, or stands in a block that does."""
    depth = len(edit.path)
    if path[:depth] != edit.path:
        return False
    said = words if len(path) == depth else path[depth]
    return said[: len(edit.words)] == edit.words


def untouched(dialect: Dialect, before: bytes, after: bytes) -> bool:
    """Whether two texts say the same of all that is no export setting."""
    return beyond_export(dialect, before) == beyond_export(dialect, after)
