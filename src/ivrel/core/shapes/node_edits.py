"""Edits of a text in braces: its members as pieces; an edit touches only its own."""

from __future__ import annotations

from collections.abc import Sequence

from ivrel.core.shapes.nodes import Signs, TextNode, join, parse
from ivrel.core.shapes.shape import Edit, Identity, missing
from ivrel.core.text.lines import line_end
from ivrel.core.text.words import Words


class _Piece:
    """A statement, or a block with its members.

    `gap`: what is in front of it, up to the member before it; `said`: the text of a statement, or
    of a block up to its opening brace; `tail`: what follows the last member of a block, with the
    closing brace. `parsed`: whether the members of a block are known; else `said` is all of it.
    """

    __slots__ = ("_blocks", "gap", "is_block", "members", "parsed", "said", "tail", "words")

    def __init__(self, words: Words, gap: bytes, said: bytes, *, is_block: bool) -> None:
        self.words = words
        self.gap = gap
        self.said = said
        self.is_block = is_block
        self.parsed = not is_block
        self.tail = b""
        self.members: list[_Piece] = []
        self._blocks: dict[Words, list[_Piece]] | None = None

    def blocks(self, words: Words) -> Sequence[_Piece]:
        """Return the blocks in this one that have a header."""
        if self._blocks is None:
            self._blocks = {}
            for piece in self.members:
                if piece.is_block:
                    self._blocks.setdefault(piece.words, []).append(piece)
        return self._blocks.get(words, ())

    def add(self, piece: _Piece) -> None:
        """Add a member behind the last one."""
        self.members.append(piece)
        if piece.is_block and self._blocks is not None:
            self._blocks.setdefault(piece.words, []).append(piece)

    def drop(self, piece: _Piece) -> int:
        """Take a member out, and return where it stood."""
        at = next(n for n, one in enumerate(self.members) if one is piece)
        del self.members[at]
        if piece.is_block and self._blocks is not None:
            self._blocks[piece.words].remove(piece)
        return at

    @property
    def is_ended(self) -> bool:
        """Whether it ends with a sign: the last statement of a block may lack it."""
        return (self.tail or self.said).endswith((b";", b"}"))

    def write(self, out: list[bytes]) -> None:
        """Write the text of it, and of all that it holds."""
        out += (self.gap, self.said)
        for piece in self.members:
            piece.write(out)
        out.append(self.tail)


