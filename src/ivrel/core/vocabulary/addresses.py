"""IP addresses, in the one form that is compared."""

from __future__ import annotations

import re
from functools import lru_cache
from ipaddress import ip_address

from ivrel.core.vocabulary.wording import shorten

# Addresses as they are mostly written, which is their canonical form: IPv4; and IPv6 with one gap
# and no other zeros, at most six groups (RFC 5952 section 4).
_OCTET = r"(?:25[0-5]|2[0-4][0-9]|1[0-9]{2}|[1-9]?[0-9])"
_HEXTET = r"[1-9a-f][0-9a-f]{0,3}"
_PLAIN = re.compile(
    rf"{_OCTET}(?:\.{_OCTET}){{3}}|(?!(?:[^:]*:){{7}}){_HEXTET}(?::{_HEXTET})*::(?:{_HEXTET}(?::{_HEXTET})*)?"
)


@lru_cache(maxsize=65536)
def address(text: str) -> str:
    """Return an IP address in its canonical form; ValueError tells what was expected.

    >>> address("2001:DB8:0::1")
    '2001:db8::1'
    >>> address("192.0.2.7")
    '192.0.2.7'
    """
    word = text.strip()
    if _PLAIN.fullmatch(word):
        return word
    try:
        return str(ip_address(word))
    except ValueError:
        raise ValueError(f"'{shorten(text)}' is not an IP address") from None


# The address families, by the words for them in slots.
FAMILIES = {"inet": "IPv4", "inet6": "IPv6"}


@lru_cache(maxsize=65536)
def family_of(host: str) -> str:
    """Return the family of an address; '' of a host name, which may mean either.

    >>> family_of("192.0.2.7"), family_of("2001:db8::7"), family_of("beacon-a")
    ('IPv4', 'IPv6', '')
    """
    return ("IPv6" if ":" in host else "IPv4") if is_address(host) else ""


@lru_cache(maxsize=65536)
def is_address(text: str) -> bool:
    """Whether a text is an IP address.

    >>> is_address("192.0.2.7"), is_address("beacon-a")
    (True, False)
    """
    if ":" not in text and text.count(".") != 3:
        return False  # most words are seen not to be at once
    try:
        return bool(address(text))
    except ValueError:
        return False
