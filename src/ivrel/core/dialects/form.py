"""The form of a dialect file: its keys and what each means."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from yaml import MappingNode

from ivrel.core.dialects.negations import NEGATED, NEGATION
from ivrel.core.dialects.session import SESSION
from ivrel.core.dialects.slots import TABLES
from ivrel.core.form import (
    Key,
    ListOf,
    MapOf,
    MappingField,
    Node,
    Raw,
    Report,
    TextField,
    place,
)
from ivrel.core.shapes import DISPLAYED, SHAPES, Shape
from ivrel.core.vocabulary.wording import shorten


def _whole(text: str) -> int:
    if not re.fullmatch("[0-9]{1,9}", text):
        raise ValueError(f"'{shorten(text)}' is not a whole number")
    return int(text)


TEXT = TextField("text")

CONFIGURATION = "configuration"  # of a display: in the shape of the configuration

# What no dialect can describe yet (`reading/layout.py` finds it).
FORMS_OF_TEXT = ("block-comments", "here-documents", "continued-lines")


_TEXTS = ListOf(TEXT, filled=True)


SPELLED = ListOf(TEXT, one_is_enough=True, filled=True)


_INSIDE = Key(TEXT, "the enclosing headers, divided by '/'")


_ROWS = MappingField(
    "a table",
    {
        "key": Key(_TEXTS, "the fields that tell rows apart", must=True),
        "removed-by": Key(TEXT, "the beginning of all statements of one row"),
        "in": Key(TEXT, "the block that `removed-by` stands in"),
        "most": Key(TextField("a whole number", _whole), "how many rows the platform holds"),
    },
    lambda at, **v: {"line": place(at)[0], **v},
)


_STATEMENT = MappingField(
    "a statement",
    {
        "says": Key(TEXT, "the pattern", must=True),
        "in": _INSIDE,
        "removed-by": Key(TEXT, "the words that name it when it is removed"),
        "negated": NEGATED,
    },
    lambda at, **v: (at, v),
)


_ASIDE = MappingField(
    "a statement",
    {
        "starts": Key(ListOf(TEXT, one_is_enough=True), "first words", must=True),
        "in": _INSIDE,
    },
    lambda at, **v: (at, v),
)


_EXAMPLE = MappingField(
    "an example",
    {
        "text": Key(TEXT, "a text", must=True),
        "means": Key(Raw(MapOf(TEXT).schema()), "its settings"),
    },
    lambda at, **said: (at, said),
)


_BEFORE = {
    "dialect": Key(TEXT, "its name, as the file's", must=True),
    "about": Key(TEXT, "the kind of platform, in one line", must=True),
    "shape": Key(
        TextField("a shape", choices=tuple(SHAPES)), "how text falls into statements", must=True
    ),
}


_LIST = MappingField(
    "a list",
    {
        "in": _INSIDE,
        "says": Key(TEXT, "the words before the list", must=True),
        "divided": Key(TEXT, "what stands between two elements (default: a comma)"),
        "inside": Key(TEXT, "the signs between the parts of an element, in their order"),
        "within": Key(TEXT, "the two signs around a list, as '[]'"),
    },
    lambda at, **said: (at, said),
)


_BEHIND = {
    "series": Key(
        ListOf(_LIST, filled=True),
        "statements that hold several values, each of which a pattern reads by itself",
    ),
    "channels": Key(_TEXTS, "the planes or categories of messages, each with a way of its own"),
    "categories": Key(MapOf(_TEXTS), "of channels that are planes: the categories that go by each"),
    "negation": Key(NEGATION, "how a text negates a statement, and what that leads to"),
    "spelling": Key(
        Raw(MapOf(MapOf(SPELLED)).schema()),
        "for a type or a slot: its values and this platform's words, the first of which is "
        "written; "
        "a value that is not listed cannot be said",
    ),
    "rows": Key(
        MapOf(_ROWS, TextField("a table", choices=TABLES)), "the tables that the statements fill"
    ),
    "only": Key(
        MapOf(MapOf(SPELLED)),
        "for a slot: the values of another slot with which alone it takes effect",
    ),
    "only-read": Key(_TEXTS, "slots that are read and cannot be written"),
    "never": Key(
        ListOf(TextField("a table", choices=TABLES), filled=True),
        "tables of which this platform has no rows: it has no filters, say, so none can drop "
        "anything",
    ),
    "defaults-when": Key(
        MapOf(MapOf(MapOf(TEXT))),
        "for a slot: another slot of the same row, and the default for some of its values",
    ),
    "open": Key(
        _TEXTS,
        "parts in which more stands than this dialect is about: what is not known there is "
        "passed over",
    ),
    "has-no": Key(
        ListOf(TextField("a form of text", choices=FORMS_OF_TEXT), filled=True),
        "forms of text that its configurations never hold; else statements in them are in doubt",
    ),
    "unset": Key(
        _TEXTS, "slots that have no default: left out, nothing holds (a facility is not replaced)"
    ),
    "defaults": Key(Raw({"type": "object"}), "what holds where the text says nothing"),
    "statements": Key(ListOf(_STATEMENT, filled=True), "the patterns", must=True),
    "tells": Key(
        MapOf(SPELLED, TextField("a setting", choices=("changes", "logins"))),
        "by which tags or MSGIDs the messages are known that tell of changes, and of logins",
    ),
    "session": Key(SESSION, "how one talks to a device: what is typed, what it answers"),
    "aside": Key(ListOf(_ASIDE), "statements in the export part that bear on no setting"),
    "examples": Key(ListOf(_EXAMPLE), "texts with the settings that they mean"),
}


def _state(options: Mapping[str, Key]) -> MappingField:
    """Return the form of a display; `options`: those of the configuration's shape."""
    return MappingField(
        "a display",
        {
            "show": Key(TEXT, "what is typed to see it (default: it is part of the same model)"),
            "shape": Key(
                TextField("a shape", choices=(*DISPLAYED, CONFIGURATION)),
                "how it falls into statements: as lines for people, or as the configuration does "
                "(default: printed)",
            ),
            **options,
            "spelling": _BEHIND["spelling"],
            "rows": _BEHIND["rows"],
            "defaults": Key(
                Raw({"type": "object"}),
                "what holds where it shows nothing, as a model says; else that is not known",
            ),
            "statements": _BEHIND["statements"],
            "aside": _BEHIND["aside"],
        },
        lambda at, **said: (at, said),
    )


def _form(classes: Sequence[type[Shape]]) -> MappingField:
    """Return the form of a dialect whose shape is one of these, each with options of its own."""
    options = {key: said for one in classes for key, said in one.OPTIONS.items()}
    state = Key(_state(options), "how a device shows its present state: what it sends and counts")
    change = {key: said for one in classes for key, said in one.CHANGE.items()}
    way = Key(MappingField("a way to change", change), "how a change is written", must=True)
    return MappingField(
        "a dialect", {**_BEFORE, **options, "change": way, "state": state, **_BEHIND}
    )


class _ByShape:
    """The form of a dialect: which keys it may have depends on its shape."""

    def read(self, node: Node, report: Report) -> Any:
        said = (
            next((str(v.value) for k, v in getattr(node, "value", ()) if k.value == "shape"), "")
            if isinstance(node, MappingNode)
            else ""
        )
        known = [SHAPES[said]] if said in SHAPES else SHAPES.values()
        return _form([row.load() for row in known]).read(node, report)

    def schema(self) -> dict[str, Any]:
        return _form([row.load() for row in SHAPES.values()]).schema()


DIALECT = _ByShape()
