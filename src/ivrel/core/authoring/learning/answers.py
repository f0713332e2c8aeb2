"""Answers: what no sample can tell, and the user knows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from ivrel.core.form import Key, ListOf, MapOf, Record, Text, read_yaml
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
        "channels": Key(ListOf(_TEXT), "the planes of messages, each with a way of its own"),
        "categories": Key(MapOf(ListOf(_TEXT)), "of planes: the categories that go by each"),
        "means": Key(
            MapOf(_TEXT),
            "of what is in doubt, by its words: the slots of its values, '-' for a word that "
            "stands as it is; or 'nothing'",
        ),
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
    channels: Sequence[str] = ()
    categories: Mapping[str, Sequence[str]] = {}
    means: Mapping[str, str] = {}


NOTHING = "nothing"  # what bears on no setting


def write_answers(answers: Answers) -> str:
    """Return answers as YAML, which `read_answers` reads as the same."""
    lines = [
        f"{name}: {_quoted(value)}\n"
        for name, value in (("remove", answers.remove), ("inside", answers.inside))
        if value != UNKNOWN
    ]
    for name in ("defaults", "most", "means"):
        said: Mapping[str, str] = getattr(answers, name)
        if said:
            rows = (f"  {_quoted(key)}: {_quoted(value)}\n" for key, value in said.items())
            lines.append(f"{name}:\n{''.join(rows)}")
    return "".join(lines) or "{}\n"


def _quoted(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def read_answers(text: str, file: str) -> Answers:
    """Return the answers of a YAML text; InputError holds every mistake."""
    said, report = read_yaml(text, file, ANSWERS)
    if said is None or report.mistakes:
        raise InputError(report.mistakes)
    known: dict[str, Any] = said
    return Answers(**known)
