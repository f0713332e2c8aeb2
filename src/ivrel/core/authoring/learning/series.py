"""Lists within statements: which statements of samples hold several collectors, and how these are
divided.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence

from ivrel.core.authoring.learning.templates import Keys, Said
from ivrel.core.shapes.lists import Listing
from ivrel.core.text.words import Path
from ivrel.core.vocabulary.addresses import is_address

_DIVIDERS = (",", ";", " ")
_HOST = re.compile(r"[A-Za-z][A-Za-z0-9-]*(\.[A-Za-z0-9-]+)*")


def listings(said: Sequence[Said]) -> list[Listing]:
    """Return the statements that hold lists of addresses, as the shape reads them.

    What divides the values of a list only shows where there are two: statements of which none holds
    two are no lists.
    """
    values: dict[tuple[Path, Keys], list[Keys]] = defaultdict(list)
    for one in said:
        if not one.assigns and one.values:
            values[one.path, one.front].append(one.values)
    found = (_listing(path, front, some) for (path, front), some in values.items())
    return [one for one in found if one is not None]


def _listing(path: Path, head: Keys, values: Sequence[Keys]) -> Listing | None:
    """Return how statements of the same words hold lists; None if they hold none."""
    texts = [" ".join(words) for words in values]
    for divided in _DIVIDERS:
        several = [text for text in texts if divided in text]
        if not several:
            continue
        inside = _signs([one.strip() for text in texts for one in text.split(divided)])
        if inside is None or divided in inside:
            continue
        listing = Listing(path, head, divided, inside)
        read = [listing.elements((*head, *words)) for words in values]
        hosts = [one.parts[0] for some in read for one in some or ()]
        if all(read) and _are_hosts(hosts, divided):
            return listing
    return None


def _are_hosts(words: Sequence[str], divided: str) -> bool:
    """Whether words are addresses, some of them perhaps names: one name may be any word, and so may
    each of several words that nothing but blanks divides.
    """
    addresses = sum(map(is_address, words))
    named = divided != " " and 2 * addresses >= len(words)
    return addresses == len(words) or (
        named and all(is_address(word) or _HOST.fullmatch(word) for word in words)
    )


def _signs(elements: Sequence[str]) -> str | None:
    """Return the signs between the parts of elements, in their order; None if there is no such
    order.
    """
    longest = ""
    for element in elements:
        if is_address(element):
            continue
        signs = "".join(re.findall(r"[^\w.-]", re.sub(r"^\[[^\]]*\]", "", element)))
        if not (longest.startswith(signs) or signs.startswith(longest)):
            return None
        longest = max(longest, signs, key=len)
    return longest