class BracesEditor:
    """Carries out edits on a text in braces.

    `top`: the members at the top; `wrapper`: the block that holds the configuration, '' if `top`
    is already its contents.
    """

    def __init__(self, data: bytes, top: Sequence[TextNode], signs: Signs, wrapper: str) -> None:
        self._signs = signs
        self._wrapper = wrapper
        self._root = _Piece((), b"", b"", is_block=True)
        self._fill(self._root, data, top, len(data))
        self._line_end = line_end(data)

    def text(self) -> bytes:
        """Return the text as it is now."""
        out: list[bytes] = []
        self._root.write(out)
        return b"".join(out)

    def carry_out(self, edit: Edit, identity: Identity) -> None:
        """Carry out an edit; Refused if there is nothing to remove."""
        # What is new goes into the last of these.
        holders = [self._root, *filter(self._is_wrapper, self._root.members)]
        for level, header in enumerate(edit.path):
            # A platform joins blocks of the same name: an edit may mean a statement of any of them.
            inner = [piece for holder in holders for piece in self._blocks(holder, header)]
            if not inner:
                if edit.removes:
                    raise missing(edit, join)
                self._insert(self._opened(holders[-1]), (*edit.path[level:], edit.words))
                return
            holders = inner
        members = [(h, piece) for h in holders for piece in self._members(h)]
        if edit.removes:
            hits = [at for at in members if at[1].words[: len(edit.words)] == edit.words]
            if not hits:
                raise missing(edit, join)
            for holder, piece in reversed(hits):
                _cut(holder, piece)
            return
        wanted = identity(edit.path, edit.words)
        hits = [
            (holder, piece)
            for holder, piece in members
            if not piece.is_block and identity(edit.path, piece.words) == wanted
        ]
        if hits:
            _replace(*hits[-1], edit.words)
        else:
            self._insert(holders[-1], (edit.words,))

    def _is_wrapper(self, piece: _Piece) -> bool:
        return piece.is_block and piece.words[:1] == (self._wrapper,)

    def _members(self, holder: _Piece) -> list[_Piece]:
        """Return the members of a block; a wrapper is no member of the text."""
        members = self._opened(holder).members
        if holder is self._root and self._wrapper:
            members = [piece for piece in members if not self._is_wrapper(piece)]
        return members

    def _blocks(self, holder: _Piece, header: Words) -> Sequence[_Piece]:
        found = self._opened(holder).blocks(header)
        if holder is self._root and self._wrapper:
            found = [piece for piece in found if not self._is_wrapper(piece)]
        return found

    def _opened(self, piece: _Piece) -> _Piece:
        """Return a block whose members are known."""
        if not piece.parsed:
            data = piece.said
            (node,) = parse(data, self._signs)
            piece.said = data[: node.inner]
            self._fill(piece, data, node.children, len(data), node.inner)
        return piece

    def _fill(
        self, piece: _Piece, data: bytes, nodes: Sequence[TextNode], stop: int, begin: int = 0
    ) -> None:
        """Give a block its members; `begin`, `stop`: the bounds of its inside and its end."""
        piece.parsed = True
        for node in nodes:
            is_block = node.inner >= 0
            gap = data[begin : node.start]
            said = data[node.start : node.stop]
            piece.members.append(_Piece(node.words, gap, said, is_block=is_block))
            begin = node.stop
        piece.tail = data[begin:stop]

    def _insert(self, holder: _Piece, whole: Sequence[Words]) -> None:
        """Add a statement, below headers that are new, behind the last member of a block."""
        text = join(whole[-1]) + ";"
        for header in reversed(whole[:-1]):
            text = f"{join(header)} {{ {text} }}"
        if holder.members:
            last = holder.members[-1]
            lead = _lead(holder, len(holder.members) - 1)
            # On a line of its own, moved in as the last member is, if that has a line of its own.
            gap = b" " if lead.strip() else self._line_end + lead
            if not last.is_ended:
                if last.tail:
                    last.tail += b";"
                else:
                    last.said += b";"
        elif holder is self._root:
            gap = holder.tail + (b"" if holder.tail.endswith(b"\n") or not holder.tail else b"\n")
            holder.tail = b"\n"
        else:
            gap = b" "
            holder.tail = b" " + holder.tail.lstrip(b" ")
        holder.add(_Piece(whole[0], gap, text.encode(), is_block=len(whole) > 1))


def _lead(holder: _Piece, at: int) -> bytes:
    """Return the text before a member in its line."""
    piece = holder.members[at]
    _, end, lead = piece.gap.rpartition(b"\n")
    if end or (at == 0 and not holder.said):
        return lead
    return (holder.members[at - 1].said if at else holder.said) + lead


def _cut(holder: _Piece, piece: _Piece) -> None:
    """Take a member away, with its line if it has one to itself."""
    at = next(n for n, one in enumerate(holder.members) if one is piece)
    lead = _lead(holder, at)
    holder.drop(piece)
    behind = holder.members[at].gap if at < len(holder.members) else holder.tail
    rest, end, after = behind.partition(b"\n")
    if end and not lead.strip() and not rest.strip():
        left = piece.gap[: len(piece.gap) - len(lead)] + after
    else:
        left = piece.gap + behind.removeprefix(b" ")
    _set_gap(holder, at, left)


def _replace(holder: _Piece, piece: _Piece, words: Words) -> None:
    """Let another statement take the place of one."""
    if not piece.is_ended:
        at = next(n for n, one in enumerate(holder.members) if one is piece) + 1
        behind = holder.members[at].gap if at < len(holder.members) else holder.tail
        _set_gap(holder, at, b" " + behind)
    piece.words = words
    piece.said = join(words).encode() + b";"


def _set_gap(holder: _Piece, at: int, gap: bytes) -> None:
    """Set what is in front of a member, or behind the last one."""
    if at < len(holder.members):
        holder.members[at].gap = gap
    else:
        holder.tail = gap
