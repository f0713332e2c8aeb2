"""A dialect: how one platform writes its settings, as data. One YAML file; patterns that read and write.

Passes: `- {in: events, says: "facility {facility}"}`
Fails:  `- {in: events, says: "facility {colour}"}` (no slot is called colour)
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.dialects import shapes
from ivrel.core.dialects.pattern import Flag, Literal, Pattern, compile_pattern
from ivrel.core.dialects.said import Said
from ivrel.core.dialects.slots import SLOTS, TABLES, Value, unknown_slot
from ivrel.core.form import Key, ListOf, MapOf, Node, Raw, Record, Report, Text, pairs, place, read_yaml, shorten
from ivrel.core.mistakes import InputError, not_one_of


class Example(Struct, frozen=True):
    """A text, and the settings that it means, as `setting` or `setting key` to text."""

    text: str
    means: Mapping[str, str]
    line: int
    lines: Mapping[str, int] = {}  # where the file says what is meant


class Dialect(Struct, frozen=True, eq=False):
    """One platform's way of writing, as read from its file."""

    name: str
    about: str
    shape: str
    style: shapes.Style
    patterns: tuple[Pattern, ...]
    aside: tuple[Pattern, ...]
    channels: tuple[str, ...]
    categories: Mapping[str, tuple[str, ...]]
    keys: Mapping[str, tuple[str, ...]]
    removal: Mapping[str, Pattern]
    defaults: Mapping[str, Value]
    limits: Mapping[str, int]
    only: Mapping[str, tuple[str, tuple[str, ...]]]
    open: tuple[str, ...]
    only_read: tuple[str, ...]
    examples: tuple[Example, ...]
    file: str
    slots: frozenset[str]
    row_lines: Mapping[str, int]
    says: tuple[str, ...]  # the text of each pattern, for people
    groups: tuple[int, ...]  # of each pattern, the first one that writes the same statement in another way
    said_defaults: Mapping[str, Said]
    never: tuple[str, ...]  # tables of which this platform has no rows
    conditional: Mapping[str, tuple[str, Mapping[Value, Said]]]  # defaults that hang on another value of the row

    @property
    def grammar(self) -> shapes.Shape:
        """The shape's functions."""
        return shapes.shape(self.shape)

    def has(self, slot: str) -> bool:
        """Whether a statement of this platform can carry the slot."""
        return slot in self.slots

    def can_write(self, slot: str, value: Value) -> bool:
        """Whether this platform can say that a slot has this value."""
        if self.defaults.get(slot) == value:
            return True
        return slot not in self.only_read and any(p.can_write(slot, value) for p in self.patterns)

    def choices(self, slot: str) -> tuple[str, ...]:
        """The values that a slot can take on this platform, least first; empty if any will do."""
        known = SLOTS[slot].type.choices
        if not known:
            spelled = (v.spelled for p in self.patterns if (v := p.variable(slot)) and v.spelled)
            known = tuple(next(spelled, ()))
        return tuple(c for c in known if self.can_write(slot, c))


def _whole(text: str) -> int:
    if not re.fullmatch("[0-9]{1,9}", text):
        raise ValueError(f"'{shorten(text)}' is not a whole number")
    return int(text)


_TEXT = Text("text")

_SPELLED = ListOf(_TEXT, one_is_enough=True, filled=True)

