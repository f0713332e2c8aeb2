"""Made-up names that the texts of the example hold."""

from __future__ import annotations

PLACES = (
    "pier",
    "car deck",
    "ticket hall",
    "bridge",
    "engine room",
    "gangway",
    "office",
    "mast",
    "crew mess",
)


KEEPERS = ("alvar", "brisa", "corin", "dagny", "edda", "fenn")


PORTS = (22, 53, 80, 123, 179, 443, 514, 601, 853, 5060, 8443)


def inet(identity: str) -> str:
    """Return the words for an address of either family."""
    return f"inet6 {identity}/128" if ":" in identity else f"inet {identity}/32"


IETF_TYPE = "iana-if-type:ethernetCsmacd"
