"""Learns a dialect from samples: statements, the parts about export, patterns, their meanings."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from pathlib import PurePath
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.authoring.learning.answered import ASIDE, answered
from ivrel.core.authoring.learning.answers import UserAnswers
from ivrel.core.authoring.learning.cutting import Sample, cut_up
from ivrel.core.authoring.learning.meaning import Around, Meaning, Table
from ivrel.core.authoring.learning.meanings import meaning_of
from ivrel.core.authoring.learning.parts import kept_of, parts_of
from ivrel.core.authoring.learning.rules import NEVER_NAMES
from ivrel.core.authoring.learning.spellings import (
    fits,
    is_prefix,
)
from ivrel.core.authoring.learning.tables import tables_of
from ivrel.core.authoring.learning.templates import (
    LOOKS_NAMED,
    Keys,
    SampleStatement,
    Template,
    templates,
)
from ivrel.core.authoring.shape_traits import TRAITS, ShapeTraits
from ivrel.core.dialects.slots import table_of
from ivrel.core.shapes.shape import UNKNOWN
from ivrel.core.vocabulary.addresses import address, is_address
from ivrel.core.vocabulary.errors import InputError


class LearnedRow(Struct, frozen=True):
    """A template with what it means."""

    template: Template
    meaning: Meaning

    @property
    def slots(self) -> tuple[str, ...]:
        """The slots that it carries."""
        meaning = self.meaning
        pieces = (piece.slot for piece in meaning.pieces if piece.slot)
        return (*meaning.names.values(), *meaning.columns.values(), *meaning.flow, *pieces)

    def values(self, slot: str) -> Iterator[tuple[SampleStatement, str]]:
        """Yield the statements with their words for a slot; none for one of a flow."""
        for n, of in self.meaning.columns.items():
            if of == slot:
                yield from ((said, said.values[n]) for said in self.template.said)
        for said, words in zip(self.template.said, self.meaning.words, strict=False):
            if slot in words:
                yield said, words[slot]


class Learned(Struct, frozen=True):
    """What was learned: the shape with the reason for it, the options of the shape, the first words
    of the parts that are about export, the rows, what is beside the device's name and bears on
    nothing, the tables by the keys of their rows, and the words that were answered about and that
    no statement has.
    """

    name: str
    shape: str
    why: str
    options: Mapping[str, Any]
    parts: tuple[str, ...]
    rows: tuple[LearnedRow, ...]
    aside: tuple[Template, ...]
    tables: Mapping[Keys, Table]
    samples: tuple[str, ...]
    answers: UserAnswers
    unused: tuple[str, ...] = ()

    @property
    def traits(self) -> ShapeTraits:
        """What there is to know of the shape."""
        return TRAITS[self.shape]

    @property
    def is_standard(self) -> bool:
        """Whether its changes are written as standards have it: those of JSON, and of XML whose
        names are of modules.
        """
        is_json_or_of_modules = "wrapper" not in self.options or "modules" in self.options
        return self.traits.is_document and is_json_or_of_modules

    @property
    def lacks_word(self) -> bool:
        """Whether the word that takes a statement away is needed, and not known."""
        return self.answers.remove == UNKNOWN and not self.is_standard

    @property
    def lacks_block(self) -> bool:
        """Whether the block that a change is in is needed, and not known."""
        needed = self.traits.needs_block and not self.is_standard
        return needed and self.answers.inside == UNKNOWN

    @property
    def known(self) -> list[LearnedRow]:
        """The rows whose meaning is known."""
        return [row for row in self.rows if not row.meaning.doubt]

    def names(self, slot: str) -> list[str]:
        """Return the names of rows that were seen for a slot."""
        found: dict[str, None] = {}
        for row in self.known:
            for place, named in row.meaning.names.items():
                if named == slot:
                    found |= dict.fromkeys(row.template.names[place])
        return list(found)

    @property
    def doubtful(self) -> list[LearnedRow]:
        """Those that are in doubt, the most frequent first."""
        some = (row for row in self.rows if row.meaning.doubt)
        return sorted(some, key=lambda row: -len(row.template.said))


def learn(
    name: str,
    samples: Sequence[Sample],
    collectors: Iterable[str] = (),
    identities: Iterable[str] = (),
    shape: str = "",
    answers: UserAnswers | None = None,
) -> Learned:
    """Return a dialect learned from samples of one platform; InputError if nothing can be learned.

    `collectors`, `identities`: addresses that are surely those of collectors, and of devices;
    `shape`: how the text falls into statements, '' to find out; `answers`: what no
    sample can tell.
    """
    cut = cut_up(samples, shape)
    said = cut.said
    targets = set(map(_plain, collectors))
    parts = parts_of(said, targets)
    if not parts:
        raise InputError("no part of the samples looks like export: no severities, no collectors")
    kept = kept_of(said, parts)
    known = _collectors(kept, parts, targets, set(map(_plain, identities)))
    entries = {
        h[1]
        for one in kept
        for h in one.path
        if len(h) == 2 and h[0] in cut.options.get("lists", {})
    }
    found = templates(kept, entries | set(known.values()), NEVER_NAMES)
    around = Around(
        targets | known.keys(),
        frozenset(map(_plain, identities)),
        _interfaces(found, said),
        frozenset(known.values()),
    )
    tables = tables_of(found, around)
    around = replace(around, feeds=_feeds(found, tables))
    answers = answers or UserAnswers()
    rows = [
        LearnedRow(
            t,
            answered(t, tables, answers.means)
            or _device_name(t, samples)
            or meaning_of(t, tables, around),
        )
        for t in found
    ]
    beside = [r.template for r in rows if r.meaning == ASIDE]
    rows = _told_apart([r for r in rows if r.meaning != ASIDE])
    # Of what is no part about export, only what is understood is of any interest.
    rows = [r for r in rows if r.template.keys[0] in parts or not r.meaning.doubt]
    if all(r.meaning.doubt for r in rows if r.template.keys[0] in parts):
        raise InputError("nothing that the samples say of export is understood")
    aside = (*_aside(said, rows, parts), *beside)
    return Learned(
        name, cut.shape, cut.why, cut.options, tuple(parts), tuple(rows), aside, tables,
        tuple(sample.name for sample in samples), answers,
        tuple(words for words in answers.means if words not in {t.named for t in found}),
    )  # fmt: skip


def _feeds(found: Sequence[Template], tables: Mapping[Keys, Table]) -> frozenset[str]:
    """Return the names of what gives messages to collectors."""
    giving = {row for row, table in tables.items() if table.name in ("feed", "give")}
    return frozenset(name for t in found if t.row in giving for name in t.names[len(t.row) - 1])


def _told_apart(rows: Sequence[LearnedRow]) -> list[LearnedRow]:
    """Return rows, in doubt where two of them would say the same slot: one of them says something
    else.
    """
    claims = Counter(
        slot
        for row in rows
        for slot in set(row.slots) - set(row.meaning.names.values())
        if table_of(slot) not in ("interface", "server", "resolver")
    )
    twice = {slot for slot, number in claims.items() if number > 1}
    return [
        LearnedRow(
            row.template, Meaning(doubt=f"so does another statement look: {' and '.join(both)}")
        )
        if (both := sorted(twice & set(row.slots)))
        else row
        for row in rows
    ]


def _aside(
    said: Sequence[SampleStatement], rows: Sequence[LearnedRow], parts: Container[str]
) -> Iterable[Template]:
    """Return the other statements of the part that contains the device's name."""
    named = {r.template.keys[0] for r in rows if "unit.name" in r.meaning.columns.values()}
    known = {r.template.keys for r in rows}
    heads = {head for head in named if head not in parts}
    beside = [one for one in said if one.keys[0] in heads and one.assigns]
    found = templates(beside, frozenset(), NEVER_NAMES)
    return (t for t in found if t.keys not in known)


