"""What a dialect says about its tree, in XML and in JSON."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from msgspec import Struct

from ivrel.core.form import Key, ListOf, MapOf, MappingField, TextField
from ivrel.core.shapes.shape import Shape

_WORD = TextField("text")
_WORDS = ListOf(_WORD, filled=True)


class Identities(Struct, frozen=True):
    """The module of a leaf's identities; '' where they are of the leaf's own module.

    `plain`: the values of the leaf that are no identities.
    """

    module: str = ""
    namespace: str = ""
    prefix: str = ""
    plain: tuple[str, ...] = ()


class TreeOptions(Shape, frozen=True):
    """The options of a tree.

    `wrapper`: the names of what may surround the configuration; `lists`: the names of its lists
    with those of their keys; `mirror`: the container of an entry that repeats its keys; `leaves`:
    for XML, whether values are attributes or elements; `namespaces` and `modules`: what new
    elements (XML) and new names (JSON) belong to; `form`: how a change is written, in a form of its
    `own` or as RFC 6241 and RFC 8072 have it (`standard`); `inside`: what a change of the own form
    is in; `identities`: the leaves whose values are identities (RFC 7951 section 6.8); `ordered`:
    the lists whose entries are in an order of the user's (RFC 7950 section 7.7.7); `numbers`,
    `booleans`: those that JSON has as such; `passed_over`: names that say nothing of the
    configuration; `aliases`: other names for one that the dialect knows.
    """

    ATOMIC: ClassVar[bool] = True
    WHOLE: ClassVar[bool] = True
    QUALIFIED: ClassVar[bool] = True
    OPTIONS: ClassVar[Mapping[str, Key]] = {
        **Shape.OPTIONS,
        "wrapper": Key(ListOf(_WORD, one_is_enough=True), "the block that everything stands in"),
        "lists": Key(MapOf(_WORDS), "of a tree: its lists, and the keys of their entries"),
        "mirror": Key(
            _WORD, "of a tree: the container in which a list entry's keys stand once more"
        ),
        "leaves": Key(
            TextField("a kind", choices=("attributes", "elements")), "of XML: where values stand"
        ),
        "modules": Key(
            MapOf(
                MappingField(
                    "a module",
                    {"module": Key(_WORD, "its name"), "namespace": Key(_WORD, "its URI")},
                )
            ),
            "of a tree: the modules of names at its top",
        ),
        "identities": Key(
            MapOf(
                MappingField(
                    "the module of identities",
                    {
                        **{n: Key(_WORD, f"its {n}") for n in ("module", "namespace", "prefix")},
                        "plain": Key(_WORDS, "the values of the leaf that are no identities"),
                    },
                )
            ),
            "of a tree: the leaves whose values are identities (RFC 7951 section 6.8), and of "
            "which module these are",
        ),
        "ordered": Key(
            _WORDS, "of a tree: the lists whose entries stand in an order of the user's"
        ),
        "numbers": Key(_WORDS, "of a tree: the leaves that JSON has as numbers"),
        "booleans": Key(_WORDS, "of a tree: the leaves that JSON has as true and false"),
        "passed-over": Key(_WORDS, "of a tree: names that say nothing of the configuration"),
        "aliases": Key(MapOf(_WORD), "of a tree: other names for one that the statements use"),
    }
    CHANGE: ClassVar[Mapping[str, Key]] = {
        **Shape.CHANGE,
        "inside": Key(_WORD, "the block that a change stands in"),
        "form": Key(
            TextField("a form", choices=("own", "standard")),
            "of a tree: the same tree with the removal word, or RFC 6241 and RFC 8072",
        ),
    }

    wrapper: tuple[str, ...] = ()
    inside: str = ""
    form: str = "own"
    lists: Mapping[str, tuple[str, ...]] = {}
    leaves: str = "elements"
    mirror: str = ""
    namespaces: Mapping[str, str] = {}
    modules: Mapping[str, str] = {}
    identities: Mapping[str, Identities] = {}
    ordered: tuple[str, ...] = ()
    numbers: tuple[str, ...] = ()
    booleans: tuple[str, ...] = ()
    passed_over: tuple[str, ...] = ()
    aliases: Mapping[str, str] = {}

    @classmethod
    def built(cls, options: Mapping[str, Any]) -> TreeOptions:
        said = dict(options)
        modules = said.pop("modules", {})
        for field in ("namespace", "module"):
            said[f"{field}s"] = {n: m[field] for n, m in modules.items() if field in m}
        identities = said.get("identities", {})
        said["identities"] = {name: Identities(**of) for name, of in identities.items()}
        return cls(**said)
