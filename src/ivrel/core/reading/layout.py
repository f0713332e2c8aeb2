"""Forms of text that no dialect can describe yet: comments over several lines, here-documents,
lines that go on in the next one.

A platform may take what stands in one of them for no statement, or for the end of another one. So
what a dialect understands there is in doubt, unless the dialect says that its texts hold none.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping

from ivrel.core.text.text import Text

# The names are those of FORMS_OF_TEXT in the form of a dialect.
_FORMS: Mapping[str, tuple[bytes, re.Pattern[bytes]]] = {
    "block-comments": (
        b"/*",
        re.compile(rb"(?:^|(?<=[\s;{}]))/\*.*?(?:\*/|\Z)", re.DOTALL | re.MULTILINE),
    ),
    "here-documents": (
        b"<<",
        re.compile(
            rb"<<-?[ \t]*[\"']?(\w+)[\"']?[ \t]*\r?\n.*?(?:^[ \t]*\1[ \t]*\r?$|\Z)",
            re.DOTALL | re.MULTILINE,
        ),
    ),
    "continued-lines": (b"\\", re.compile(rb"\\[ \t]*\r?\n[^\n]*")),
}


def lines_in_doubt(text: Text, never: Collection[str]) -> list[range]:
    """Return the lines that a platform may take otherwise than they look.

    `never`: the forms that this platform's texts do not hold.

    >>> lines_in_doubt(Text(b"events on /* for\\nfacility local0\\n now */\\nlevel error\\n"), ())
    [range(2, 4)]
    """
    out = []
    for name, (sign, expression) in _FORMS.items():
        if name in never or sign not in text.data:
            continue
        for found in expression.finditer(text.data):
            first = text.line_of(found.start())
            # What stands in front of a sign, in its line, is said.
            out.append(range(first + 1, text.line_of(found.end() - 1) + 1))
    return [lines for lines in out if lines]
