"""Changes actions where they are, and takes away those that go, with the rules that do nothing
else.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from ivrel.core.shapes.rsyslog.flow.model import Forward, Model
from ivrel.core.shapes.rsyslog.rewriting.edit import Replacement, cut
from ivrel.core.shapes.rsyslog.syntax.statements import At, Statement


def replace_action(forward: Forward, text: str, cuts: dict[str, list[Replacement]]) -> None:
    """Put another action in the place of one, and take away the directives that it says
    itself.
    """
    statement = forward.action.statement
    here = cuts.setdefault(statement.source.name, [])
    if text.startswith("@") and statement.kind == "legacy":
        # A comment at the end of the line stays.
        comment = re.search(r"\s+#.*$", statement.text)
        text += comment[0] if comment else ""
    else:
        _without_directives(forward, cuts)
    here.append(cut(statement, text, forward.chain))


def _without_directives(forward: Forward, cuts: dict[str, list[Replacement]]) -> None:
    """Take away the directives that are about an action alone."""
    for directive in forward.action.before:
        gone = Replacement(directive.start, directive.stop, "", directive.start)
        there = cuts.setdefault(directive.source.name, [])
        if gone not in there:
            there.append(gone)


def remove_actions(
    forwards: Sequence[Forward], model: Model, cuts: dict[str, list[Replacement]]
) -> None:
    """Take actions away, with the rules around them that do nothing else.

    Where a block must not be empty, and within a chain of `&`, what does nothing is in their place.
    """
    tree = _Tree(model.statements)
    gone = {f.action.statement.place for f in forwards}
    for forward in forwards:
        _without_directives(forward, cuts)
        parent = tree.parent(forward.action.statement)
        # A rule all of whose actions go would be left with nothing to do, and goes as well.
        while parent is not None and parent.kind in ("rule", "list"):
            inner = [s for s in (*parent.body, *parent.other) if s.acts]
            if any(s.place not in gone or s.source is not parent.source for s in inner):
                break
            gone.add(parent.place)
            parent = tree.parent(parent)
    for statement in tree.outermost(gone):
        chain = tree.above(statement)
        block = tree.siblings(statement)
        emptied = all(s.place in gone for s in block) and block[0].place == statement.place
        instead = ""
        if chain and (emptied or chain[-1].kind == "list"):
            # A ruleset that does nothing at all ends the daemon where it is called.
            instead = "continue" if chain[-1].kind != "object" else "unset $.off;"
        cuts.setdefault(statement.source.name, []).append(cut(statement, instead, chain))


class _Tree:
    """The nesting of statements."""

    def __init__(self, statements: Sequence[Statement]) -> None:
        self._parents: dict[At, tuple[Statement | None, tuple[Statement, ...]]] = {}
        self._order: list[Statement] = []
        self._enter(None, tuple(statements))

    def _enter(self, parent: Statement | None, branch: tuple[Statement, ...]) -> None:
        for s in branch:
            if s.kind in ("directive", "include"):
                continue
            self._parents.setdefault(s.place, (parent, branch))
            self._order.append(s)
            self._enter(s, s.body)
            self._enter(s, s.other)

    def parent(self, s: Statement) -> Statement | None:
        """Return the statement around a statement; None at the top."""
        return self._parents[s.place][0]

    def siblings(self, s: Statement) -> list[Statement]:
        """Return the statements beside it, itself among them."""
        return [one for one in self._parents[s.place][1] if one.acts]

    def above(self, s: Statement) -> list[Statement]:
        """Return all that it is in, the outermost first."""
        out: list[Statement] = []
        parent = self.parent(s)
        while parent is not None:
            out.insert(0, parent)
            parent = self.parent(parent)
        return out

    def outermost(self, gone: set[At]) -> Iterator[Statement]:
        """Yield removed statements that are not nested in another removed one."""
        for s in self._order:
            parent = self.parent(s)
            if s.place in gone and (parent is None or parent.place not in gone):
                yield s
