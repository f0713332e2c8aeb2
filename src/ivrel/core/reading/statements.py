"""What a dialect makes of one statement: it is understood, set aside, or strange."""

from __future__ import annotations

from msgspec import Struct

from ivrel.core.dialects.items import Fields
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.values import Value

Key = tuple[Value, ...]  # the values that tell a row of a table apart

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


class Unparsed(Struct, frozen=True):
    """A statement that no pattern understands, in a part that a dialect is about.

    `slots`: those that it may say; `tables`: those in whose part it stands, whose other fields it
    may say as well; `shown`: whether it surely concerns export, so that its text may be shown.
    """

    slots: tuple[str, ...]
    tables: tuple[str, ...]
    shown: bool = True


class TakenBack(Struct, frozen=True):
    """A statement that takes back what stood before it in the text, so that the default holds.

    It takes back the statements that begin with `words`, or are in a block that does, and those of
    the row `of_row` (a table and a key), whatever their spelling. Unless it takes back a whole
    block (`block`), all must be of that row, and written as `group` of the dialect's patterns
    writes them (None: in any way). `whole`: the words that it negates, if these are a whole
    statement; else (). `adds`: whether such statements add to a list, so that it takes back the one
    that it repeats alone. `by_rule`: whether only a rule for all statements says what it leads to.
    `says`: what it may say where it cannot be told what it takes back.
    """

    path: Path
    words: Words
    says: Unparsed
    of_row: tuple[str, Key] | None = None
    group: int | None = None
    block: bool = False
    whole: Words = ()
    adds: bool = False
    by_rule: bool = False


class Undone(Struct, frozen=True):
    """A statement that is understood, and that a later one takes back; `by`: the line of that."""

    by: int


Statement = Understood | Aside | Unparsed | TakenBack
Explained = Statement | Undone  # once the negations of its text are carried out
Mark = tuple[Understood, int]  # a statement that was understood, and its line


class UnparsedLine(Struct, frozen=True):
    """A strange statement of a text.

    `text` is '' where it is not certain that the statement concerns export. `row`: the table and
    the key of the row in whose block it stands, and with which it goes.
    """

    line: int
    text: str
    strange: Unparsed
    row: tuple[str, Key] | None = None
