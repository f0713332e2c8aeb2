"""Blocks of lines on their way through edits, for the shapes with one statement a line."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence

from ivrel.core.shapes.shape import Edit, Identity, missing
from ivrel.core.text.lines import in_place_of
from ivrel.core.text.words import Path, Words, quote


def join(words: Sequence[str]) -> str:
    """Return a statement of these words, each quoted if it must be."""
    return " ".join(quote(w) for w in words)


class LineBlock:
    """A line that says something, with the members of the block that it opens.

    `gap`: the lines before it that say nothing, such as comments, which stay whatever comes or
    goes; `tail`: the lines behind the last member that belong to the block, if any do; `depth`: how
    far it is moved in, or how many blocks it is in; -1 for that of all lines.
    """

    __slots__ = ("_blocks", "depth", "gap", "line", "members", "opens", "parent", "tail", "words")

    def __init__(
        self, words: Words, gap: list[bytes], line: bytes, depth: int, *, opens: bool = True
    ) -> None:
        self.words = words
        self.gap = gap
        self.line = line
        self.depth = depth
        self.opens = opens
        self.parent: LineBlock | None = None
        self.members: list[LineBlock] = []
        self.tail: list[bytes] = []
        self._blocks: dict[Words, list[LineBlock]] | None = None

    def blocks(self, words: Words) -> Sequence[LineBlock]:
        """Return the members with a header."""
        if self._blocks is None:
            self._blocks = {}
            for member in self.members:
                self._index(member)
        return self._blocks.get(words, ())

    def _index(self, member: LineBlock) -> None:
        if member.opens and self._blocks is not None:
            self._blocks.setdefault(member.words, []).append(member)

    def add(self, member: LineBlock) -> None:
        """Add a member behind the last one."""
        member.parent = self
        self.members.append(member)
        self._index(member)

    def drop(self, member: LineBlock) -> None:
        """Take a member away; the lines of its gap stay in front of what follows it."""
        at = next(n for n, one in enumerate(self.members) if one is member)
        del self.members[at]
        if member.opens and self._blocks is not None:
            self._blocks[member.words].remove(member)
        self._stay(at, member.gap)

    def _stay(self, at: int, gap: list[bytes]) -> None:
        """Put lines in front of a member, or behind the last one."""
        if at < len(self.members):
            follower = self.members[at]
            follower.gap = [*gap, *follower.gap]
        elif self.tail or self.parent is None:
            self.tail = [*gap, *self.tail]
        else:
            own = next(n for n, one in enumerate(self.parent.members) if one is self)
            self.parent._stay(own + 1, gap)

    def replace(self, member: LineBlock, words: Words) -> None:
        """Let a statement say other words."""
        member.line = in_place_of(member.line, join(words))
        member.words = words
        self._blocks = None

    def inside(self) -> Iterator[bytes]:
        """Yield the lines behind its header."""
        for member in self.members:
            yield from member.gap
            yield member.line
            yield from member.inside()
        yield from self.tail


class LineEditor(ABC):
    """Carries out edits on the lines of a text, or of a part of it.

    A shape says how lines become blocks (`parse`), and how a new statement is written (`added`).
    """

    def __init__(self, lines: Sequence[bytes], identity: Identity) -> None:
        self._identity = identity
        self.root = self.parse(lines)

    @abstractmethod
    def parse(self, lines: Sequence[bytes]) -> LineBlock:
        """Return the block of all lines, which has no header."""

    @abstractmethod
    def added(self, block: LineBlock, path: Path, words: Words) -> bool:
        """Add a statement behind the last member of a block, below headers that are new.

        False if it may read otherwise there, so that all lines are to be parsed.
        """

    @abstractmethod
    def is_statement(self, member: LineBlock) -> bool:
        """Whether another statement may take the place of this line: not of a whole block."""

    def carry_out(self, edit: Edit) -> None:
        """Carry out one edit; Refused where there is nothing to remove."""
        blocks = [self.root]
        for level, words in enumerate(edit.path):
            # A platform joins blocks of the same name: an edit may mean a statement of any of them.
            inner = [member for block in blocks for member in block.blocks(words)]
            if not inner:
                if edit.removes:
                    raise missing(edit, join)
                self._add(blocks[-1], edit.path[level:], edit.words)
                return
            blocks = inner
        if edit.removes:
            self._remove(blocks, edit)
        elif not self._replaced(blocks, edit):
            self._add(blocks[-1], (), edit.words)

    def _remove(self, blocks: Sequence[LineBlock], edit: Edit) -> None:
        length = len(edit.words)
        hits = [(b, m) for b in blocks for m in b.members if m.words[:length] == edit.words]
        if not hits:
            raise missing(edit, join)
        for block, member in hits:
            block.drop(member)

    def _replaced(self, blocks: Sequence[LineBlock], edit: Edit) -> bool:
        """Whether there is a statement that is set otherwise; it then says the new words."""
        identity = self._identity
        path = edit.path
        wanted = identity(path, edit.words)
        for block in reversed(blocks):
            for member in reversed(block.members):
                if identity(path, member.words) == wanted and self.is_statement(member):
                    block.replace(member, edit.words)
                    return True
        return False

    def _add(self, block: LineBlock, path: Path, words: Words) -> None:
        if not self.added(block, path, words):
            self.root = self.parse(list(self.root.inside()))
