"""Forms of text that no dialect can describe yet: comments over several lines, here-documents,
lines that go on in the next one.

A platform may take what such a form holds for no statement, or for the end of another one. Only
statements that read the same with it and without it are sure, unless the dialect says that its
texts hold no such form.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.statements import Mark
from ivrel.core.text.text import Text

# The names are those of FORMS_OF_TEXT in the form of a dialect. With each: a sign without which
# the form does not occur, and an expression whose group `held` may be no statement.
_FORMS: Mapping[str, tuple[bytes, re.Pattern[bytes]]] = {
    "block-comments": (
        b"/*",
        re.compile(rb"(?:^|(?<=[\s;{}]))(?P<held>/\*.*?(?:\*/|\Z))", re.DOTALL | re.MULTILINE),
    ),
    "here-documents": (
        b"<<",
        re.compile(
            rb"<<-?[ \t]*[\"']?(?P<end>\w+)[\"']?[ \t]*\r?\n"
            rb"(?P<held>.*?(?:^[ \t]*(?P=end)[ \t]*\r?$|\Z))",
            re.DOTALL | re.MULTILINE,
        ),
    ),
    "continued-lines": (b"\\", re.compile(rb"\\[ \t]*\r?\n(?P<held>[^\n]*)")),
}
_SIGNS = re.compile(rb"[^\s]")


def other_text(dialect: Dialect, text: Text) -> Text | None:
    """Return the text without comments over several lines and the like, which the platform may read
    in its place; None if there are none.
    """
    # In a document of a standard form, the parser has told comments from content.
    if dialect.shape.DERIVED or dialect.shape.ATOMIC:
        return None
    return without_forms(text, dialect.has_no)


def without_forms(text: Text, never: Collection[str]) -> Text | None:
    """Return the text with blanks for what comments over several lines and the like hold, line for
    line the same; None if it has none.

    `never`: the forms that this platform's texts do not hold.

    >>> found = without_forms(Text(b"events on /* for\\nlevel error\\n now */\\nzone UTC\\n"), ())
    >>> found.data
    b'events on       \\n           \\n       \\nzone UTC\\n'
    """
    name = "without forms", tuple(never)
    return text.once(name, lambda: _without_forms(text, never))


def _without_forms(text: Text, never: Collection[str]) -> Text | None:
    data = text.data
    for name, (sign, expression) in _FORMS.items():
        if name not in never and sign in data:
            data = expression.sub(_blanked, data)
    return Text(data, whole=text.whole) if data != text.data else None


def _blanked(found: re.Match[bytes]) -> bytes:
    held = found.start("held") - found.start()
    whole = found.group()
    return whole[:held] + _SIGNS.sub(b" ", whole[held:])


def told_apart(marks: Sequence[Mark], others: Sequence[Mark]) -> tuple[list[Mark], list[Mark]]:
    """Return the statements that are in both of two readings, and those in one of them alone.

    `marks`: those of the text; `others`: those of the text without what its forms hold.
    """
    both = set(marks) & set(others)
    sure = [mark for mark in marks if mark in both]
    doubtful = [mark for mark in (*marks, *others) if mark not in both]
    return sure, sorted(doubtful, key=lambda mark: mark[1])
