"""What a template means, as data, and what is known around it."""

from __future__ import annotations

import re
from collections.abc import Container, Mapping, Sequence

from msgspec import Struct

from ivrel.core.authoring.learning.spellings import may_be
from ivrel.core.authoring.learning.templates import Keys
from ivrel.core.vocabulary.addresses import is_address

# Signs that mean something in a pattern, or in the file that it is in.
SIGNS = re.compile(r"""[{}\[\]"'\\#=|*]""")


class Piece(Struct, frozen=True):
    """A piece of a statement: words, and the slot of the value behind them ('' if there is none).

    `optional`: whether it may be left out; `nested`: whether the pieces behind it may only occur
    together with it.
    """

    words: Keys
    slot: str
    optional: bool = False
    nested: bool = False


class Meaning(Struct, frozen=True):
    """What a template means: the slot of each of its names and of each column of its values; a
    column without a slot is kept as it is.

    `flow`: the slots of values, some of which may be left out, in their order. `pieces`: of
    statements that leave words out, what they are made of, and `words`, which were seen for each
    slot in each of them. `why`: in words; `doubt`: why it is not known.
    """

    names: Mapping[int, str] = {}
    columns: Mapping[int, str] = {}
    why: str = ""
    doubt: str = ""
    flow: tuple[str, ...] = ()
    pieces: tuple[Piece, ...] = ()
    words: tuple[Mapping[str, str], ...] = ()


class Around(Struct, frozen=True):
    """What else is known: `collectors`: addresses that are surely those of collectors; `own`:
    addresses of the devices; `interfaces`: names of what has addresses; `destinations`: names of
    collectors in the texts; `feeds`: names of what gives messages to them.
    """

    collectors: Container[str]
    own: Container[str]
    interfaces: Container[str]
    destinations: Container[str]
    feeds: Container[str] = ()


class Table(Struct, frozen=True):
    """A table that rows fill: its name, and the slots of the names of its rows."""

    name: str
    key: str


def can_be(slot: str, words: Sequence[str], around: Around) -> bool:
    """Whether words can be values of a slot that something identifies."""
    if slot.endswith("interface"):
        return all(word in around.interfaces for word in words)
    if slot == "gate.feed":
        return all(word in around.feeds for word in words)
    if slot.endswith("source-address") or slot == "source.address":
        return all(map(is_address, words)) and not any(w in around.collectors for w in words)
    return may_be(slot, words)
