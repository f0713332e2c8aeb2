"""What the edits of a change do to the statements of a configuration, without its text."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence, Set
from functools import cached_property

from msgspec import Struct

from ivrel.core.reading.matcher import Matcher
from ivrel.core.reading.statements import Key, Mark
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.beginnings import Beginnings
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import Refused

Statement = tuple[Path, Words, Mark | None]
State = Mapping[object, Statement]  # by what tells statements apart


class _Named(Struct, frozen=True):
    """A statement that an edit sets, and what tells it apart."""

    at: object
    statement: Statement


class Effects:
    """What each edit does; `start`: the statements before all of them; `edits`: single edits: each
    sets a statement or removes some.
    """

    def __init__(self, matcher: Matcher, start: State, edits: Sequence[Edit]) -> None:
        self._matcher = matcher
        self.start = start
        self.edits = edits

    def edited(self, state: State, edits: Sequence[Edit]) -> dict[object, Statement]:
        """Return the statements after edits; Refused where there is nothing to remove."""
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

    def _put(self, state: dict[object, Statement], new: _Named) -> None:
        """Set a statement."""
        own, words, mark = new.statement
        old = state.get(new.at) if mark is not None else None
        if old is not None and old[:2] == (own, words):
            return
        if old is not None and old[0] == own:
            # Of a choice, one case takes the place of the other with all that is in it.
            for at, path, _ in self._beginnings.find(own, old[1]):
                is_below = path[: len(own) + 1] == (*own, old[1])
                if is_below and at in state and state[at][0] == path:
                    del state[at]
        state[new.at] = new.statement

    @cached_property
    def _set_by(self) -> Mapping[Edit, Sequence[_Named]]:
        """The statements that each edit sets."""
        return {edit: list(self._named(edit)) for edit in self.edits if not edit.removes}

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
        for at, (path, words, _) in self.start.items():
            out.add(at, path, words)
        for some in self._set_by.values():
            for one in some:
                out.add(one.at, *one.statement[:2])
        return out

    @cached_property
    def touched(self) -> Mapping[Edit, frozenset[object]]:
        """What each edit may set or take away, by what tells statements apart."""
        spellings: dict[object, set[tuple[Path, Words]]] = {}
        for at, path, words in self._beginnings.every():
            spellings.setdefault(at, set()).add((path, words))
        out: dict[Edit, frozenset[object]] = {}
        for edit in self.edits:
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
    def _contended(self) -> Set[object]:
        """What tells apart the statements that several edits touch, and not all in the same way."""
        done: dict[object, set[Statement | None]] = {}
        times: Counter[object] = Counter()
        for edit in self.edits:
            sets = {one.at: one.statement for one in self._set_by.get(edit, ())}
            for at in self.touched[edit]:
                done.setdefault(at, set()).add(sets.get(at))
                times[at] += 1
        return {
            at for at, ways in done.items() if times[at] > 1 and (len(ways) > 1 or None in ways)
        }

    @cached_property
    def groups(self) -> Sequence[Sequence[Edit]]:
        """The edits in groups: the order of groups makes no difference, but within a group it may,
        since one edit takes away or replaces what another one sets.
        """
        numbers: dict[object, int] = {}  # of groups, by what their edits do to statements
        groups: dict[int, list[Edit]] = {}
        for number, edit in enumerate(self.edits):
            mine = [edit]
            joined = {numbers[at] for at in self.touched[edit] & self._contended if at in numbers}
            for other in sorted(joined, reverse=True):
                mine = [*groups.pop(other), *mine]
            groups[number] = mine
            for one in mine:
                numbers.update(dict.fromkeys(self.touched[one] & self._contended, number))
        place = {edit: n for n, edit in enumerate(self.edits)}
        return [sorted(group, key=place.__getitem__) for group in groups.values()]

    @cached_property
    def coming_back(self) -> Set[object]:
        """What tells apart the statements that one edit takes away and another sets."""
        set_anew = {one.at for some in self._set_by.values() for one in some}
        taken: set[object] = set()
        for edit in self.edits:
            taken |= self.touched[edit] - {one.at for one in self._set_by.get(edit, ())}
        return set_anew & taken

    @cached_property
    def of_row(self) -> Mapping[tuple[str, Key], Sequence[object]]:
        """What tells the statements of each row apart."""
        out: dict[tuple[str, Key], dict[object, None]] = {}
        told = [
            *self.start.items(),
            *((o.at, o.statement) for s in self._set_by.values() for o in s),
        ]
        for at, (_, _, mark) in told:
            if mark is not None:
                out.setdefault((mark[0].table, mark[0].key), {})[at] = None
        return {row: tuple(some) for row, some in out.items()}
