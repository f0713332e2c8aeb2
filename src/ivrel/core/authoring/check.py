"""Checks a dialect: its examples in both directions, and what in it is ambiguous or leads nowhere.

Passes: two patterns `inet {interface.address}` and `inet6 {interface.address}`
Fails:  two patterns `at {destination.address}` and `at {destination.port}`: which reads `at 514`?
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from difflib import get_close_matches
from itertools import combinations

from ivrel.core.authoring.steering import steering_values
from ivrel.core.correcting.changes import apply_edits
from ivrel.core.correcting.steps import Getter, steps_between
from ivrel.core.dialects.dialect import Dialect, Example
from ivrel.core.dialects.items import Any, Flag, Implied, Item, Literal, Maybe, Rest, Variable
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.slots import LAZY, SLOTS, table_of
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.records import Records, read_records
from ivrel.core.settings import Scope, read_settings
from ivrel.core.settings.unstated import lacks_default
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import Mistake, Refused, Unreadable
from ivrel.core.vocabulary.sourced import Row
from ivrel.core.vocabulary.values import Value


def check_dialect(dialect: Dialect) -> list[Mistake]:
    """Return everything that is wrong with a dialect that reads well, with file and line."""
    found = [
        *_ambiguous(dialect),
        *_one_way(dialect),
        *_nowhere(dialect),
    ]
    if not dialect.examples:
        found.append((1, "no examples; expected at least one text with the settings that it means"))
    for example in dialect.examples:
        found += _example(dialect, example)
    return [Mistake(dialect.file, said, line, 1) for line, said in sorted(set(found))]


def _example(dialect: Dialect, example: Example) -> Iterator[tuple[int, str]]:
    data = Text(example.text.encode())
    try:
        records = read_records(dialect, data)
    except Unreadable as problem:
        yield example.line, f"the example cannot be read: {problem}"
        return
    for unparsed_line in records.unparsed:
        yield (
            example.line,
            f"the example's line {unparsed_line.line} is not understood: {unparsed_line.text}",
        )
    means = _settings(records)
    yield from ((line or example.line, told) for line, told in _misread(records, example))
    yield from _written_again(dialect, records, example.line)
    yield from steering_values(dialect, records)
    # The other direction: all export settings are taken away and written again. What then reads
    # otherwise can be read but not corrected.
    bare = _without_export(records)
    try:
        emptied = apply_edits(dialect, data, [s.edit for s in steps_between(records, bare)])
        # A text in which nothing is left is none of the platform's.
        left = (
            read_records(dialect, emptied)
            if emptied.data.strip()
            else Records(dialect, [], (), emptied)
        )
        back = steps_between(left, records)
        again = _settings(
            read_records(dialect, apply_edits(dialect, emptied, [s.edit for s in back]))
        )
        for name in {**means, **again}:
            if means.get(name) != again.get(name):
                yield (
                    example.line,
                    f"taken away and written again, {name} is {again.get(name, 'nothing')}",
                )
    except (Refused, Unreadable) as problem:
        yield example.line, f"taken away and written again, the example fails: {problem}"


def misread(records: Records, example: Example) -> Iterator[str]:
    """Yield where an example's text means something else than it says.

    It need not list what is left to the platform.
    """
    return (told for _, told in _misread(records, example))


def _misread(records: Records, example: Example) -> Iterator[tuple[int, str]]:
    """Yield the same, each with the line of the file that says what is meant, or 0."""
    means = _settings(records)
    facts = read_settings(Scope(None, records, {}))
    told = {f"{f.setting} {f.key}".strip() for f in facts if f.lines and not f.default}
    for name in {**means, **example.means}:
        said = means.get(name)
        wanted = example.means.get(name)
        # What the text leaves to the platform need not be listed; what is listed must be so.
        if said != wanted and (name in told or name in example.means):
            likely = get_close_matches(name, means, 1) if said is None else []
            hint = f"; did you mean '{likely[0]}'?" if likely else ""
            why = (
                f"the example means {name}: {said or 'nothing'}; expected "
                f"{wanted or 'nothing'}{hint}"
            )
            yield example.lines.get(name, 0), why


def _settings(records: Records) -> dict[str, str]:
    return {
        f"{f.setting} {f.key}".strip(): f.value for f in read_settings(Scope(None, records, {}))
    }


def _written_again(dialect: Dialect, records: Records, line: int) -> Iterator[tuple[int, str]]:
    """Yield the statements of the example that, written from their values, mean something else."""
    written = [item for table in ("", *dialect.keys) for item in records.written(table).items()]
    for (group, key), (match, _) in written:
        pattern = dialect.patterns[match.pattern]
        row: Row = records.rows(match.table).get(key, {})
        if any(
            SLOTS[slot].many or slot in dialect.only_read for slot in pattern.slots
        ) or _reads_only(pattern):
            continue
        get = Getter(records, row)
        ways = (
            (p, way)
            for n, p in enumerate(dialect.patterns)
            if dialect.groups[n] == group and (way := p.write(get, get.said)) is not None
        )
        by, again = next(ways, (pattern, None))
        # The words may differ, since optional ones are left out; what they mean must not.
        if again is None or _values(by, *again) != _values(pattern, match.path, match.words):
            join = dialect.shape.join
            told = join(again[1]) if again else "nothing"
            yield (
                pattern.line,
                f"reads '{join(match.words)}' and writes '{told}' (example in line {line})",
            )


def _values(pattern: Pattern, path: Path, words: Words) -> Mapping[str, Value] | None:
    """Return the values of a statement, as a pattern reads them."""
    fields = pattern.read(path, words)
    return None if fields is None else dict(fields)


def _without_export(records: Records) -> Records:
    read_only = {table_of(slot) for slot in records.dialect.only_read} - {""}
    for table in ("", *records.dialect.keys):
        if table not in LAZY and table not in read_only:
            for key in list(records.rows(table)):
                row = records.rows(table)[key]
                if not table:
                    for slot in row:
                        if not SLOTS[slot].idle and slot not in records.dialect.only_read:
                            records = records.having(table, key, slot, None)
                else:
                    records = records.without(table, key)
    return records


def missing_defaults(dialect: Dialect) -> list[tuple[int, str]]:
    """Return the slots that a text may leave out and that have no default, each with the line of a
    statement that says it. Where a text leaves one out, its setting is unknown.
    """
    slots = sorted(slot for slot in dialect.slots if lacks_default(dialect, slot))
    return [(next(p.line for p in dialect.patterns if slot in p.slots), slot) for slot in slots]


def _ambiguous(dialect: Dialect) -> Iterator[tuple[int, str]]:
    # The first pattern that fits is taken, so one that another can read as well would never be
    # asked, or depend on the order of lines.
    for one, other in combinations(dialect.patterns, 2):
        same_block = len(one.path) == len(other.path) and all(map(_overlap, one.path, other.path))
        if same_block and _overlap(one.items, other.items):
            yield other.line, f"the pattern in line {one.line} can read the same statement"


def _overlap(one: Sequence[Item], other: Sequence[Item]) -> bool:
    return any(
        len(a) == len(b) and all(map(_same_word, a, b))
        for a in _variants(one)
        for b in _variants(other)
    )


def _variants(items: Sequence[Item]) -> list[tuple[Item, ...]]:
    """Return each combination of optional parts; if there are very many, the first ones."""
    out: list[tuple[Item, ...]] = [()]
    for item in items:
        if isinstance(item, Maybe):
            out = [head + tail for head in out for tail in ((), *_variants(item.items))]
        elif not isinstance(item, Implied):
            out = [(*head, item) for head in out]
    # A pattern with more optional parts than this would take longer than it is worth.
    return out[:256]


def _same_word(one: Item, other: Item) -> bool:
    """Whether one word can be both."""
    if isinstance(one, Any | Rest) or isinstance(other, Any | Rest):
        return True
    if isinstance(one, Variable) and isinstance(other, Variable):
        first = _words(one)
        second = _words(other)
        # Two values collide if one of them lists words that the other takes, too; if neither lists
        # any, each may take any word.
        if first is not None:
            return any(other.decode(word) is not None for word in first)
        if second is not None:
            return any(one.decode(word) is not None for word in second)
        return True
    if isinstance(one, Variable):
        return one.decode(_literal(other)) is not None
    if isinstance(other, Variable):
        return other.decode(_literal(one)) is not None
    return _literal(one) == _literal(other)


def _words(variable: Variable) -> list[str] | None:
    """Return the words that a variable takes, if they can be counted."""
    if variable.values is not None:
        return list(variable.values)
    return list(SLOTS[variable.slot].type.choices) or None


def _literal(item: Item) -> str:
    return item.word if isinstance(item, Literal | Flag) else ""


def _reads_only(pattern: Pattern) -> bool:
    return any(isinstance(i, Any | Rest) for part in (*pattern.path, pattern.items) for i in part)


def _one_way(dialect: Dialect) -> Iterator[tuple[int, str]]:
    """Yield settings that can be read and not written, and words that mean two things."""
    for slot in sorted(dialect.slots):
        patterns = [p for p in dialect.patterns if slot in p.slots]
        if slot in dialect.only_read:
            continue
        if table_of(slot) not in LAZY and not SLOTS[slot].idle and all(map(_reads_only, patterns)):
            yield (
                patterns[0].line,
                f"{slot} can be read but not written: every pattern of it holds {{any}}",
            )
        variable = patterns[0].variable(slot)
        if (
            variable
            and variable.spelled
            and len(set(variable.spelled.values())) < len(variable.spelled)
        ):
            yield patterns[0].line, f"the spelling of {slot} has one word for two values"
    for pattern in dialect.patterns:
        if not pattern.slots:
            yield (
                pattern.line,
                "the pattern carries no slot; what bears on nothing goes under 'aside'",
            )


def _nowhere(dialect: Dialect) -> Iterator[tuple[int, str]]:
    """Yield the slots that something asks for and no statement defines."""
    for table, keys in dialect.keys.items():
        line = dialect.row_lines.get(table, 1)
        asked = {*keys, *(dialect.removal[table].slots if table in dialect.removal else ())}
        for slot in sorted(asked - dialect.slots):
            yield (
                line,
                f"no statement defines {slot}, which the rows of '{table}' are told apart by",
            )
    if not matcher(dialect).heads.eager:
        yield 1, "no statement bears on any setting"
