"""Text for each target: whatever comes from a configuration, a message or a file goes through here.

Anybody who can send a datagram or name an interface decides what such text holds: control
characters that steer a terminal, signs that turn the direction of writing, markup, formulas.
"""

from __future__ import annotations

import re
from typing import Any

from markupsafe import Markup, escape

from ivrel.core.vocabulary.wording import plain

# What XML 1.0 cannot hold (section 2.2).
_NO_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
# Signs that JSON holds as they are, and that a terminal or an editor may obey.
_OBEYED = re.compile("[\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff]")
# With what a spreadsheet takes a cell for a formula.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
_MARKUP = re.compile(r"([\\\[\]])")


def for_csv(value: Any) -> Any:
    """Return a value as a cell: text without control characters, and no formula.

    >>> for_csv("=1+1"), for_csv("a\\x1b"), for_csv(5)
    ("'=1+1", 'a·', 5)
    """
    if not isinstance(value, str):
        return value
    text = plain(value)
    return f"'{text}" if text.startswith(_FORMULA) and not _is_number(text) else text


def _is_number(text: str) -> bool:
    return re.fullmatch(r"[+-]?[0-9]+(\.[0-9]+)?", text) is not None


def for_markdown(text: str) -> str:
    """Return text for a paragraph, a heading or a cell of a table: on one line, without markup.

    >>> for_markdown("a|b <img onerror=x>")
    'a\\\\|b &lt;img onerror=x&gt;'
    """
    said = plain(text).replace("\n", " ").replace("`", "'")
    said = _MARKUP.sub(r"\\\1", said)
    return said.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace("|", "\\|")


def for_markdown_code(text: str) -> str:
    """Return text to be between backticks, also in a cell of a table."""
    return plain(text).replace("\n", " ").replace("`", "'").replace("|", "\\|")


def for_markdown_block(text: str) -> list[str]:
    """Return the lines of a fenced block, with its fences."""
    said = plain(text)
    fence = "`" * max(3, 1 + max(map(len, re.findall("`+", said)), default=0))
    return [fence, *said.split("\n")[: -1 if said.endswith("\n") else None], fence]


def for_html(text: str) -> Markup:
    """Return text for HTML, escaped and without control characters."""
    return escape(plain(text))


def finalize_html(value: Any) -> Any:
    """Return a value as a template may write it: what is markup already stays."""
    return plain(value) if type(value) is str else value


def for_xml(text: str) -> str:
    """Return text that an XML document can hold, and that steers nothing."""
    return _OBEYED.sub("\ufffd", _NO_XML.sub("\ufffd", text))


def for_label(text: str) -> str:
    """Return the value of a label of OpenMetrics, without its quotes."""
    said = plain(text).replace("\\", "\\\\")
    return said.replace("\n", "\\n").replace('"', '\\"')


def for_json(encoded: str) -> str:
    """Return encoded JSON with signs that a terminal may obey written as `\\uXXXX`: the same values
    for whoever reads it as JSON.
    """
    if encoded.isascii() and "\x7f" not in encoded:
        return encoded
    return _OBEYED.sub(lambda sign: f"\\u{ord(sign[0]):04x}", encoded)