DIALECT = Record(
    "a dialect",
    {
        "dialect": Key(_TEXT, "its name, as the file's", must=True),
        "about": Key(_TEXT, "the kind of platform, in one line", must=True),
        "shape": Key(Text("a shape", choices=shapes.NAMES), "how text falls into statements", must=True),
        "comment": Key(_TEXT, "what a comment line begins with"),
        "change": Key(
            Record(
                "a way to change",
                {
                    "remove": Key(_TEXT, "the word that takes a statement away", must=True),
                    "inside": Key(_TEXT, "the block that a change stands in"),
                    "form": Key(
                        Text("a form", choices=("own", "standard")),
                        "of a tree: the same tree with the removal word, or RFC 6241 and RFC 8072",
                    ),
                },
            ),
            "how a change is written",
            must=True,
        ),
        "wrapper": Key(ListOf(_TEXT, one_is_enough=True), "the block that everything stands in"),
        "lists": Key(MapOf(ListOf(_TEXT, filled=True)), "of a tree: its lists, and the keys of their entries"),
        "mirror": Key(_TEXT, "of a tree: the container in which a list entry's keys stand once more"),
        "leaves": Key(Text("a kind", choices=("attributes", "elements")), "of XML: where values stand"),
        "modules": Key(
            MapOf(Record("a module", {"module": Key(_TEXT, "its name"), "namespace": Key(_TEXT, "its URI")})),
            "of a tree: the modules of names at its top",
        ),
        "channels": Key(
            ListOf(_TEXT, filled=True), "the planes or categories of messages, each with a way of its own"
        ),
        "categories": Key(
            MapOf(ListOf(_TEXT, filled=True)), "of channels that are planes: the categories that go by each"
        ),
        "spelling": Key(
            Raw(MapOf(MapOf(_SPELLED)).schema()),
            "for a type or a slot: its values and this platform's words, the first of which is written; a value "
            "that is not listed cannot be said",
        ),
        "rows": Key(
            MapOf(
                Record(
                    "a table",
                    {
                        "key": Key(ListOf(_TEXT, filled=True), "the fields that tell rows apart", must=True),
                        "removed-by": Key(_TEXT, "the beginning of all statements of one row"),
                        "in": Key(_TEXT, "the block that `removed-by` stands in"),
                        "most": Key(Text("a whole number", _whole), "how many rows the platform holds"),
                    },
                    lambda at, **v: {"line": place(at)[0], **v},
                ),
                Text("a table", choices=TABLES),
            ),
            "the tables that the statements fill",
        ),
        "only": Key(
            MapOf(MapOf(ListOf(_TEXT, one_is_enough=True, filled=True))),
            "for a slot: the values of another slot with which alone it takes effect",
        ),
        "only-read": Key(ListOf(_TEXT, filled=True), "slots that are read and cannot be written"),
        "never": Key(
            ListOf(Text("a table", choices=TABLES), filled=True),
            "tables of which this platform has no rows: it has no filters, say, so none can drop anything",
        ),
        "identities": Key(
            MapOf(
                Record(
                    "the module of identities",
                    {name: Key(_TEXT, f"its {name}") for name in ("module", "namespace", "prefix")},
                )
            ),
            "of a tree: the leaves whose values are identities (RFC 7951 section 6.8), and of which module these are",
        ),
        "numbers": Key(ListOf(_TEXT, filled=True), "of a tree: the leaves that JSON has as numbers"),
        "booleans": Key(ListOf(_TEXT, filled=True), "of a tree: the leaves that JSON has as true and false"),
        "passed-over": Key(ListOf(_TEXT, filled=True), "of a tree: names that say nothing of the configuration"),
        "aliases": Key(MapOf(_TEXT), "of a tree: other names for one that the statements use"),
        "defaults-when": Key(
            MapOf(MapOf(MapOf(_TEXT))),
            "for a slot: another slot of the same row, and the default for some of its values",
        ),
        "open": Key(
            ListOf(_TEXT, filled=True),
            "parts in which more stands than this dialect is about: what is not known there is passed over",
        ),
        "defaults": Key(Raw({"type": "object"}), "what holds where the text says nothing"),
        "statements": Key(
            ListOf(
                Record(
                    "a statement",
                    {
                        "says": Key(_TEXT, "the pattern", must=True),
                        "in": Key(_TEXT, "the enclosing headers, divided by '/'"),
                        "removed-by": Key(_TEXT, "the words that name it when it is removed"),
                    },
                    lambda at, **v: (at, v),
                ),
                filled=True,
            ),
            "the patterns",
            must=True,
        ),
        "aside": Key(
            ListOf(
                Record(
                    "a statement",
                    {
                        "starts": Key(ListOf(_TEXT, one_is_enough=True), "first words", must=True),
                        "in": Key(_TEXT, "the enclosing headers, divided by '/'"),
                    },
                    lambda at, **v: (at, v),
                )
            ),
            "statements in the export part that bear on no setting",
        ),
        "examples": Key(
            ListOf(
                Record(
                    "an example",
                    {
                        "text": Key(_TEXT, "a text", must=True),
                        "means": Key(Raw(MapOf(_TEXT).schema()), "its settings"),
                    },
                    lambda at, **said: (at, said),
                )
            ),
            "texts with the settings that they mean",
        ),
    },
)


