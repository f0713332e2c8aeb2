"""Examples of a learned dialect: the export part of a sample, with what it means as it is read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from xml.sax.saxutils import quoteattr

from msgspec.structs import replace

from ivrel.core.authoring.learning.answers import quoted
from ivrel.core.authoring.learning.cutting import Sample
from ivrel.core.authoring.learning.learn import Learned, LearnedRow
from ivrel.core.authoring.learning.templates import SampleStatement
from ivrel.core.dialects import Dialect
from ivrel.core.dialects.items import Any
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.records import read_records
from ivrel.core.settings import Scope, read_settings
from ivrel.core.shapes.lists import Listed
from ivrel.core.shapes.shape import Edit, Shape
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import Refused, Unreadable

MOST = 2  # samples of which an example is made
_GATES = 2  # traffic rules in an example


def examples_of(learned: Learned, dialect: Dialect, samples: Sequence[Sample]) -> str:
    """Return the examples as a part of the dialect's file; '' if none can be made.

    Only statements that are understood are in them: nothing that does not concern export, and
    nothing secret.
    """
    out = []
    for sample in samples[:MOST]:
        text = _text(learned, dialect, sample.name)
        means = _means(dialect, text) if text else {}
        if means:
            shown = "".join(f"      {line}\n" if line else "\n" for line in text.splitlines())
            said = "".join(f"      {name}: {quoted(value)}\n" for name, value in means.items())
            out.append(f"  - text: |\n{shown}    means:\n{said}")
    if not out:
        return ""
    return (
        "# What the samples say of export, and what that means as it is read here. Is it true?\n"
        f"examples:\n{''.join(out)}"
    )


def _text(learned: Learned, dialect: Dialect, sample: str) -> str:
    """Return the understood statements of a sample as a text of its own."""
    rows = list(learned.known)
    named = set(_named(rows, sample))
    known = matcher(dialect)
    edits: list[Edit] = []
    gates: dict[str, None] = {}
    for row in rows:
        names = row.meaning.names
        for said in row.template.said:
            if said.sample != sample:
                continue
            if "interface.name" in names.values() and not named & set(said.keys):
                continue
            if "gate.id" in names.values():
                # Of hundreds of traffic rules, some are enough.
                gates.setdefault(said.keys[next(iter(names))])
                if said.keys[next(iter(names))] not in list(gates)[:_GATES]:
                    continue
            match = known.find(said.path, _words(said))
            # What a pattern passes over may be a secret.
            if match is not None and not _has_any(dialect.patterns[match.pattern]):
                edits.append(Edit(said.path, _words(said)))
    # Each statement is beside all others: none takes the place of another.
    identity = lambda path, words: (path, words)  # noqa: E731
    base = Text(_around(learned).encode())
    try:
        if learned.traits.has_wrapper:
            # A change is laid out over lines, which what is added to a text of one line is not.
            shape = _standing_alone(dialect.shape, learned.options.get("wrapper", ""))
            return shape.write_change(base, _together(edits), identity)
        return dialect.shape.apply(base, edits, identity).decode()
    except (Refused, Unreadable):
        return ""


def _standing_alone(shape: Shape, wrapper: str) -> Shape:
    """Return a shape of braces that writes a change as a whole text."""
    if isinstance(shape, Listed):
        return replace(shape, inner=_standing_alone(shape.inner, wrapper))
    return replace(shape, inside=f'{wrapper} "x"' if wrapper else "")


def _together(edits: Sequence[Edit]) -> list[Edit]:
    """Return edits with those of one block together, at the place of its first one."""
    first: dict[Path, int] = {}
    for n, edit in enumerate(edits):
        for depth in range(len(edit.path) + 1):
            first.setdefault(edit.path[:depth], n)
    return sorted(
        edits, key=lambda edit: [first[edit.path[:depth]] for depth in range(len(edit.path) + 1)]
    )


def _around(learned: Learned) -> str:
    """Return the frame of a text, into which statements are put."""
    wrapper = learned.options.get("wrapper", "")
    if learned.traits.is_document:
        if not wrapper:
            return "{\n}\n"
        space = learned.options.get("modules", {}).get(wrapper, {}).get("namespace", "")
        return f"<{wrapper}{f' xmlns={quoteattr(space)}' if space else ''}></{wrapper}>"
    return f'{wrapper} "x" {{\n}}\n' if wrapper else ""


def _has_any(pattern: Pattern) -> bool:
    every = (item for items in (*pattern.path, pattern.items) for item in items)
    return any(isinstance(item, Any) for item in every)


def _words(said: SampleStatement) -> Words:
    return (*said.front, "=", *said.values) if said.assigns else (*said.front, *said.values)


def _named(rows: Sequence[LearnedRow], sample: str) -> Iterator[str]:
    """Yield the interfaces that a sample names as the source of its messages, and those that have
    the addresses that it names.
    """
    sources: set[str] = set()
    for row in rows:
        for slot in row.slots:
            if slot.endswith(("source-interface", "source.interface", "source-address")):
                sources |= {word for said, word in row.values(slot) if said.sample == sample}
    yield from sources
    for row in rows:
        if "interface.address" in row.meaning.columns.values():
            for said in row.template.said:
                if said.sample == sample and said.values[0].partition("/")[0] in sources:
                    yield said.keys[len(row.template.row) - 1]


def _means(dialect: Dialect, text: str) -> dict[str, str]:
    """Return the settings that a text says, as an example names them."""
    try:
        records = read_records(dialect, text.encode())
    except Unreadable:
        return {}
    facts = read_settings(Scope(None, records, {}))
    return {f"{f.setting} {f.key}".strip(): f.value for f in facts if not f.default}
