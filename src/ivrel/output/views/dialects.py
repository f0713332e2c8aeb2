"""Dialects: those that there are, what one can say, and how one understands a text."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import msgspec

from ivrel.core.authoring.abilities import Ability, unsaid
from ivrel.core.authoring.cover import Cover, Kind
from ivrel.core.dialects import Dialect
from ivrel.core.reading.statements import Explained, TakenBack, Understood, Undone, Unparsed
from ivrel.core.settings import Fact
from ivrel.core.settings.relevance import bearing
from ivrel.core.text.bundle import Places
from ivrel.output.views.reading import said_by
from ivrel.output.views.view import RowsView, View, fields, place_of


class DialectsView(View, frozen=True, kw_only=True):
    """The dialects that there are."""

    dialects: tuple[Dialect, ...]

    def machine(self) -> Any:
        return {
            "dialects": [
                fields(d, "name:dialect shape_name:shape about file limits") for d in self.dialects
            ]
        }


class DialectView(View, frozen=True, kw_only=True):
    """What a platform can say and what it cannot."""

    dialect: Dialect
    abilities: tuple[Ability, ...]

    def machine(self) -> Any:
        return {
            **fields(self.dialect, "name:dialect about shape_name:shape limits channels"),
            **fields(self, "abilities:can"),
            "says_nothing_of": unsaid(self.dialect),
        }


class CoverView(RowsView, frozen=True, kw_only=True):
    """How well a dialect knows some configurations; `most`: rows that a terminal shows, 0: all."""

    dialect: Dialect
    cover: Cover
    most: int = 0

    @property
    def columns(self) -> tuple[str, ...]:
        return Kind.__struct_fields__

    def rows(self) -> Iterator[Mapping[str, Any]]:
        return (msgspec.to_builtins(kind) for kind in self.cover.kinds)

    def machine(self) -> Any:
        return {
            "dialect": self.dialect.name,
            **fields(self.cover, "understood strange:not_understood texts"),
            "kinds": list(self.rows()),
            **fields(self.cover, "lacking silent unused passed_over"),
            "not_readable": [{"file": name, "problem": why} for name, why in self.cover.unread],
        }


class TrialView(View, frozen=True, kw_only=True):
    """A text line by line, with what each was understood as.

    `rows`: line, text ('' if it must not be shown), what the dialect makes of it; `passed_over`:
    how many lines are no part of what the dialect is about; `every`: whether every interface is
    shown.
    """

    dialect: Dialect
    file: str
    places: Places
    rows: tuple[tuple[int, str, Explained], ...]
    facts: tuple[Fact, ...]
    passed_over: int
    every: bool = False

    def machine(self) -> Any:
        return {
            "dialect": self.dialect.name,
            "lines": [self._row(*row) for row in self.rows],
            "settings": [
                {
                    "setting": f.setting,
                    "key": f.key,
                    "value": None if f.doubt and f.default else f.value,
                    "from": said_by(f),
                    "doubt": f.doubt,
                }
                for f in self.facts
            ],
        }

    def _row(self, line: int, text: str, said: Explained) -> dict[str, Any]:
        row: dict[str, Any] = {**place_of(self.places, line), "text": text}
        if isinstance(said, Understood):
            row["values"] = dict((*said.named, *said.fields, *said.many))
        elif isinstance(said, TakenBack):
            row["takes_back"] = True
        elif isinstance(said, Undone):
            row["taken_back_in"] = place_of(self.places, said.by)
        elif isinstance(said, Unparsed):
            row["not_understood"] = True
            row["may_bear_on"] = list(bearing(self.dialect, said))
        return row
