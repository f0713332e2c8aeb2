"""Answers: what no sample can tell, and the user knows."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from ivrel.core.form import Key, ListOf, MapOf, MappingField, TextField, read_yaml
from ivrel.core.shapes.shape import UNKNOWN
from ivrel.core.vocabulary.errors import InputError

_TEXT = TextField("text")
ANSWERS = MappingField(
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


class UserAnswers(Struct, frozen=True):
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


def write_answers(answers: UserAnswers) -> str:
    """Return answers as YAML, which `read_answers` reads as the same."""
    unsaid = UserAnswers()
    lines = [
        f"{name}: {quoted(getattr(answers, name))}\n"
        for name in ("about", "remove", "inside")
        if getattr(answers, name) != getattr(unsaid, name)
    ]
    for name in ("defaults", "most", "means"):
        said: Mapping[str, str] = getattr(answers, name)
        if said:
            rows = (f"  {quoted(key)}: {quoted(value)}\n" for key, value in said.items())
            lines.append(f"{name}:\n{''.join(rows)}")
    if answers.channels:
        lines.append(f"channels: {_list(answers.channels)}\n")
    if answers.categories:
        rows = (f"  {quoted(key)}: {_list(some)}\n" for key, some in answers.categories.items())
        lines.append(f"categories:\n{''.join(rows)}")
    return "".join(lines) or "{}\n"


def _list(texts: Sequence[str]) -> str:
    return f"[{', '.join(map(quoted, texts))}]"


def quoted(text: str) -> str:
    """Return a text in quotes, as YAML has it."""
    return json.dumps(text, ensure_ascii=False)  # a string of JSON is one of YAML


def read_answers(text: str, file: str) -> UserAnswers:
    """Return the answers of a YAML text; InputError holds every mistake."""
    said, report = read_yaml(text, file, ANSWERS)
    if said is None or report.mistakes:
        raise InputError(report.mistakes)
    known: dict[str, Any] = said
    return UserAnswers(**known)
