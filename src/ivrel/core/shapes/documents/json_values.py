"""Values of JSON: as trees hold them, as statements have them, and as the steps of a target."""

from __future__ import annotations

from itertools import zip_longest
from typing import Any
from urllib.parse import unquote

from ivrel.core.shapes.documents.base import without_module
from ivrel.core.shapes.documents.json_text import Object, local_of
from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.text.words import Words


def copied(value: Any) -> Any:
    """Return a value with all objects and lists in it again; what does not change is shared."""
    if isinstance(value, Object):
        new = Object({name: copied(inner) for name, inner in value.items()})
        new.line = value.line
        new.lines = value.lines
        new.keys_of = value.keys_of
        return new
    return [copied(inner) for inner in value] if isinstance(value, list) else value


def objects(value: Any) -> Any:
    """Return a value read by `json`, with objects as this module represents them."""
    if isinstance(value, dict):
        new = Object({name: objects(inner) for name, inner in value.items()})
        new.lines = {}
        return new
    return [objects(inner) for inner in value] if isinstance(value, list) else value


def words_of_step(options: TreeOptions, step: str) -> Words:
    name, _, keys = step.partition("=")
    local = local_of(options, name)
    names = options.lists.get(local, ())
    values = [unquote(key) for key in keys.split(",")] if keys else []
    return (
        local,
        *(
            without_module(options, n, v)
            for n, v in zip_longest(names[: len(values)], values, fillvalue="")
        ),
    )


def key_value(options: TreeOptions, entry: Object, key: str) -> Any:
    return next((value for name, value in entry.items() if local_of(options, name) == key), "")


def text_of(value: Any) -> str:
    if value is True or value is False:
        return "true" if value else "false"
    if value is None or value == [None]:
        return ""
    return str(value) if not isinstance(value, list) else ", ".join(map(text_of, value))
