"""Answers: what no sample can tell, and the user knows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from ivrel.core.form import Key, MapOf, Record, Text, read_yaml
from ivrel.core.shapes.shape import UNKNOWN
from ivrel.core.vocabulary.errors import InputError

_TEXT = Text("text")
ANSWERS = Record(
    "answers",
    {
        "about": Key(_TEXT, "what kind of platform it is, in one line"),
        "remove": Key(_TEXT, "the word that takes a statement away"),
        "inside": Key(_TEXT, "of braces: the block that a change stands in"),
        "defaults": Key(MapOf(_TEXT), "what holds where a text says nothing, by slot"),
        "most": Key(MapOf(_TEXT), "how many rows a table holds"),
    },
    lambda at, **said: said,
)


class Answers(Struct, frozen=True):
    """What the user knows: see ANSWERS."""

    about: str = "what kind of platform it is, in one line"
    remove: str = UNKNOWN
    inside: str = UNKNOWN
    defaults: Mapping[str, str] = {}
    most: Mapping[str, str] = {}


def read_answers(text: str, file: str) -> Answers:
    """Return the answers of a YAML text; InputError holds every mistake."""
    said, report = read_yaml(text, file, ANSWERS)
    if said is None or report.mistakes:
        raise InputError(report.mistakes)
    known: dict[str, Any] = said
    return Answers(**known)
