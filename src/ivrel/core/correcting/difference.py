"""What differs between two states of a configuration: in what is understood, and in all the
rest.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Container, Iterable, Iterator, Mapping

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import LAZY
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import NO_PATTERN, TakenBack, Understood
from ivrel.core.shapes.shape import Found, Shape
from ivrel.core.text.lines import line_at, next_line
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.memo import remember
from ivrel.core.vocabulary.sourced import Row, SourcedValue

_RECORDING = ("gate.tell", "gate.feed")  # what traffic rules say of export


def _differing(old: Row, new: Row) -> list[str]:
    return [slot for slot in {**old, **new} if not same_value(old.get(slot), new.get(slot))]


def same_value(old: SourcedValue | None, new: SourcedValue | None) -> bool:
    """Whether two values are the same, wherever they are said."""
    if old is new:
        return True
    if old is None or new is None:
        return False
    return old.value == new.value and old.default == new.default


def lost_statement(before: Records, after: Records, aside: Container[str] = ()) -> str:
    """Return how the export statements of two texts differ; empty if they do not.

    Statements are compared by their words, wherever they are, so this finds what a removal could
    not name. A repeated statement counts once, unless it adds to a list or the order of rules
    matters.

    `aside`: slots whose statements are not compared.
    """
    old, new = _compared(before, after, aside)
    dialect = before.dialect
    join = dialect.shape.join
    added = {at for r in (before, after) for at in adding(r)}
    for at, times in old.items():
        found = new.get(at, 0)
        if not found or (found != times and (dialect.shape.DERIVED or at in added)):
            how = "not there again" if found < times else "there too often"
            return f"'{join(at[1])}' is {how}"
    same = set(_saying_defaults(after))
    came = (at for at in new if at not in old and at not in same)
    extra = next((words for _, words in came), None)
    return f"'{join(extra)}' was not there before" if extra else ""


def _saying_defaults(records: Records) -> Iterator[tuple[Path, Words]]:
    """Yield the statements that say no more than the defaults do, and that cannot be taken away."""
    dialect = records.dialect
    stays = dialect.stays
    for match, _ in records.marks if stays else ():
        said = dict(match.fields)
        is_default = all(dialect.defaults.get(slot) == value for slot, value in said.items())
        if is_default and said and not stays.isdisjoint(said):
            yield match.path, match.words


def adding(records: Records) -> Iterator[tuple[Path, Words]]:
    """Yield the statements that add a value to a list."""
    for match, _ in records.marks:
        if match.many:
            yield match.path, match.words


def moved_statement(before: Records, after: Records) -> str:
    """Return a statement whose position changed where the user's order matters; empty if there is
    none.
    """
    shape = before.dialect.shape
    if not shape.ordered_names:
        return ""
    old, new = (
        [(m.path, m.words) for m, _ in records.marks if m.words[0] in shape.ordered_names]
        for records in (before, after)
    )
    # Entries of one list stand together; lists among each other have no order.
    old, new = (sorted(some, key=lambda one: one[0]) for some in (old, new))
    moved = next((a for a, b in zip(old, new, strict=False) if a != b), None)
    return f"'{shape.join(moved[1])}' stands in another order" if moved else ""


def changed_statements(before: Records, after: Records) -> tuple[list[str], list[str]]:
    """Return the removed and the added export statements, each with the headers above it."""
    old, new = _compared(before, after)
    join = before.dialect.shape.join

    def told(some: Mapping[tuple[Path, Words], int], others: Container[object]) -> list[str]:
        return [" / ".join(map(join, (*at[0], at[1]))) for at in some if at not in others]

    return told(old, new), told(new, old)


def _compared(
    before: Records, after: Records, aside: Container[str] = ()
) -> list[Mapping[tuple[Path, Words], int]]:
    """Return the statements to compare of two texts, with their numbers. Looked-up tables that are
    equal are left out.
    """
    tables = [t for t in LAZY if t in before.dialect.keys and may_differ(before, after, t)]
    return [statements(records, tables, aside) for records in (before, after)]


def statements(
    records: Records, tables: Iterable[str], aside: Container[str]
) -> Mapping[tuple[Path, Words], int]:
    """Return the understood statements of a text, with their numbers; `tables`: looked-up tables to
    include.
    """
    dialect = records.dialect
    matches = [match for match, _ in records.marks]
    for table in tables:
        looked_up = records.written(table).values()
        matches += [match for match, _ in looked_up if is_export(dialect, match)]
    out: dict[tuple[Path, Words], int] = {}
    for match in matches:
        if match.pattern == NO_PATTERN:
            continue
        own = dialect.patterns[match.pattern].own_slots
        if not own or not all(slot in aside for slot in own):
            at = match.path, match.words
            out[at] = out.get(at, 0) + 1
    return out


def is_export(dialect: Dialect, match: Understood) -> bool:
    """Whether a statement is about export settings: of the tables that are looked up, only what
    says how traffic is recorded is.
    """
    if match.table not in LAZY:
        return True
    return any(slot in _RECORDING for slot in dialect.patterns[match.pattern].own_slots)


def is_same_beyond_export(dialect: Dialect, before: Text, after: Text) -> bool:
    """Whether two texts say the same of all that no correction may touch."""
    return before.data == after.data or before.once(
        ("same beyond export", after), lambda: _is_same(dialect, before, after)
    )


def _is_same(dialect: Dialect, before: Text, after: Text) -> bool:
    one, other = _beyond(dialect, before, after)
    # The order of a tree's members says nothing; statements in lines may depend on theirs.
    return Counter(one) == Counter(other) if dialect.shape.ATOMIC else one == other


def _beyond(
    dialect: Dialect, before: Text, after: Text
) -> tuple[list[tuple[Path, bytes]], list[tuple[Path, bytes]]]:
    old, new = differing(dialect, before, after)
    return _beyond_export(dialect, old), _beyond_export(dialect, new)


def lost_beyond_export(dialect: Dialect, before: Text, after: Text) -> list[tuple[Path, Words]]:
    """Return the statements beyond export that only the first text has, except those in removed
    rows.
    """
    one, other = _beyond(dialect, before, after)
    left = Counter(one) - Counter(other)
    return [(path, tuple(dialect.shape.split(decode(raw)))) for path, raw in left.elements()]


def differing(dialect: Dialect, before: Text, after: Text) -> tuple[list[Found], list[Found]]:
    """Return the statements of two texts between the first and the last difference."""
    return before.once(("differing", after), lambda: _between(dialect, before, after))


def may_differ(before: Records, after: Records, table: str) -> bool:
    """Whether two texts, as they were read, may differ in a table that is looked up."""
    heads = matcher(before.dialect).heads
    told = before.text.once(
        ("firsts", after.text), lambda: _firsts(before.dialect, before.text, after.text)
    )
    return any(heads.is_of(table, first) for first in told)


def _firsts(dialect: Dialect, before: Text, after: Text) -> frozenset[Words]:
    """Return the top-level heads of the statements that differ between two texts."""
    split = dialect.shape.split
    return frozenset(
        path[0] if path else tuple(split(decode(raw[:LONGEST])))
        for some in differing(dialect, before, after)
        for path, raw, _ in some
    )


def _between(dialect: Dialect, before: Text, after: Text) -> tuple[list[Found], list[Found]]:
    # A correction changes a few lines of many: what both texts begin and end with is passed over,
    # first its bytes, and then its statements.
    first, last = _in_common(dialect, before.data, after.data)
    if first or last:
        pieces = (text.data[first : len(text.data) - last] for text in (before, after))
        old, new = (list(dialect.shape.everything(Text(piece))) for piece in pieces)
    else:
        old, new = _parts_between(dialect.shape, before, after)
    gone, come = _middles(len(old), len(new), lambda n, m: _differ(old[n], new[m]))
    return [old[n] for n in gone], [new[n] for n in come]


def _parts_between(shape: Shape, before: Text, after: Text) -> tuple[list[Found], list[Found]]:
    """Return the statements of two texts between the first and the last part that differ."""
    one, other = (len(shape.tops(text)) for text in (before, after))
    old, new = _middles(
        one, other, lambda n, m: shape.content(before, n) != shape.content(after, m)
    )
    return shape.statements_of(before, old), shape.statements_of(after, new)


def _middles(one: int, other: int, differ: Callable[[int, int], bool]) -> tuple[range, range]:
    """Return the index ranges between the first and the last difference of two sequences.

    `differ`: whether the items at two indexes differ.
    """
    most = min(one, other)
    first = next((n for n in range(most) if differ(n, n)), most)
    rest = most - first
    last = next((n for n in range(rest) if differ(one - 1 - n, other - 1 - n)), rest)
    return range(first, one - last), range(first, other - last)


def _in_common(dialect: Dialect, one: bytes, other: bytes) -> tuple[int, int]:
    """Return how many leading and trailing bytes two texts share, shortened so that the rest can be
    parsed alone.
    """
    anew = dialect.shape.begins_anew
    if not dialect.shape.apart:
        return 0, 0
    most = min(len(one), len(other))
    first = _longest(lambda n, m: one[n:m] == other[n:m], most)
    ends = len(one), len(other)
    last = _longest(
        lambda n, m: one[ends[0] - m : ends[0] - n] == other[ends[1] - m : ends[1] - n],
        most - first,
    )
    # Back to a line that is in both as a whole.
    begin = one.rfind(b"\n", 0, first) + 1
    while begin:
        begin = one.rfind(b"\n", 0, begin - 1) + 1
        if anew(line_at(one, begin)):
            break
    # On to a line that does, with the end of the line before it.
    end = next_line(one, len(one) - last)
    while end < len(one) and not anew(line_at(one, end)):
        end = next_line(one, end)
    return begin, len(one) - end


def _longest(same: Callable[[int, int], bool], most: int) -> int:
    """Return how far two texts are the same, up to a most; `same`: whether they are from a place up
    to another.
    """
    at = 0
    step = _LONG_STEP
    while step:
        while at + step <= most and same(at, at + step):
            at += step
        step //= 2
    return at


_LONG_STEP = 1 << 14  # bytes that are compared at once


def _differ(one: Found, other: Found) -> bool:
    """Whether two statements differ, regardless of their positions."""
    return one[1] != other[1] or one[0] != other[0]


def _beyond_export(dialect: Dialect, statements: Iterable[Found]) -> list[tuple[Path, bytes]]:
    """Return the statements that do not concern export settings."""
    reader = matcher(dialect)
    split = dialect.shape.split
    kept: dict[tuple[Path, bytes], bool] = dialect.once("beyond export", dict)
    out = []
    for path, raw, _ in statements:
        known = kept.get((path, raw))
        if known is None:
            words = tuple(split(decode(raw[:LONGEST])))
            match = (reader.find(path, words) or reader.negation(path, words)) if words else None
            # Interfaces and the traffic that rules let through are none of export's business. The
            # header of a block is passed over: it comes and goes with what is below it.
            if isinstance(match, TakenBack):
                known = not _is_about_export(match)
            elif match is None or not is_export(dialect, match):
                known = not reader.is_header(path, words)
            else:
                known = False
            remember(kept, (path, raw), known)
        if known:
            out.append((path, raw))
    return out


def _is_about_export(taken: TakenBack) -> bool:
    """Whether a negation takes back what is about export settings."""
    tables = set(taken.says.tables)
    return not tables or not tables <= set(LAZY)  # without a table: a single value