def _plain(text: str) -> str:
    return address(text) if is_address(text) else text


def _collectors(
    said: Sequence[SampleStatement],
    parts: Container[str],
    known: Container[str],
    own: Container[str],
) -> dict[str, str]:
    """Return the addresses that are collectors', each with the name of its row, '' if it has none.

    Those that are known are; so are those in the place of a known one, in a part about export.
    """
    places: dict[object, list[SampleStatement]] = defaultdict(list)
    for one in said:
        if one.keys[0] in parts and one.values and is_address(one.values[0]):
            above = one.keys[:-2] if len(one.values) == 1 else ()
            places[one.front[-1], len(one.values), one.assigns, above].append(one)
    found: dict[str, str] = {}
    telling = {(one.sample, *one.keys[:-1]) for one in said if _is_telling(one)}
    for some in places.values():
        addresses = {_plain(one.values[0]) for one in some}
        # Where nobody knows a collector, one has a transport, a severity or a facility beside it.
        sure = any(a in known for a in addresses) or any(map(_is_endpoint, some))
        sure = sure or any((one.sample, *one.keys[:-1]) in telling for one in some)
        if sure and not any(a in own for a in addresses):
            several = len({one.keys[-2:-1] for one in some}) > 1
            for one in some:
                named = len(one.values) == 1 and _is_name(one, several)
                found[_plain(one.values[0])] = one.keys[-2] if named else ""
    return found


def _is_name(one: SampleStatement, several: bool) -> bool:
    """Whether the word above the address of a collector is the name of its row; `several`: there
    are different such words in its place.
    """
    if len(one.keys) < 3 or NEVER_NAMES.fullmatch(one.keys[-2].lower()):
        return False
    in_header = len(one.front) == 1 and len(one.path[-1]) > 1
    return in_header or LOOKS_NAMED.fullmatch(one.keys[-2]) is not None or several


_TELLING = ("destination.transport", "destination.level", "destination.facility")


def _is_telling(one: SampleStatement) -> bool:
    """Whether a statement says what only collectors have beside their address."""
    return bool(one.values) and any(fits(slot, one.values[:1]) for slot in _TELLING)


def _is_endpoint(one: SampleStatement) -> bool:
    """Whether a statement holds an address and a transport."""
    return any(fits("destination.transport", [word]) for word in one.values[1:])


def _interfaces(found: Sequence[Template], said: Sequence[SampleStatement]) -> frozenset[str]:
    """Return the names of rows with any address that has a prefix."""
    tables = {t.row[:-1] for t in found if t.row and any(map(is_prefix, t.column(0)))}
    return frozenset(
        one.keys[len(table)]
        for table in tables
        for one in said
        if len(one.keys) > len(table) + 1 and one.keys[: len(table)] == table
    )


def _device_name(template: Template, samples: Sequence[Sample]) -> Meaning | None:
    """Return the meaning of a template whose values are the names of the samples."""
    names = {s.name: PurePath(s.name).name.split(".")[0] for s in samples}
    same = [said.values == (names[said.sample],) for said in template.said]
    if not template.row and all(same):
        return Meaning({}, {0: "unit.name"}, "its values are what the samples are called")
    return None
