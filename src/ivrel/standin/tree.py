"""JSON of a YANG model as XML (RFC 7951 the other way round): what a NETCONF server holds."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from lxml import etree

from ivrel.core.dialects.dialect import Dialect

BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"


def as_xml(dialect: Dialect, text: bytes) -> bytes:
    """Return a configuration in XML, whichever of both it is written in."""
    if not text.lstrip().startswith(b"{"):
        return text
    modules: Mapping[str, str] = getattr(dialect.shape, "modules", {})
    spaces: Mapping[str, str] = getattr(dialect.shape, "namespaces", {})
    known = {module: spaces[name] for name, module in modules.items() if name in spaces}
    nsmap: Any = {None: BASE}
    root = etree.Element(f"{{{BASE}}}data", nsmap=nsmap)
    _add(root, json.loads(text), "", known)
    etree.indent(root)
    return str(etree.tostring(root, encoding="unicode")).encode() + b"\n"


def _add(
    parent: etree._Element, members: Mapping[str, Any], module: str, known: Mapping[str, str]
) -> None:
    for name, value in members.items():
        prefix, _, local = name.rpartition(":")
        own = prefix or module
        for one in value if isinstance(value, list) else [value]:
            namespace = known.get(own, f"urn:ivrel:standin:{own}")
            nsmap: Any = {None: namespace}
            element = etree.SubElement(parent, f"{{{namespace}}}{local}", nsmap=nsmap)
            if isinstance(one, dict):
                _add(element, one, own, known)
            else:
                # An identity bears the name of its module in JSON; here its own name is enough.
                said = str(one).lower() if isinstance(one, bool) else str(one)
                element.text = "" if one is None else said
