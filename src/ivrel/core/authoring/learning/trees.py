"""How trees are laid out, in XML and in JSON: their lists with the keys of the entries, the element
around all of it, the places of values, and the modules of the names.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from lxml import etree
from msgspec import Struct

from ivrel.core.vocabulary.errors import InputError

_KEYS = ("id", "name", "key")  # what tells entries apart, also where there is but one


class _Node(Struct):
    """A container or an entry, in XML or in JSON alike.

    `values`: its leaves; `keyed`: what tells it apart if it is the only entry of a list, which its
    kind of document shows; `listed`: whether it is in an array.
    """

    tag: str
    parent: _Node | None
    values: dict[str, Any] = {}
    below: list[_Node] = []
    keyed: str = ""
    listed: bool = False


def layout_of(samples: Sequence[tuple[str, bytes]]) -> dict[str, Any]:
    """Return the options of the shape `tree` for some samples; InputError if they are none, or not
    laid out alike.

    `samples`: what each is called, and its bytes.
    """
    kinds = {data.lstrip()[:1] == b"{" for _, data in samples}
    if len(kinds) > 1:
        raise InputError("the samples look different: some are XML, some are JSON")
    return _json_layout(samples) if kinds == {True} else _xml_layout(samples)


def _xml_layout(samples: Sequence[tuple[str, bytes]]) -> dict[str, Any]:
    roots = []
    for name, data in samples:
        try:
            # Neither entities nor the network: a sample is anybody's.
            parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False)
            roots.append(etree.fromstring(data.strip(), parser))
        except (etree.XMLSyntaxError, ValueError) as problem:
            raise InputError(f"{name}: not XML: {problem}") from None
    tags = {etree.QName(root).localname for root in roots}
    if len(tags) != 1:
        raise InputError(f"the samples look different: {' and '.join(sorted(tags))}")
    elements = [element for root in roots for element in root.iter(etree.Element)]
    between = any((element.text or "").strip() for element in elements)
    attributes = any(element.attrib for element in elements)
    if between and attributes:
        raise InputError("values stand between elements and in attributes: that cannot be learned")
    nodes = [_of_element(root, None) for root in roots]
    modules = {
        etree.QName(element).localname: {"namespace": space}
        for element in elements
        if (space := etree.QName(element).namespace) and space != _space(element.getparent())
    }
    return {
        "wrapper": tags.pop(),
        "leaves": "elements" if between else "attributes",
        **_said("modules", modules),
        "lists": _lists(nodes),
    }


def _space(element: etree._Element | None) -> str | None:
    return None if element is None else etree.QName(element).namespace


def _of_element(element: etree._Element, parent: _Node | None) -> _Node:
    node = _Node(etree.QName(element).localname, parent)
    node.values = {etree.QName(name).localname: value for name, value in element.attrib.items()}
    node.keyed = next((name for name in node.values if name in _KEYS), "")
    for child in element.iterchildren(etree.Element):
        if len(child) or child.attrib or not (child.text or "").strip():
            node.below.append(_of_element(child, node))
        else:
            node.values[etree.QName(child).localname] = (child.text or "").strip()
    return node


def _json_layout(samples: Sequence[tuple[str, bytes]]) -> dict[str, Any]:
    nodes: list[_Node] = []
    modules: dict[str, dict[str, str]] = {}
    for name, data in samples:
        try:
            top = json.loads(data)
            nodes.append(_of_object("", top, None, modules))
        except (ValueError, RecursionError) as problem:
            raise InputError(f"{name}: not JSON: {problem}") from None
    kinds: dict[str, set[type]] = defaultdict(set)
    for node in _every(nodes):
        for name, value in node.values.items():
            kinds[name].add(type(value))
    # What JSON has as a number or as true and false is written as such again.
    return {
        **_said("modules", modules),
        "lists": _lists(nodes),
        **_said("numbers", [name for name, some in kinds.items() if some == {int}]),
        **_said("booleans", [name for name, some in kinds.items() if some == {bool}]),
    }


def _of_object(
    tag: str, value: Mapping[str, Any], parent: _Node | None, modules: dict[str, dict[str, str]]
) -> _Node:
    """Return an object as a node; `modules`: what is found of the modules of names goes in here."""
    node = _Node(tag, parent)
    for name, inner in value.items():
        module, colon, plain = name.rpartition(":")
        if colon:
            modules[plain] = {"module": module}
        some = inner if isinstance(inner, list) else [inner]
        for one in some:
            if isinstance(one, dict):
                below = _of_object(plain, one, node, modules)
                below.listed = isinstance(inner, list)
                node.below.append(below)
            elif not isinstance(inner, list):
                node.values[plain] = one
    return node


def _said(name: str, value: Any) -> dict[str, Any]:
    """Return an option if it says anything."""
    return {name: value} if value else {}


def _every(nodes: Sequence[_Node]) -> Iterator[_Node]:
    for node in nodes:
        yield node
        yield from _every(node.below)


def _lists(nodes: Sequence[_Node]) -> dict[str, list[str]]:
    """Return the lists, each with the key that distinguishes its entries."""
    by_tag: dict[str, list[_Node]] = defaultdict(list)
    for node in _every(nodes):
        if node.parent is not None:
            by_tag[node.tag].append(node)
    found = ((tag, next(_keys(some), "")) for tag, some in by_tag.items())
    return {tag: [key] for tag, key in found if key}


def _keys(nodes: Sequence[_Node]) -> Iterator[str]:
    """Yield the values that may tell nodes of one name apart, the likeliest first; none if they are
    no list.
    """
    several = len({id(node.parent) for node in nodes}) < len(nodes)
    listed = all(node.listed for node in nodes)
    holding = all(map(_holds_entries, {id(node.parent): node.parent for node in nodes}.values()))
    for key in sorted(nodes[0].values, key=lambda name: name not in _KEYS):
        seen = {(id(node.parent), str(node.values.get(key))) for node in nodes}
        in_all = all(key in node.values for node in nodes)
        alone = (key in _KEYS and holding) or all(node.keyed == key for node in nodes)
        if in_all and len(seen) == len(nodes) and (several or listed or alone):
            yield key


def _holds_entries(parent: _Node | None) -> bool:
    """Whether a node may hold the entries of a list, which has but one in some texts."""
    return parent is not None and len({node.tag for node in parent.below}) == 1
