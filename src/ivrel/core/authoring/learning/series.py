"""Lists within statements: which statements of samples hold several collectors, and how these are
divided.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence

from ivrel.core.authoring.learning.templates import Keys, SampleStatement
from ivrel.core.shapes.lists import Listing
from ivrel.core.text.words import Path
from ivrel.core.vocabulary.addresses import is_address

_DIVIDERS = (",", ";", " ")
_AROUND = ("[]", "()")
_HOST = re.compile(r"[A-Za-z][A-Za-z0-9-]*(\.[A-Za-z0-9-]+)*")


def listings(said: Sequence[SampleStatement]) -> list[Listing]:
    """Return the statements that hold lists of addresses, as the shape reads them.

    What divides the values of a list only shows where there are two: if no statement holds two,
    they are no lists.
    """
    values: dict[tuple[Path, Keys], list[Keys]] = defaultdict(list)
    for one in said:
        if one.values:
            head = (*one.front, "=") if one.assigns else one.front
            values[one.path, head].append(one.values)
    found = (_listing(path, front, some) for (path, front), some in values.items())
    return [one for one in found if one is not None]


def _listing(path: Path, head: Keys, values: Sequence[Keys]) -> Listing | None:
    """Return how statements of the same words hold lists; None if they hold none."""
    texts = [" ".join(words) for words in values]
    within = next((w for w in _AROUND if any(_is_within(text, w) for text in texts)), "")
    bare = [text[1:-1].strip() if within and _is_within(text, within) else text for text in texts]
    for divided in _DIVIDERS:
        if not any(divided in text for text in bare):
            continue
        inside = _signs([one.strip() for text in bare for one in text.split(divided)])
        if inside is None or divided in inside:
            continue
        listing = Listing(path, head, divided, inside, within)
        read = [listing.elements((*head, *words)) for words in values]
        hosts = [one.parts[0] for some in read for one in some or ()]
        if all(read) and _are_hosts(hosts, divided):
            return listing
    return None


def _is_within(text: str, signs: str) -> bool:
    """Whether a text is between two signs; brackets around an address are of the address."""
    inner = text[1:-1]
    around = len(text) > 1 and text[0] == signs[0] and text[-1] == signs[1]
    return around and (inner != inner.strip() or not is_address(inner))


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
