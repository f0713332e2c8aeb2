"""Corrections of the open models, carried out by somebody else: appliers of RFC 8072 and RFC 6241
written here.
"""

from __future__ import annotations

import json
from typing import Any, cast
from urllib.parse import unquote
from xml.etree import ElementTree

import pytest
from conftest import TODAY, tried
from generated import BASES, device, policies, records, written
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core import correct, read_policy
from ivrel.core.fleet import Device
from ivrel.core.shapes.tree import Tree
from ivrel.demo.workspace import configurations, entries, policy_text
from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()
OPERATION = "{urn:ietf:params:xml:ns:netconf:base:1.0}operation"


def plain(name: str) -> str:
    return name.rpartition("}")[2].rpartition(":")[2]


def bare(value: Any) -> Any:
    """A tree without the names of modules, so that two ways to write one thing are equal."""
    if isinstance(value, dict):
        return {plain(k): bare(v) for k, v in value.items()}
    if isinstance(value, list):
        return [bare(v) for v in value]
    return plain(value) if isinstance(value, str) and value.count(":") == 1 else value


def same_entry(lists: Any, name: str, one: Any, other: Any) -> bool:
    return all(str(one.get(key)) == str(other.get(key)) for key in lists[name])


def merge(lists: Any, into: dict[str, Any], new: dict[str, Any]) -> None:
    for name, value in new.items():
        if isinstance(value, dict):
            merge(lists, into.setdefault(name, {}), value)
        elif isinstance(value, list):
            there = into.setdefault(name, [])
            for entry in value:
                found = next((e for e in there if same_entry(lists, name, e, entry)), None)
                if found is None:
                    there.append(found := {})
                merge(lists, found, entry)
        else:
            into[name] = value
    for case, others in {"udp": ["tls"], "tls": ["udp"]}.items():
        if case in new:
            for other in others:
                into.pop(other, None)


def patched(lists: Any, document: dict[str, Any], patch: Any) -> dict[str, Any]:
    for edit in patch["yang-patch"]["edit"]:
        node: Any = document
        steps = [s.partition("=") for s in edit["target"].strip("/").split("/")]
        for step, (name, _, values) in enumerate(steps):
            name, last = plain(name), step == len(steps) - 1
            chosen = [bare(unquote(v)) for v in values.split(",")] if values else []
            wanted = dict(zip(lists.get(name, ()), chosen, strict=False))
            if last and edit["operation"] == "remove":
                if wanted:
                    node[name] = [e for e in node[name] if not same_entry(lists, name, e, wanted)]
                    if not node[name]:
                        del node[name]
                else:
                    del node[name]
            elif last:
                merge(lists, node, edit["value"])
            else:
                # What is on the way must be there: a patch makes no nodes above its target.
                node = (
                    next(e for e in node[name] if same_entry(lists, name, e, wanted))
                    if wanted
                    else node[name]
                )
    return document


def leaves(
    element: ElementTree.Element, lists: Any, path: tuple[str, ...] = ()
) -> set[tuple[str, ...]]:
    """An XML tree as the set of its leaves, each with its path and the keys on the way."""
    name = plain(element.tag)
    keys = [
        next((c.text or "" for c in element if plain(c.tag) == key), "")
        for key in lists.get(name, ())
    ]
    here = (*path, name, *(plain(k) for k in keys)) if any(keys) else (*path, name)
    if not len(element):
        return {(*path, name, (element.text or "").strip())}
    return {leaf for child in element for leaf in leaves(child, lists, here)}


def edited(
    lists: Any, before: set[tuple[str, ...]], config: ElementTree.Element
) -> set[tuple[str, ...]]:
    out = set(before)

    def walk(element: ElementTree.Element, path: tuple[str, ...]) -> None:
        name = plain(element.tag)
        keys = [
            next((c.text or "" for c in element if plain(c.tag) == key), "")
            for key in lists.get(name, ())
        ]
        here = (*path, name, *(plain(k) for k in keys)) if any(keys) else (*path, name)
        if element.get(OPERATION) == "remove":
            gone = {leaf for leaf in out if leaf[: len(here)] == here}
            assert gone, here
            out.difference_update(gone)
        elif not len(element):
            out.difference_update({leaf for leaf in out if leaf[:-1] == here})
            out.add((*here, (element.text or "").strip()))
        for child in element if element.get(OPERATION) is None else ():
            if name in ("udp", "tls") or plain(child.tag) in ("udp", "tls"):
                other = (
                    {"udp": "tls", "tls": "udp"}[plain(child.tag)]
                    if plain(child.tag) in ("udp", "tls")
                    else ""
                )
                out.difference_update(
                    {leaf for leaf in out if other and leaf[: len(here) + 1] == (*here, other)}
                )
            walk(child, here)

    for top in config:
        walk(top, ("top",))
    return out


def check(name: str, text: bytes, change: str, corrected: bytes) -> None:
    lists = cast(Tree, DIALECTS[name].shape).lists
    if text.lstrip().startswith(b"{"):
        expected = patched(lists, bare(json.loads(text)), bare(json.loads(change)))
        assert expected == bare(json.loads(corrected))
        return
    before, after = (
        {("top", *leaf[1:]) for leaf in leaves(ElementTree.fromstring(x), lists)}
        for x in (text, corrected)
    )
    assert {leaf for leaf in edited(lists, before, ElementTree.fromstring(change)) if leaf[-1]} == {
        leaf for leaf in after if leaf[-1]
    }


@pytest.mark.parametrize(
    "entry",
    [e for e in entries() if e.platform in ("ietf-syslog", "openconfig")],
    ids=lambda e: e.device,
)
def test_the_example_is_corrected_alike(entry: Any) -> None:
    text = configurations()[entry.device][""].encode()
    one = Device(entry.device, entry.kind, entry.site, entry.platform, entry.groups, entry.identity)
    done = correct(one, DIALECTS[entry.platform], text, read_policy(policy_text(), "p"), TODAY, "x")
    assert done.proved and done.changes
    check(entry.platform, text, done.change, done.corrected)
    check(entry.platform, done.corrected, done.backout, _back(done))


def _back(done: Any) -> bytes:
    from ivrel.core.correcting.changes import apply_change

    return apply_change(DIALECTS[done.platform], done.corrected, done.backout, "backout")


@pytest.mark.deep
@pytest.mark.parametrize(
    "base", [b for b in BASES if b.partition(".")[0] in ("ietf-syslog", "openconfig")]
)
@given(data=st.data())
@tried(60)
def test_generated_texts_are_corrected_alike(base: str, data: st.DataObject) -> None:
    name = base.partition(".")[0]
    dialect = DIALECTS[name]
    text = written(dialect, base, data.draw(records(dialect, base)))
    done = correct(device(dialect), dialect, text, data.draw(policies()), TODAY, "x")
    if done.changes:
        check(name, text, done.change, done.corrected)