def read_dialect(text: str, file: str) -> Dialect:
    """Reads a dialect file; InputError holds every mistake, with line and column."""
    values, report = read_yaml(text, file, DIALECT)
    if values is None:
        raise InputError(report.mistakes)
    grammar = shapes.shape(values["shape"])
    style = shapes.Style(
        comment=values.get("comment", "#"),
        remove=values["change"]["remove"],
        wrapper=values.get("wrapper", ()),
        change_wrapper=values["change"].get("inside", ""),
        lists=values.get("lists", {}),
        mirror=values.get("mirror", ""),
        leaves=values.get("leaves", "elements"),
        namespaces={name: m["namespace"] for name, m in values.get("modules", {}).items() if "namespace" in m},
        modules={name: m["module"] for name, m in values.get("modules", {}).items() if "module" in m},
        patch=values["change"].get("form", "own"),
        identities={name: shapes.Identities(**said) for name, said in values.get("identities", {}).items()},
        numbers=frozenset(values.get("numbers", ())),
        booleans=frozenset(values.get("booleans", ())),
        passed_over=values.get("passed_over", ()),
        aliases=values.get("aliases", {}),
    )
    spelling = _spelling(values.get("spelling"), report)
    rows = values.get("rows", {})
    keys = {table: tuple(f"{table}.{field}" for field in row["key"]) for table, row in rows.items()}
    every_key = [slot for table in keys.values() for slot in table]
    patterns: list[Pattern] = []
    compiled: list[tuple[Node, Pattern]] = []
    qualified = values["shape"] == "tree"
    for node, says in values["statements"]:
        try:
            patterns.append(
                compile_pattern(
                    says["says"],
                    says.get("in", ""),
                    grammar.split,
                    spelling,
                    keys=every_key,
                    removed_by=says.get("removed_by"),
                    line=place(node)[0],
                    qualified=qualified,
                )
            )
            compiled.append((node, patterns[-1]))
            if patterns[-1].table not in ("", *keys):
                report.add(node, f"no key for the rows of '{patterns[-1].table}'; expected it under 'rows'")
        except ValueError as problem:
            report.add(node, str(problem))
    removal = {}
    for table, row in rows.items():
        if "removed_by" in row:
            try:
                removal[table] = compile_pattern(
                    row["removed_by"], row.get("in", ""), grammar.split, spelling, keys=every_key, qualified=qualified
                )
            except ValueError as problem:
                report.add(None, str(problem))
    for slot in every_key:
        if slot not in SLOTS:
            report.add(None, f"key {unknown_slot(slot)}")
    aside: list[Pattern] = []
    for node, entry in values.get("aside", ()):
        try:
            aside += [
                compile_pattern(words, entry.get("in", ""), grammar.split, {}, line=place(node)[0])
                for words in entry["starts"]
            ]
        except ValueError as problem:
            report.add(node, str(problem))
    defaults = _defaults(values.get("defaults"), report)
    only = {slot: next(iter(where.items()), ("", ())) for slot, where in values.get("only", {}).items()}
    for slot in (name for at, (where, _) in only.items() for name in (at, where)):
        if slot not in SLOTS:
            report.add(None, f"'only': slot {unknown_slot(slot)}")
    for channel in values.get("categories", {}):
        if channel not in values.get("channels", ()):
            report.add(None, f"'categories': channel {not_one_of(channel, values.get('channels', ()))}")
    groups = _groups(compiled, every_key, report)
    conditional = _conditional(values.get("defaults_when", {}), report)
    report.settle()
    style = replace(style, blocks=_block_words(patterns))
    return Dialect(
        values["dialect"],
        values["about"],
        values["shape"],
        style,
        tuple(patterns),
        tuple(aside),
        values.get("channels", ()),
        values.get("categories", {}),
        keys,
        removal,
        defaults,
        {table: row["most"] for table, row in rows.items() if "most" in row},
        only,
        values.get("open", ()),
        values.get("only_read", ()),
        tuple(_example(at, report, **said) for at, said in values.get("examples", ())),
        file,
        frozenset(slot for pattern in patterns for slot in pattern.slots),
        {table: row["line"] for table, row in rows.items()},
        tuple(says["says"] for _, says in values["statements"]),
        groups,
        {slot: Said(value, (), True) for slot, value in defaults.items()},
        values.get("never", ()),
        conditional,
    )


