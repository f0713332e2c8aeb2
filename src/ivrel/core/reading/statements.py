"""What a dialect makes of one statement: it is understood, set aside, or strange."""

from __future__ import annotations

from msgspec import Struct

from ivrel.core.dialects.items import Fields
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.values import Value

Key = tuple[Value, ...]  # the values that tell a row of a table apart

# Tables that are looked up only when a check asks for them: they are long and seldom needed.
LAZY = ("interface", "gate")

# The field of a row of a lazy table that holds a statement of it that no pattern understands.
DOUBT = "?"

NO_PATTERN = -1  # the number of a statement that does no more than name a row


class Understood(Struct, frozen=True):
    """A statement that a pattern understands, or (NO_PATTERN) one that only names a row.

    `named`: the fields that tell the row apart; `many`: those that add to a list; `fields`: all
    others; `silent`: those that the pattern could carry and the statement does not.
    """

    pattern: int
    table: str
    key: Key
    named: Fields
    fields: Fields
    many: Fields
    silent: tuple[str, ...]
    path: Path
    words: Words


class Aside(Struct, frozen=True):
    """A statement that bears on no setting by itself; `header`: it opens a block that is known."""

    header: bool = False


class Strange(Struct, frozen=True):
    """A statement that no pattern understands, in a part that a dialect is about.

    `slots`: those that it may say; `tables`: those in whose part it stands, whose other fields it
    may say as well; `shown`: whether it surely concerns export, so that its text may be shown.
    """

    slots: tuple[str, ...]
    tables: tuple[str, ...]
    shown: bool = True


Statement = Understood | Aside | Strange
Mark = tuple[Understood, int]  # a statement that was understood, and its line


class Stray(Struct, frozen=True):
    """A strange statement of a text.

    `text` is '' where it is not certain that the statement concerns export. `row`: the table and
    the key of the row in whose block it stands, and with which it goes.
    """

    line: int
    text: str
    strange: Strange
    row: tuple[str, Key] | None = None
