"""Reads a dialect from its YAML file.

Passes: `- {in: events, says: "facility {facility}"}`
Fails:  `- {in: events, says: "facility {colour}"}` (no slot is called colour)
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from yaml import MappingNode

from ivrel.core.dialects.dialect import Dialect, Example
from ivrel.core.dialects.pattern import Flag, Literal, Pattern, compile_pattern
from ivrel.core.dialects.slots import SLOTS, TABLES, unknown_slot
from ivrel.core.form import (
    Key,
    ListOf,
    MapOf,
    Node,
    Raw,
    Record,
    Report,
    Text,
    pairs,
    place,
    read_yaml,
)
from ivrel.core.shapes import SHAPES, Shape
from ivrel.core.vocabulary.errors import InputError
from ivrel.core.vocabulary.said import Said
from ivrel.core.vocabulary.values import Value
from ivrel.core.vocabulary.wording import not_one_of, shorten


def _whole(text: str) -> int:
    if not re.fullmatch("[0-9]{1,9}", text):
        raise ValueError(f"'{shorten(text)}' is not a whole number")
    return int(text)


_TEXT = Text("text")
_TEXTS = ListOf(_TEXT, filled=True)
_SPELLED = ListOf(_TEXT, one_is_enough=True, filled=True)
_INSIDE = Key(_TEXT, "the enclosing headers, divided by '/'")

_ROWS = Record(
    "a table",
    {
        "key": Key(_TEXTS, "the fields that tell rows apart", must=True),
        "removed-by": Key(_TEXT, "the beginning of all statements of one row"),
        "in": Key(_TEXT, "the block that `removed-by` stands in"),
        "most": Key(Text("a whole number", _whole), "how many rows the platform holds"),
    },
    lambda at, **v: {"line": place(at)[0], **v},
)

_STATEMENT = Record(
    "a statement",
    {
        "says": Key(_TEXT, "the pattern", must=True),
        "in": _INSIDE,
        "removed-by": Key(_TEXT, "the words that name it when it is removed"),
    },
    lambda at, **v: (at, v),
)

_ASIDE = Record(
    "a statement",
    {
        "starts": Key(ListOf(_TEXT, one_is_enough=True), "first words", must=True),
        "in": _INSIDE,
    },
    lambda at, **v: (at, v),
)

_EXAMPLE = Record(
    "an example",
    {
        "text": Key(_TEXT, "a text", must=True),
        "means": Key(Raw(MapOf(_TEXT).schema()), "its settings"),
    },
    lambda at, **said: (at, said),
)

_BEFORE = {
    "dialect": Key(_TEXT, "its name, as the file's", must=True),
    "about": Key(_TEXT, "the kind of platform, in one line", must=True),
    "shape": Key(
        Text("a shape", choices=tuple(SHAPES)), "how text falls into statements", must=True
    ),
}

_BEHIND = {
    "channels": Key(_TEXTS, "the planes or categories of messages, each with a way of its own"),
    "categories": Key(MapOf(_TEXTS), "of channels that are planes: the categories that go by each"),
    "spelling": Key(
        Raw(MapOf(MapOf(_SPELLED)).schema()),
        "for a type or a slot: its values and this platform's words, the first of which is "
        "written; "
        "a value that is not listed cannot be said",
    ),
    "rows": Key(
        MapOf(_ROWS, Text("a table", choices=TABLES)), "the tables that the statements fill"
    ),
    "only": Key(
        MapOf(MapOf(_SPELLED)),
        "for a slot: the values of another slot with which alone it takes effect",
    ),
    "only-read": Key(_TEXTS, "slots that are read and cannot be written"),
    "never": Key(
        ListOf(Text("a table", choices=TABLES), filled=True),
        "tables of which this platform has no rows: it has no filters, say, so none can drop "
        "anything",
    ),
    "defaults-when": Key(
        MapOf(MapOf(MapOf(_TEXT))),
        "for a slot: another slot of the same row, and the default for some of its values",
    ),
    "open": Key(
        _TEXTS,
        "parts in which more stands than this dialect is about: what is not known there is "
        "passed over",
    ),
    "defaults": Key(Raw({"type": "object"}), "what holds where the text says nothing"),
    "statements": Key(ListOf(_STATEMENT, filled=True), "the patterns", must=True),
    "aside": Key(ListOf(_ASIDE), "statements in the export part that bear on no setting"),
    "examples": Key(ListOf(_EXAMPLE), "texts with the settings that they mean"),
}


def _form(classes: Sequence[type[Shape]]) -> Record:
    """The form of a dialect whose shape is one of these, each with options of its own."""
    options = {key: said for one in classes for key, said in one.OPTIONS.items()}
    change = {key: said for one in classes for key, said in one.CHANGE.items()}
    way = Key(Record("a way to change", change), "how a change is written", must=True)
    return Record("a dialect", {**_BEFORE, **options, "change": way, **_BEHIND})


class _ByShape:
    """The form of a dialect: which keys it may have hangs on its shape."""

    def read(self, node: Node, report: Report) -> Any:
        said = (
            next((str(v.value) for k, v in getattr(node, "value", ()) if k.value == "shape"), "")
            if isinstance(node, MappingNode)
            else ""
        )
        known = [SHAPES[said]] if said in SHAPES else SHAPES.values()
        return _form([row.load() for row in known]).read(node, report)

    def schema(self) -> dict[str, Any]:
        return _form([row.load() for row in SHAPES.values()]).schema()


DIALECT = _ByShape()


def read_dialect(text: str, file: str) -> Dialect:
    """Return the dialect of a YAML text; InputError holds every mistake, with line and column."""
    values, report = read_yaml(text, file, DIALECT)
    if values is None:
        raise InputError(report.mistakes)
    return _Loader(values, report).dialect()


class _Loader:
    """Makes a dialect of the values in its file; mistakes go to the report."""

    def __init__(self, values: Mapping[str, Any], report: Report) -> None:
        self._values, self._report = values, report
        kind = SHAPES[values["shape"]].load()
        said = {key.replace("-", "_") for key in kind.OPTIONS}
        options = {key: value for key, value in values.items() if key in said}
        self._shape = kind.built({**options, **values["change"]})
        self._spelling = _spelling(values.get("spelling"), report)
        self._rows: Mapping[str, Any] = values.get("rows", {})
        self._keys = {
            table: tuple(f"{table}.{field}" for field in row["key"])
            for table, row in self._rows.items()
        }
        self._every_key = [slot for table in self._keys.values() for slot in table]

    def dialect(self) -> Dialect:
        """The dialect; InputError if anything in the file is wrong."""
        values, report = self._values, self._report
        compiled = self._statements()
        patterns = tuple(pattern for _, pattern in compiled)
        removal = self._removal()
        aside = self._aside()
        self._check_keys()
        defaults = _defaults(values.get("defaults"), report)
        only = self._only()
        self._check_channels()
        groups = _groups(compiled, self._every_key, report)
        conditional = _conditional(values.get("defaults_when", {}), report)
        report.settle()
        examples = [_example(at, report, **said) for at, said in values.get("examples", ())]
        return Dialect(
            name=values["dialect"],
            about=values["about"],
            shape_name=values["shape"],
            shape=self._shape.knowing(_block_words(patterns)),
            patterns=patterns,
            aside=aside,
            channels=values.get("channels", ()),
            categories=values.get("categories", {}),
            keys=self._keys,
            removal=removal,
            defaults=defaults,
            limits={table: row["most"] for table, row in self._rows.items() if "most" in row},
            only=only,
            open=values.get("open", ()),
            only_read=values.get("only_read", ()),
            examples=tuple(examples),
            file=report.file,
            slots=frozenset(slot for pattern in patterns for slot in pattern.slots),
            row_lines={table: row["line"] for table, row in self._rows.items()},
            says=tuple(says["says"] for _, says in values["statements"]),
            groups=groups,
            said_defaults={slot: Said(value, (), True) for slot, value in defaults.items()},
            never=values.get("never", ()),
            conditional=conditional,
        )

    def _compiled(self, node: Node | None, says: str, inside: str, **more: Any) -> Pattern | None:
        """A pattern; None, and a mistake, if it is none."""
        try:
            return compile_pattern(
                says,
                inside,
                self._shape.split,
                more.pop("spelling", self._spelling),
                line=place(node)[0] if node is not None else 0,
                **more,
            )
        except ValueError as problem:
            self._report.add(node, str(problem))
            return None

    def _statements(self) -> list[tuple[Node, Pattern]]:
        out = []
        for node, says in self._values["statements"]:
            pattern = self._compiled(
                node,
                says["says"],
                says.get("in", ""),
                keys=self._every_key,
                removed_by=says.get("removed_by"),
                qualified=self._shape.QUALIFIED,
            )
            if pattern is None:
                continue
            out.append((node, pattern))
            if pattern.table not in ("", *self._keys):
                said = f"no key for the rows of '{pattern.table}'; expected it under 'rows'"
                self._report.add(node, said)
        return out

    def _removal(self) -> dict[str, Pattern]:
        """What names a row of a table as a whole when it is removed."""
        out = {}
        for table, row in self._rows.items():
            if "removed_by" in row:
                pattern = self._compiled(
                    None,
                    row["removed_by"],
                    row.get("in", ""),
                    keys=self._every_key,
                    qualified=self._shape.QUALIFIED,
                )
                if pattern is not None:
                    out[table] = pattern
        return out

    def _aside(self) -> tuple[Pattern, ...]:
        found = [
            self._compiled(node, words, entry.get("in", ""), spelling={})
            for node, entry in self._values.get("aside", ())
            for words in entry["starts"]
        ]
        return tuple(pattern for pattern in found if pattern is not None)

    def _check_keys(self) -> None:
        for slot in self._every_key:
            if slot not in SLOTS:
                self._report.add(None, f"key {unknown_slot(slot)}")

    def _only(self) -> dict[str, tuple[str, tuple[str, ...]]]:
        said = self._values.get("only", {}).items()
        only = {slot: next(iter(where.items()), ("", ())) for slot, where in said}
        for at, (where, _) in only.items():
            for slot in (at, where):
                if slot not in SLOTS:
                    self._report.add(None, f"'only': slot {unknown_slot(slot)}")
        return only

    def _check_channels(self) -> None:
        channels = self._values.get("channels", ())
        for channel in self._values.get("categories", {}):
            if channel not in channels:
                said = f"'categories': channel {not_one_of(channel, channels)}"
                self._report.add(None, said)


def _example(at: Node, report: Report, text: str, means: Node | None = None) -> Example:
    """An example, with the lines of what it means."""
    said = pairs(means, report) if means is not None else []
    values = {key.value: _TEXT.read(value, report) or "" for key, value in said}
    return Example(text, values, place(at)[0], {key.value: place(key)[0] for key, _ in said})


def _groups(
    compiled: Sequence[tuple[Node, Pattern]], keys: Sequence[str], report: Report
) -> tuple[int, ...]:
    """The groups of patterns that write the same statement; each value must have one statement that
    says it.

    A value in two statements could be said twice, and it would hang on their order which one holds.
    """
    groups: list[int] = []
    carried: dict[str, list[int]] = {}
    for number, (node, pattern) in enumerate(compiled):
        values = [s for s in pattern.own_slots if s not in keys and not SLOTS[s].many]
        others = (group for slot in values for group in carried.get(slot, ()))
        group = next((g for g in others if not _of_other_rows(compiled[g][1], pattern)), number)
        first = compiled[group][1]
        groups.append(group)
        for slot in values:
            carried.setdefault(slot, []).append(group)
        if group == number:
            continue
        if (first.table, first.path, first.stem) != (pattern.table, pattern.path, pattern.stem):
            slot = next(s for s in values if s in first.own_slots)
            said = f"{slot} is said by the statement in line {first.line}, too"
            report.add(
                node,
                f"{said}; of two that can stand beside each other it is not clear which one holds",
            )
        elif set(values) != {s for s in first.own_slots if s not in keys and not SLOTS[s].many}:
            said = f"begins like the statement in line {first.line}, and says something else"
            report.add(node, f"{said}; expected one statement with its optional parts in brackets")
    return tuple(groups)


def _block_words(patterns: Sequence[Pattern]) -> tuple[str, ...]:
    """The words that alone are headers of blocks at the top, and that nothing else at the top
    begins with.
    """
    alone = {
        p.path[0][0].word
        for p in patterns
        if p.path and len(p.path[0]) == 1 and isinstance(p.path[0][0], Literal)
    }
    other = {p.opening[0] for p in patterns if not p.path and p.opening}
    return tuple(sorted(alone - other))


def _defaults(node: Node | None, report: Report) -> dict[str, Value]:
    out: dict[str, Value] = {}
    if node is None:
        return out
    for key, child in pairs(node, report):
        slot, word = key.value, _TEXT.read(child, report)
        if slot not in SLOTS:
            report.add(key, f"default for a slot: {unknown_slot(slot)}")
        elif word is not None:
            try:
                out[slot] = SLOTS[slot].type.parse(word)
            except ValueError as problem:
                choices = SLOTS[slot].type.choices
                report.add(
                    child, f"default of {slot}: {not_one_of(word, choices) if choices else problem}"
                )
    return out


def _of_other_rows(one: Pattern, other: Pattern) -> bool:
    """Whether two statements are never of the same row: a word in their headers says so."""
    marks = [
        {
            item.slot: item.value
            for items in pattern.path
            for item in items
            if isinstance(item, Flag)
        }
        for pattern in (one, other)
    ]
    return any(marks[1].get(slot, value) != value for slot, value in marks[0].items())


def _conditional(
    said: Mapping[str, Mapping[str, Mapping[str, str]]], report: Report
) -> dict[str, tuple[str, dict[Value, Said]]]:
    """The defaults that hang on another value: of each slot, that value's slot, and the default for
    its values.
    """
    out: dict[str, tuple[str, dict[Value, Said]]] = {}
    for slot, where in said.items():
        for other, values in where.items():
            try:
                parse, condition = SLOTS[slot].type.parse, SLOTS[other].type.parse
                cases = {
                    condition(value): Said(parse(default), (), True)
                    for value, default in values.items()
                }
                out[slot] = other, cases
            except (KeyError, ValueError) as problem:
                report.add(None, f"'defaults-when': {problem} is not known")
    return out


def _spelling(node: Node | None, report: Report) -> dict[str, dict[str, tuple[str, ...]]]:
    """The words of values, each of a type or of a slot that there is, and each value one that there
    is.
    """
    out: dict[str, dict[str, tuple[str, ...]]] = {}
    types = {slot.type.name: slot.type for slot in SLOTS.values()}
    for key, child in pairs(node, report) if node is not None else ():
        kind = SLOTS[key.value].type if key.value in SLOTS else types.get(key.value)
        if kind is None:
            report.add(key, f"type or slot {not_one_of(key.value, (*types, *SLOTS))}")
            continue
        words = out[key.value] = {}
        for name, said in pairs(child, report):
            if kind.choices and name.value not in kind.choices:
                report.add(name, f"value {not_one_of(name.value, kind.choices)}")
                continue
            read = _SPELLED.read(said, report)
            if read:
                words[name.value] = read
    return out
