"""What drafting and learning a dialect need to know of each shape: one row a shape."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct

Lines = Sequence[str]

_SECTION = re.compile(r"\s*\[[^\]]+\]\s*$")
_BRACE = re.compile(r"[{};]\s*$")
_PATH = re.compile(r"[\w-]+(\.[\w-]+)+\s*=")


class ShapeTraits(Struct, frozen=True):
    """What drafting and learning need to know of a shape.

    reason: why a text is taken to have this shape.
    count: how many lines of a text look like this shape; without it, the text decides as a whole.
    weight: how much such a line counts beside those of other shapes.
    dotted_names, dotted_headers: whether dots join the words of names, or of headers.
    is_document: whether the text is one document, such as XML.
    has_wrapper: whether one block may hold the whole text.
    has_block_words: whether words open and close blocks.
    needs_block: whether a change is written inside a block.
    """

    reason: str
    count: Callable[[Lines], int] | None = None
    weight: int = 1
    dotted_names: bool = False
    dotted_headers: bool = False
    is_document: bool = False
    has_wrapper: bool = False
    has_block_words: bool = False
    needs_block: bool = False

    @property
    def joint(self) -> str:
        """What joins the words that remove a statement."""
        return "." if self.dotted_names or self.dotted_headers else " "

    @property
    def name_joint(self) -> str:
        """What joins the words of a statement's name."""
        return "." if self.dotted_names else " "

    @property
    def header_joint(self) -> str:
        """What joins the words of a header."""
        return "." if self.dotted_headers else " "


def _indented(lines: Lines) -> int:
    return sum(line[:1] in " \t" and not _BRACE.search(line) for line in lines)


# The shapes that can be learned.
TRAITS: Mapping[str, ShapeTraits] = {
    "blocks": ShapeTraits("lines are moved in below others", _indented),
    "braces": ShapeTraits(
        "lines end with braces and semicolons",
        lambda lines: sum(_BRACE.search(line) is not None for line in lines),
        has_wrapper=True,
        needs_block=True,
    ),
    "enclosed": ShapeTraits("words open and shut blocks", has_block_words=True),
    "paths": ShapeTraits(
        "lines are assignments to paths with dots",
        lambda lines: sum(_PATH.match(line) is not None for line in lines),
        dotted_names=True,
    ),
    "sections": ShapeTraits(
        "lines stand under headers in brackets",
        lambda lines: sum(_SECTION.match(line) is not None for line in lines),
        weight=3,
        dotted_headers=True,
    ),
    "tree": ShapeTraits("it is XML or JSON", is_document=True, needs_block=True),
}
DOCUMENT = next(name for name, traits in TRAITS.items() if traits.is_document)
ENCLOSED = next(name for name, traits in TRAITS.items() if traits.has_block_words)


def likely_shapes(lines: Lines) -> list[str]:
    """Return the shapes that a quarter of the lines or more look like, the likeliest first.

    >>> likely_shapes(["a.b = 1", "a.c = 2"]), likely_shapes(["x {", "y;", "}"])
    (['paths'], ['braces'])
    """
    share = {}
    for name, traits in TRAITS.items():
        if traits.count is not None:
            share[name] = traits.weight * traits.count(lines)
    fitting = [name for name, number in share.items() if 4 * number >= len(lines)]
    return sorted(fitting, key=lambda name: -share[name])
