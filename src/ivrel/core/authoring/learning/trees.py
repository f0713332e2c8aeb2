"""The lists of trees: which elements of XML are entries, and what tells them apart."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence

from lxml import etree
from msgspec import Struct

from ivrel.core.vocabulary.errors import InputError

_KEYS = ("id", "name", "key")  # attributes that tell entries apart, also where there is but one


class TreeLayout(Struct, frozen=True):
    """How samples lay out their trees: the element around all of it, and of each list the attribute
    that tells its entries apart.
    """

    wrapper: str
    lists: dict[str, str]


def layout_of(samples: Sequence[tuple[str, bytes]]) -> TreeLayout:
    """Return the layout of trees whose values stand in attributes; InputError if they are none.

    `samples`: what each is called, and its bytes.
    """
    roots = []
    for name, data in samples:
        try:
            # Neither entities nor the network: a sample is anybody's.
            parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False)
            roots.append(etree.fromstring(data.strip(), parser))
        except (etree.XMLSyntaxError, ValueError) as problem:
            raise InputError(f"{name}: not XML: {problem}") from None
    tags = {str(root.tag) for root in roots}
    if len(tags) != 1:
        raise InputError(f"the samples look different: {' and '.join(sorted(tags))}")
    elements = [element for root in roots for element in root.iter(etree.Element)]
    if any((element.text or "").strip() for element in elements):
        raise InputError("trees whose values stand between elements cannot be learned yet")
    by_tag: dict[str, list[etree._Element]] = defaultdict(list)
    for element in elements:
        if element.getparent() is not None:
            by_tag[str(element.tag)].append(element)
    lists = {tag: key for tag, some in by_tag.items() for key in list(_keys(some))[:1]}
    return TreeLayout(tags.pop(), lists)


def _keys(elements: Sequence[etree._Element]) -> Iterator[str]:
    """Yield the attributes that may tell elements of one name apart; none if they are no list."""
    several = len({element.getparent() for element in elements}) < len(elements)
    for key in map(str, elements[0].attrib):
        seen = {(element.getparent(), element.get(key)) for element in elements}
        in_all = all(element.get(key) is not None for element in elements)
        if in_all and len(seen) == len(elements) and (several or key in _KEYS):
            yield key
