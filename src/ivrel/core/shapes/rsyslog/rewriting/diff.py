"""Changes as unified diffs (POSIX diff -u), without context: no line that is not changed leaves a
configuration.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from difflib import unified_diff

from ivrel.core.shapes.shape import Edit
from ivrel.core.text.bundle import MARK, pack, parts
from ivrel.core.text.words import Words
from ivrel.core.vocabulary.errors import Refused

NAMELESS = "configuration"  # what a configuration of one file is called in a diff
NOTHING = "/dev/null"
_NO_END = "\\ No newline at end of file"  # what the format says behind a last line without an end
_OPEN = "\x1e"  # marks such a line here

_HUNK = re.compile(r"@@ -(\d+)(?:,(\d+))? \+(\d+)(?:,(\d+))? @@")


def write_diff(before: bytes, after: bytes) -> str:
    """Return the diff that turns one configuration into another.

    File names are those within its folder.
    """
    old = {p.name: p.data for p in parts(before)}
    new = {p.name: p.data for p in parts(after)}
    out: list[str] = []
    for name in sorted({**old, **new}):
        if old.get(name) == new.get(name):
            continue
        shown = name or NAMELESS
        out += unified_diff(
            _lines(old.get(name, b"")),
            _lines(new.get(name, b"")),
            shown if name in old else NOTHING,
            shown if name in new else NOTHING,
            n=0,
            lineterm="",
        )
    return "".join(line.replace(_OPEN, f"\n{_NO_END}") + "\n" for line in out)


def _lines(data: bytes) -> list[str]:
    """Return the lines of a text; one that does not end, at the end of it, is marked."""
    lines = data.decode("utf-8", "surrogateescape").split("\n")
    return lines[:-1] if lines[-1] == "" else [*lines[:-1], lines[-1] + _OPEN]


def _text(lines: list[str]) -> bytes:
    return (
        "".join(line + "\n" for line in lines)
        .replace(f"{_OPEN}\n", "")
        .encode("utf-8", "surrogateescape")
    )


def read_diff(text: str) -> list[Edit]:
    """Return the hunks of a diff as edits; ValueError with the line, and what was expected."""
    edits: list[Edit] = []
    lines = text.split("\n")
    files: tuple[str, ...]
    at = 0
    files = ()
    while at < len(lines) and (lines[at] or at < len(lines) - 1):
        line = lines[at]
        if line.startswith("--- ") and at + 1 < len(lines) and lines[at + 1].startswith("+++ "):
            files = _name(line), _name(lines[at + 1])
            at += 2
            continue
        hunk = _HUNK.match(line)
        if not hunk or not files:
            raise ValueError(at + 1, "expected a unified diff: '---', '+++' and '@@' lines")
        begun = at + 1
        old, new = (int(hunk[n]) if hunk[n] else 1 for n in (2, 4))
        body: list[Words] = []
        at += 1
        while old or new:
            said = lines[at] if at < len(lines) else ""
            if said[:1] not in ("-", "+", " "):
                raise ValueError(at + 1, "the hunk is shorter than it says")
            old -= said[0] in "- "
            new -= said[0] in "+ "
            at += 1
            ends = at >= len(lines) or lines[at] != _NO_END
            body.append((said[0], said[1:] if ends else said[1:] + _OPEN))
            at += not ends
        words = ("@@", *files, hunk[3], str(sum(1 for mark, _ in body if mark != "-")))
        edits.append(Edit((), words, False, begun, tuple(body)))
    return edits


def _name(line: str) -> str:
    name = line[4:].partition("\t")[0].strip()
    return "" if name == NAMELESS else name


def apply_hunk(data: bytes, edit: Edit) -> bytes:
    """Return the text after one hunk; Refused if it does not fit there."""
    bundled = data.startswith(MARK)
    files = {p.name: _lines(p.data) for p in parts(data)}
    _, old, new, start, count = edit.words
    name = new if old == NOTHING else old
    lines = [] if old == NOTHING else files.get(name)
    body = edit.body or ()
    before = [text for mark, text in body if mark != "+"]
    after = [text for mark, text in body if mark != "-"]
    # A hunk without lines names the line that it follows.
    at = int(start) - (1 if int(count) else 0)
    if lines is None or (old == NOTHING and name in files):
        raise Refused(
            f"there is {'no' if lines is None else 'already a'} file {name or NAMELESS}", edit.line
        )
    # Lines further up may have come or gone since the change was written.
    for place in _places(at, len(lines)):
        if lines[place : place + len(before)] == before:
            at = place
            break
    else:
        raise Refused(f"the lines to change are not in {name or NAMELESS}", edit.line)
    files[name] = [*lines[:at], *after, *lines[at + len(before) :]]
    if new == NOTHING and not files[name]:
        del files[name]
    encoded = {n: _text(said) for n, said in files.items()}
    return pack(encoded) if bundled else encoded[""]


def _places(at: int, most: int) -> Iterator[int]:
    """Yield where a hunk may fit, the nearest first."""
    at = min(at, most)
    yield at
    for away in range(1, most + 1):
        yield from (p for p in (at - away, at + away) if 0 <= p <= most)
