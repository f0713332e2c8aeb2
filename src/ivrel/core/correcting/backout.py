"""What a back-out needs beyond the settings: what went with a row, and where entries of lists
stood.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ivrel.core.correcting.difference import lost_beyond_export
from ivrel.core.reading.records import Records
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.beginnings import Beginnings
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words


def in_order(original: Records, now: Records, edits: Sequence[Edit]) -> list[Edit]:
    """Return edits that bring entries of lists back to where the user had them, and then all else.

    Each comes in front of the next one that is there already, since a server may look for that
    before it carries anything out. `now`: what the edits start from.
    """
    lists = _entries(original)
    there = {(path, words) for path, some in _entries(now).items() for words in some}
    coming: dict[tuple[Path, Words], None] = {}
    others = []
    for edit in edits:
        whole = () if edit.removes else (*edit.path, edit.words)
        for depth, words in enumerate(whole):
            at = whole[:depth], words
            if at not in there and words in lists.get(at[0], ()):
                coming[at] = None
        if (edit.path, edit.words) not in coming:
            others.append(edit)
    out = []
    for path, words in sorted(coming, key=lambda at: _place(lists, at)):
        behind = lists[path][lists[path].index(words) + 1 :]
        ahead_of = next((one for one in behind if (path, one) in there), ())
        out.append(Edit(path, words, ahead_of=ahead_of))
    return [*out, *others]


def _entries(records: Records) -> dict[Path, list[Words]]:
    """Return the entries of lists that the user orders, list by list."""
    names = records.dialect.shape.ordered_names
    lists: dict[Path, list[Words]] = {}
    for match, _ in records.marks:
        if match.words[0] in names:
            lists.setdefault(match.path, []).append(match.words)
    return lists


def _place(lists: Mapping[Path, list[Words]], at: tuple[Path, Words]) -> int:
    return lists[at[0]].index(at[1])


def gone_with_rows(before: Records, after: Text, fine: Sequence[Edit]) -> list[tuple[Path, Words]]:
    """Return the statements beyond export settings that stood in a row which the change takes away
    as a whole: they go with it, and come back with it.
    """
    lost = lost_beyond_export(before.dialect, before.text, after)
    if not lost:
        return []
    known = Beginnings()
    others = Beginnings()
    for match, _ in before.marks:
        known.add(None, match.path, match.words)
    for path, words in lost:
        others.add(None, path, words)
    gone: set[tuple[Path, Words]] = set()
    for edit in fine:
        if edit.removes and _inside(edit, known):
            gone |= _inside(edit, others)
    return [one for one in lost if one in gone]


def _inside(edit: Edit, statements: Beginnings) -> set[tuple[Path, Words]]:
    """Return the statements that are in the block that a removal takes away."""
    found = statements.find(edit.path, edit.words)
    return {(path, words) for _, path, words in found if len(path) > len(edit.path)}