def _example(at: Node, report: Report, text: str, means: Node | None = None) -> Example:
    """An example, with the lines of what it means."""
    said = pairs(means, report) if means is not None else []
    values = {key.value: _TEXT.read(value, report) or "" for key, value in said}
    return Example(text, values, place(at)[0], {key.value: place(key)[0] for key, _ in said})


def _groups(compiled: Sequence[tuple[Node, Pattern]], keys: Sequence[str], report: Report) -> tuple[int, ...]:
    """The groups of patterns that write the same statement; each value must have one statement that says it.

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
            report.add(node, f"{said}; of two that can stand beside each other it is not clear which one holds")
        elif set(values) != {s for s in first.own_slots if s not in keys and not SLOTS[s].many}:
            said = f"begins like the statement in line {first.line}, and says something else"
            report.add(node, f"{said}; expected one statement with its optional parts in brackets")
    return tuple(groups)


def _block_words(patterns: Sequence[Pattern]) -> tuple[str, ...]:
    """The words that alone are headers of blocks at the top, and that nothing else at the top begins with."""
    alone = {
        p.path[0][0].word for p in patterns if p.path and len(p.path[0]) == 1 and isinstance(p.path[0][0], Literal)
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
                report.add(child, f"default of {slot}: {not_one_of(word, choices) if choices else problem}")
    return out


def _of_other_rows(one: Pattern, other: Pattern) -> bool:
    """Whether two statements are never of the same row: a word in their headers says so."""
    marks = [
        {item.slot: item.value for items in pattern.path for item in items if isinstance(item, Flag)}
        for pattern in (one, other)
    ]
    return any(marks[1].get(slot, value) != value for slot, value in marks[0].items())


def _conditional(
    said: Mapping[str, Mapping[str, Mapping[str, str]]], report: Report
) -> dict[str, tuple[str, dict[Value, Said]]]:
    """The defaults that hang on another value: of each slot, that value's slot, and the default for its values."""
    out: dict[str, tuple[str, dict[Value, Said]]] = {}
    for slot, where in said.items():
        for other, values in where.items():
            try:
                parse, condition = SLOTS[slot].type.parse, SLOTS[other].type.parse
                cases = {condition(value): Said(parse(default), (), True) for value, default in values.items()}
                out[slot] = other, cases
            except (KeyError, ValueError) as problem:
                report.add(None, f"'defaults-when': {problem} is not known")
    return out


def _spelling(node: Node | None, report: Report) -> dict[str, dict[str, tuple[str, ...]]]:
    """The words of values, each of a type or of a slot that there is, and each value one that there is."""
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
