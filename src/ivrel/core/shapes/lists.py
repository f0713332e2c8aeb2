"""Lists within a statement: several values behind the same words, each a statement of its own.

targets 198.51.100.21:514/udp, [2001:db8::22]:601/tcp report.targets = 198.51.100.21:514/udp,
[2001:db8::22]:601/tcp

With `divided: ","` and `inside: ":/"`, this is read as `targets 198.51.100.21 514 udp` and `targets
2001:db8::22 601 tcp`, which patterns understand like any other statement. Written, the list is set
as a whole: what it held and what comes to it, less what goes. An element whose parts cannot be
distinguished leaves the whole statement as it is, so that it is not understood.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.shapes.shape import Edit, Found, Identity, Shape, missing
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.addresses import is_address


class ListElement(Struct, frozen=True):
    """One value of a list: its parts, and how it is written where it is; '' if it is new."""

    parts: Words
    said: str = ""


class Listing(Struct, frozen=True):
    """Which statement holds a list, and how.

    `path`: the headers that it is below; `head`: its words before the list; `divided`: what is
    between two elements, a blank for elements that are words; `inside`: the signs between the parts
    of an element, in their order; `within`: the two signs around a list, which may be missing
    around a single element.
    """

    path: Path
    head: Words
    divided: str = ","
    inside: str = ""
    within: str = ""

    @property
    def name(self) -> Words:
        """The words that remove the statement: those before the list, without a sign."""
        return self.head[:-1] if self.assigns else self.head

    @property
    def assigns(self) -> bool:
        """Whether a sign precedes the list, so that the shape takes it for one value."""
        return self.head[-1:] == ("=",)

    def parts_of(self, words: Words) -> Words:
        """Return the parts of an element in the words of a statement, or of its removal."""
        lead = self.head if words[: len(self.head)] == self.head else self.name
        return words[len(lead) :]

    def elements(self, words: Words) -> list[ListElement] | None:
        """Return the elements of a statement of these words; None if the parts of one cannot be
        distinguished, or if the statement is no list.
        """
        rest = words[len(self.head) :]
        if words[: len(self.head)] != self.head or not rest:
            return None
        text = " ".join(rest)
        if self.within and text[:1] + text[-1:] == self.within and len(text) > 1:
            text = text[1:-1].strip()
        said = text.split() if self.divided == " " else text.split(self.divided)
        found = [self._element(one.strip()) for one in said]
        return None if None in found else [one for one in found if one is not None]

    def _element(self, said: str) -> ListElement | None:
        if is_address(said):
            return ListElement((said,), said)  # its colons divide nothing
        parts: list[str] = []
        rest = said
        for sign in (*self.inside, ""):
            part, rest, more = _cut(rest, sign)
            # A sign that is left over may divide what would be taken for one part.
            if not part or (
                not said.startswith(f"[{part}]") and any(s in part for s in self.inside)
            ):
                return None
            parts.append(part)
            if not more:
                break
        return None if rest or " " in said else ListElement(tuple(parts), said)

    def words(self, elements: Sequence[ListElement], like: Words) -> Words:
        """Return the words of a statement that holds these elements, with blanks behind what
        divides them as in another.
        """
        said = [one.said or self._said(one.parts) for one in elements]
        stood = " ".join(like[len(self.head) :])
        gap = " " if self.divided != " " and f"{self.divided} " in stood else ""
        text = f"{self.divided}{gap}".join(said)
        if self.within and (len(said) > 1 or stood.startswith(self.within[0])):
            pad = " " if stood.startswith(f"{self.within[0]} ") else ""
            text = f"{self.within[0]}{pad}{text}{pad}{self.within[1]}"
        return (*self.head, text) if self.assigns else (*self.head, *text.split(" "))

    def _said(self, parts: Words) -> str:
        out = ""
        for n, part in enumerate(parts):
            bracketed = len(parts) > 1 and any(sign in part for sign in self.inside)
            out += (self.inside[n - 1] if n else "") + (f"[{part}]" if bracketed else part)
        return out


def _cut(text: str, sign: str) -> tuple[str, str, bool]:
    """Return the parts before and after a sign, and whether there is one; brackets are not
    divided.
    """
    if text.startswith("[") and "]" in text:
        part, _, behind = text[1:].partition("]")
        more = bool(sign) and behind.startswith(sign)
        return part, behind[1:] if more else behind, more
    if not sign:
        return text, "", False
    part, found, behind = text.partition(sign)
    return part, behind, bool(found)


class Listed(Shape, frozen=True):
    """Another shape, some of whose statements hold lists.

    `inner`: that shape; `lists`: the statements.
    """

    inner: Shape = Shape()
    lists: tuple[Listing, ...] = ()

    def knowing(self, blocks: Sequence[str]) -> Shape:
        return replace(self, inner=self.inner.knowing(blocks))

    def unsaid(self, edits: Sequence[Edit]) -> str:
        return self.inner.unsaid(edits)

    def split(self, line: str) -> list[str]:
        words = self.inner.split(line)
        # What an assignment holds is one value for the shape, and several words in a list.
        for one in self.lists:
            if one.assigns and tuple(words[: len(one.head)]) == one.head:
                return [*one.head, *" ".join(words[len(one.head) :]).split()]
        return words

    def join(self, words: Sequence[str]) -> str:
        return self.inner.join(words)

    def negation_of(self, words: Words) -> Words:
        return self.inner.negation_of(words)

    def check(self, text: Text) -> None:
        self.inner.check(text)

    @property
    def anchors(self) -> tuple[bytes, bytes, bytes]:
        return self.inner.anchors

    @property
    def apart(self) -> bool:
        return self.inner.apart

    def begins_anew(self, line: bytes) -> bool:
        return self.inner.begins_anew(line)

    # Parts are those of the inner shape, as is what is remembered of them with a text.

    def tops(self, text: Text) -> Sequence[Words]:
        return self.inner.tops(text)

    def statements_of(self, text: Text, numbers: Sequence[int]) -> list[Found]:
        return list(self._each(self.inner.statements_of(text, numbers)))

    def content(self, text: Text, number: int) -> object:
        return self.inner.content(text, number)

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        return self._each(self.inner.find(text, heads))

    def statements(self, text: Text) -> list[Found]:
        # Of the same text, the inner shape remembers its own.
        return text.once("listed", lambda: list(self.everything(text)))

    def everything(self, text: Text) -> Iterator[Found]:
        return self._each(self.inner.everything(text))

    def holding(
        self, text: Text, word: bytes, heads: Sequence[Words], behind: Container[bytes]
    ) -> Iterator[Found]:
        return self._each(self.inner.holding(text, word, heads, behind))

    def part_around(self, text: Text, at: int) -> tuple[int, Iterable[Found]]:
        end, found = self.inner.part_around(text, at)
        return end, self._each(found)

    def _each(self, found: Iterable[Found]) -> Iterator[Found]:
        """Yield statements, those of a list one by one."""
        for path, raw, line in found:
            listing = next((one for one in self.lists if one.path == path), None)
            if listing is None or not (elements := self._read(listing, raw)):
                yield path, raw, line
                continue
            for one in elements:
                yield path, self.join((*listing.head, *one.parts)).encode(), line

    def _read(self, listing: Listing, raw: bytes) -> list[ListElement]:
        """Return the elements of a statement; none if it is no list, or not understood as one."""
        if len(raw) > LONGEST:
            return []
        return listing.elements(tuple(self.inner.split(decode(raw)))) or []

    def holds_list(self, path: Path, words: Words) -> bool:
        """Whether a statement of these words is one of a list, or the whole of it."""
        return self._of(path, words) is not None

    def _of(self, path: Path, words: Words) -> Listing | None:
        """Return the list that a statement is about."""
        every = (one for one in self.lists if path == one.path)
        return next((one for one in every if words[: len(one.name)] == one.name), None)

    def said_by(self, edit: Edit) -> list[tuple[Path, Words]]:
        listing = self._of(edit.path, edit.words)
        if listing is None or edit.body is None:
            return self.inner.said_by(edit)
        return [(edit.path, (*listing.head, *parts)) for parts in edit.body]

    def read_change(self, change: str, file: str) -> list[Edit]:
        return self._as_bodies(self.inner.read_change(change, file))

    def _as_bodies(self, edits: Iterable[Edit]) -> list[Edit]:
        """Return edits that set each list as a whole, with its elements as its body."""
        out = []
        for edit in edits:
            listing = self._of(edit.path, edit.words)
            elements = listing.elements(edit.words) if listing else None
            if listing is None or elements is None or edit.removes:
                out.append(edit)
            else:
                body = tuple(one.parts for one in elements)
                out.append(replace(edit, words=listing.head, body=body))
        return out

    def fine(self, text: Text, edits: Sequence[Edit], identity: Identity) -> list[Edit]:
        out: list[Edit] = []
        for edit in edits:
            listing = self._of(edit.path, edit.words)
            whole = edit.body is not None or (listing is not None and edit.words == listing.name)
            if listing is None:
                for one in self.inner.fine(text, [edit], identity):
                    # A section that is written as a whole may set lists.
                    is_list = self._of(one.path, one.words) is not None
                    out += self.fine(text, self._as_bodies([one]), identity) if is_list else [one]
                continue
            if not whole:
                words = (*listing.head, *listing.parts_of(edit.words))
                out.append(replace(edit, words=words))
                continue
            stood = [one.parts for one in self._standing(text, listing)[0]]
            wanted = edit.body or ()
            said = [(*listing.head, *parts) for parts in wanted]
            # What another of the same identity replaces does not go by itself.
            names = {identity(edit.path, words) for words in said}
            for parts, words in zip(wanted, said, strict=True):
                if parts not in stood:
                    out.append(replace(edit, words=words, body=None, removes=False))
            for parts in stood:
                words = (*listing.head, *parts)
                if identity(edit.path, words) not in names:
                    out.append(replace(edit, words=words, body=None, removes=True))
        return out

    def write_change(self, text: Text, edits: Sequence[Edit], identity: Identity) -> str:
        inner = self._inner_edits(text, edits, identity)
        return self.inner.write_change(text, inner, self._identity(identity))

    def apply(self, text: Text, edits: Sequence[Edit], identity: Identity) -> bytes:
        inner = self._inner_edits(text, edits, identity)
        return self.inner.apply(text, inner, self._identity(identity))

    def _identity(self, identity: Identity) -> Identity:
        """Return the key of a statement that is a list."""

        def of(path: Path, words: Words) -> object:
            listing = self._of(path, words)
            return ("list", path, listing.head) if listing else identity(path, words)

        return of

    def _inner_edits(self, text: Text, edits: Sequence[Edit], identity: Identity) -> list[Edit]:
        """Return the edits of the inner shape: each list is set once, where it is first changed."""
        out: list[Edit | Listing] = []
        lists: dict[Listing, list[ListElement]] = {}
        lines: dict[Listing, int] = {}
        for edit in edits:
            listing = self._of(edit.path, edit.words)
            if listing is None:
                out.append(edit)
                continue
            if listing not in lists:
                lists[listing] = self._standing(text, listing)[0]
                lines[listing] = edit.line
                out.append(listing)
            lists[listing] = self._edited(lists[listing], listing, edit, identity)
        return [
            one if isinstance(one, Edit) else self._set(text, one, lists[one], lines[one])
            for one in out
            if isinstance(one, Edit) or lists[one] or self._standing(text, one)[0]
        ]

    def _set(self, text: Text, listing: Listing, elements: list[ListElement], line: int) -> Edit:
        """Return the edit that sets a list; one without elements goes."""
        if not elements:
            return Edit(listing.path, listing.name, True, line)
        like = self._standing(text, listing)[1]
        return Edit(listing.path, listing.words(elements, like), False, line)

    def _standing(self, text: Text, listing: Listing) -> tuple[list[ListElement], Words]:
        """Return the current elements of a list, and the words of its statement."""
        for path, raw, _ in self.inner.statements(text):
            if path == listing.path and (elements := self._read(listing, raw)):
                return elements, tuple(self.inner.split(decode(raw)))
        return [], ()

    def _edited(
        self, elements: list[ListElement], listing: Listing, edit: Edit, identity: Identity
    ) -> list[ListElement]:
        """Return the elements after an edit; Refused if it takes away what is not there."""
        if edit.body is not None:
            stood = {one.parts: one for one in elements}
            return [stood.get(parts, ListElement(parts)) for parts in edit.body]
        parts = listing.parts_of(edit.words)
        if edit.removes:
            left = [one for one in elements if one.parts[: len(parts)] != parts]
            if len(left) == len(elements):
                raise missing(edit, self.join)
            return left
        name = identity(edit.path, edit.words)
        names = [identity(edit.path, (*listing.head, *one.parts)) for one in elements]
        if name not in names:
            return [*elements, ListElement(parts)]
        at = names.index(name)
        # All of one identity are one element from now on.
        rest = [one for n, one in enumerate(elements) if names[n] != name]
        return [*rest[:at], ListElement(parts), *rest[at:]]
