"""Names for destinations that a correction makes: of the form that the platform's own have."""

from __future__ import annotations

from collections.abc import Callable, Collection

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.records import read_records
from ivrel.core.settings.rows import is_number
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.values import Value


def are_numbered(dialect: Dialect, taken: Collection[Value]) -> bool:
    """Whether destinations have numbers for names: in this text, or if it has none, in the examples
    of the dialect.
    """
    names = taken or dialect.once("names in examples", lambda: _names_in_examples(dialect))
    return bool(names) and all(is_number(name) for name in names)


def _names_in_examples(dialect: Dialect) -> set[Value]:
    out: set[Value] = set()
    for example in dialect.examples:
        try:
            rows = read_records(dialect, example.text.encode()).rows("destination")
        except Unreadable:
            continue
        out.update(key[0] for key in rows)
    return out


def free_name(
    taken: set[Value], name: str, can: Callable[[str], bool], *, numbered: bool = False
) -> str | None:
    """Return a name that no destination has or had, so that a new one is not mixed up with one that
    goes; `numbered`: rather a number than the name that the policy has.
    """
    numbers = [str(n) for n in range(1, len(taken) + 3)]
    names = [name, *(f"{name}-{n}" for n in numbers[1:]), *numbers]
    if numbered:
        names = [*numbers, *names]
    return next((n for n in names if n not in taken and can(n)), None)
