"""Reads a dialect from its YAML file.

Passes: `- {in: events, says: "facility {facility}"}`
Fails:  `- {in: events, says: "facility {colour}"}` (no slot is called colour)
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Mapping, Sequence
from typing import Any

from msgspec import structs

from ivrel.core.dialects.compile import compile_pattern
from ivrel.core.dialects.dialect import Dialect, Display, Example
from ivrel.core.dialects.form import CONFIGURATION, DIALECT, TEXT
from ivrel.core.dialects.groups import groups_of
from ivrel.core.dialects.items import Literal
from ivrel.core.dialects.negations import BY_RULE, DEFAULT, negated_by_word, negation_of, text_of
from ivrel.core.dialects.pattern import UNKNOWN_NEGATED, Negated, Pattern
from ivrel.core.dialects.session import checked
from ivrel.core.dialects.slots import LAZY, SLOTS, unknown_slot
from ivrel.core.dialects.stated import conditional_defaults, spelling_of, values_of
from ivrel.core.form import (
    Node,
    Report,
    pairs,
    place,
    read_yaml,
)
from ivrel.core.shapes import DISPLAYED, PRINTED, SHAPES, Shape
from ivrel.core.shapes.lists import Listed, Listing
from ivrel.core.vocabulary.errors import InputError
from ivrel.core.vocabulary.sourced import SourcedValue
from ivrel.core.vocabulary.wording import not_one_of

Spelled = Mapping[str, Mapping[str, Sequence[str]]]  # values and words, by type or slot


def read_dialect(text: str, file: str) -> Dialect:
    """Return the dialect of a YAML text; InputError holds every mistake, with line and column."""
    values, report = read_yaml(text, file, DIALECT)
    if values is None:
        raise InputError(report.mistakes)
    return _Loader(values, report).dialect()


class _Loader:
    """Makes a dialect of the values in its file; mistakes go to the report."""

    def __init__(
        self, values: Mapping[str, Any], report: Report, spelling: Spelled | None = None
    ) -> None:
        """`spelling`: that of the configuration, where this is a display of the same platform."""
        self._values = values
        self._report = report
        self._is_display = spelling is not None
        # The shape comes first: it says how the words of patterns are split.
        kind = {**SHAPES, **DISPLAYED}[values["shape"]].load()
        said = {key.replace("-", "_") for key in kind.OPTIONS}
        options = {key: value for key, value in values.items() if key in said}
        shape = kind.built({**options, **values["change"]})
        self._shape = self._with_lists(self._with_negation(shape))
        self._spelling = {**(spelling or {}), **spelling_of(values.get("spelling"), report)}
        self._rows: Mapping[str, Any] = values.get("rows", {})
        self._keys = {
            table: tuple(f"{table}.{field}" for field in row["key"])
            for table, row in self._rows.items()
        }
        self._every_key = [slot for table in self._keys.values() for slot in table]

    def _with_lists(self, shape: Shape) -> Shape:
        """Return a shape that reads the lists of the dialect, if it has any."""
        said = self._values.get("series", ())
        if not said:
            return shape
        lists = []
        for at, one in said:
            if not shape.LISTS:
                said_of = self._values["shape"]
                self._report.add(at, f"statements of the shape '{said_of}' hold no lists")
            headers = filter(None, one.get("in", "").split("/"))
            path = tuple(tuple(shape.split(header.strip())) for header in headers)
            head = tuple(shape.split(one["says"].removesuffix("=").strip()))
            if shape.ASSIGNS:
                head = (*head, "=")
            within = one.get("within", "")
            if len(within) not in (0, 2):
                self._report.add(at, f"'within': expected two signs, as '[]', not '{within}'")
                continue
            divided = one.get("divided", ",")
            lists.append(Listing(path, head, divided, one.get("inside", ""), within))
        return Listed(
            shape.comment, shape.remove, shape.negation, shape.at_end, shape, tuple(lists)
        )

    def _with_negation(self, shape: Shape) -> Shape:
        """Return a shape that knows how a statement of a text is negated, if the dialect says."""
        node, said = self._values.get("negation", (None, {}))
        every = (statement.get("negated") for _, statement in self._values["statements"])
        node = node or next(filter(None, every), None)
        at_end = said.get("place") == "end"
        if node is not None and not shape.NEGATES:
            of = self._values["shape"]
            self._report.add(node, f"texts of the shape '{of}' hold no negations")
        elif at_end and shape.ASSIGNS:
            self._report.add(
                node, "'place: end': a name that is divided by dots is negated in front"
            )
        return structs.replace(shape, negation=said.get("word", ""), at_end=at_end)

    def dialect(self) -> Dialect:
        """Return the dialect; InputError if anything in the file is wrong."""
        values = self._values
        report = self._report
        compiled = self._statements()
        patterns = tuple(pattern for _, pattern in compiled)
        removal = self._removal()
        aside = self._aside()
        self._check_keys()
        defaults = values_of(values.get("defaults"), report, "default")
        only = self._only()
        self._check_channels()
        groups = self._groups(compiled)
        says = [said["says"] for _, said in values["statements"]]
        for number, negation in self._negations(compiled):
            patterns = (*patterns, negation)
            groups = (*groups, groups[number])
            says.append(text_of(negation, self._shape))
        conditional = conditional_defaults(values.get("defaults_when", {}), report)
        session = checked(values.get("session"), report)
        slots = frozenset(slot for pattern in patterns for slot in pattern.slots)
        display = self._display(slots)
        # Examples are read last: they mean nothing while the patterns are wrong.
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
            slots=slots,
            row_lines={table: row["line"] for table, row in self._rows.items()},
            says=tuple(says),
            groups=groups,
            said_defaults={slot: SourcedValue(value, (), True) for slot, value in defaults.items()},
            never=values.get("never", ()),
            conditional=conditional,
            unset=self._unset(),
            has_no=values.get("has_no", ()),
            tells={
                word: setting
                for setting, words in values.get("tells", {}).items()
                for word in words
            },
            session=session,
            display=display,
        )

    def _groups(self, compiled: Sequence[tuple[Node, Pattern]]) -> tuple[int, ...]:
        """Return the groups of patterns that write the same statement; a display writes none."""
        if self._is_display:
            return tuple(range(len(compiled)))
        return groups_of(compiled, self._every_key, self._report)

    def _display(self, slots: frozenset[str]) -> Display | None:
        """Return how a device shows its present state; None if the dialect does not say.

        `slots`: those of the configuration.
        """
        node, said = self._values.get("state", (None, {}))
        if node is None:
            return None
        values = dict(self._values)
        if said.get("shape") != CONFIGURATION:
            values |= {"shape": said.get("shape", PRINTED), "change": {"remove": ""}}
        # What is said of the configuration's statements alone is not of the display.
        for key in ("state", "session", "series", "negation", "defaults", "defaults_when"):
            values.pop(key, None)
        for key in ("only", "only_read", "unset", "tells", "examples", "never", "spelling"):
            values.pop(key, None)
        own = {key: value for key, value in said.items() if key not in ("show", "shape", "rows")}
        values |= {"aside": (), **own}
        rows = {**self._rows, **said.get("rows", {})}
        values["rows"] = {table: _without_removal(row) for table, row in rows.items()}
        dialect = _Loader(values, self._report, self._spelling).dialect()
        self._check_shown_keys(dialect, said.get("rows", {}), slots)
        return Display(said.get("show", ""), dialect)

    def _compiled(self, node: Node | None, says: str, inside: str, **more: Any) -> Pattern | None:
        """Return a pattern; None, and a mistake, if it is none."""
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
            pattern = structs.replace(pattern, negated=self._negated(says.get("negated"), pattern))
            self._check_display(node, pattern)
            out.append((node, pattern))
            if pattern.table not in ("", *self._keys):
                said = f"no key for the rows of '{pattern.table}'; expected it under 'rows'"
                self._report.add(node, said)
        return out

    def _check_display(self, node: Node, pattern: Pattern) -> None:
        """Report slots that do not belong in a display, or in a configuration."""
        if not self._is_display:
            for slot in pattern.slots:
                if SLOTS[slot].displayed:
                    said = f"{slot} is no setting; describe where a device shows it under 'state'"
                    self._report.add(node, said)
            return
        if pattern.table in LAZY:
            said = f"rows of '{pattern.table}' are not read from a display"
            self._report.add(node, said)

    def _check_shown_keys(
        self, dialect: Dialect, own: Container[str], slots: frozenset[str]
    ) -> None:
        """Report statements of a display that do not show what tells their rows apart.

        `own`: the tables whose keys the display itself names; `slots`: those of the configuration.
        """
        nodes = [node for node, _ in self._values["state"][1]["statements"]]
        for node, pattern in zip(nodes, dialect.patterns, strict=True):
            for key in dialect.keys.get(pattern.table, ()):
                if key not in pattern.slots and (pattern.table in own or key in slots):
                    said = f"it does not show {key}, which tells the rows of {pattern.table} apart"
                    self._report.add(node, f"{said}; 'rows' under 'state' can say what does")

    def _negated(self, said: Node | None, pattern: Pattern) -> Negated:
        """Return the effect of a negation of a statement."""
        if said is None:
            _, rule = self._values.get("negation", (None, {}))
            return BY_RULE if rule.get("leads_to") == DEFAULT else UNKNOWN_NEGATED
        word = negated_by_word(said, self._report)
        if word is not None:
            return word
        means = values_of(said, self._report, "negated")
        for slot in means:
            if slot not in pattern.own_slots or slot in self._every_key:
                told = [one for one in pattern.own_slots if one not in self._every_key]
                self._report.add(said, f"'negated': {not_one_of(slot, told)}")
        return Negated(tuple(means.items()))

    def _negations(self, compiled: Sequence[tuple[Node, Pattern]]) -> Iterator[tuple[int, Pattern]]:
        """Yield the patterns of negations that mean values, each with the number of the pattern
        that it negates.
        """
        for number, (node, pattern) in enumerate(compiled):
            if pattern.negated.means:
                try:
                    yield number, negation_of(pattern, pattern.negated.means, self._shape)
                except ValueError as problem:
                    self._report.add(node, str(problem))

    def _removal(self) -> dict[str, Pattern]:
        """Return the words that remove a row of a table as a whole."""
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

    def _unset(self) -> tuple[str, ...]:
        unset: tuple[str, ...] = self._values.get("unset", ())
        for slot in unset:
            if slot not in SLOTS:
                self._report.add(None, f"'unset': slot {unknown_slot(slot)}")
        return unset

    def _check_channels(self) -> None:
        channels = self._values.get("channels", ())
        for node, says in () if channels else self._values["statements"]:
            if "{feed." in says["says"] or "{take." in says["says"] or "{give." in says["says"]:
                said = "feeds carry channels, and the dialect has none; expected 'channels'"
                self._report.add(node, said)
        for channel in self._values.get("categories", {}):
            if channel not in channels:
                said = f"'categories': channel {not_one_of(channel, channels)}"
                self._report.add(None, said)


def _without_removal(row: Mapping[str, Any]) -> dict[str, Any]:
    """Return what tells the rows of a table apart, without what takes one away."""
    return {key: value for key, value in row.items() if key in ("key", "line")}


def _example(at: Node, report: Report, text: str, means: Node | None = None) -> Example:
    """Return an example, with the lines of what it means."""
    said = pairs(means, report) if means is not None else []
    values = {key.value: TEXT.read(value, report) or "" for key, value in said}
    return Example(text, values, place(at)[0], {key.value: place(key)[0] for key, _ in said})


def _block_words(patterns: Sequence[Pattern]) -> tuple[str, ...]:
    """Return the words that alone are headers of blocks at the top, and that nothing else at the
    top begins with.
    """
    alone = {
        p.path[0][0].word
        for p in patterns
        if p.path and len(p.path[0]) == 1 and isinstance(p.path[0][0], Literal)
    }
    # A word that statements at the top begin with as well does not tell a block.
    other = {p.opening[0] for p in patterns if not p.path and p.opening}
    return tuple(sorted(alone - other))
