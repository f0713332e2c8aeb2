"""Words that engineers use for the values of each type."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from ipaddress import ip_interface

from ivrel.core.dialects.slots import SLOTS
from ivrel.core.vocabulary.addresses import is_address
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES

_SEVERITIES: Mapping[str, tuple[str, ...]] = {
    "emergency": ("emergency", "emerg", "panic"),
    "alert": ("alert",),
    "critical": ("critical", "crit"),
    "error": ("error", "err"),
    "warning": ("warning", "warn"),
    "notice": ("notice", "note", "notif"),
    "informational": ("informational", "info", "inform", "information"),
    "debug": ("debug", "debugging"),
}
_NONE = ("none", "off", "nothing", "no", "never")
_YES = ("yes", "on", "true", "enabled", "enable")
_NO = ("no", "off", "false", "disabled", "disable")

# Of each type of values: the words for each, as they are written in lower case.
SPELLINGS: Mapping[str, Mapping[str, tuple[str, ...]]] = {
    "severity": _SEVERITIES,
    "threshold": {"none": _NONE, **_SEVERITIES},
    "facility": {name: (name, name.replace("local", "local-")) for name in FACILITIES},
    "switch": {"on": _YES, "off": _NO},
    "transport": {"udp": ("udp",), "tcp": ("tcp",), "tls": ("tls", "ssl")},
    "stamp-kind": {
        "none": _NONE,
        "uptime": ("uptime", "up", "ticks", "relative"),
        "calendar": ("calendar", "date", "dated", "datetime", "absolute", "wall"),
    },
    "precision": {
        "seconds": ("seconds", "second", "sec", "s"),
        "milliseconds": ("milliseconds", "millisecond", "millis", "milli", "msec", "ms"),
        "microseconds": ("microseconds", "microsecond", "micros", "micro", "usec", "us"),
    },
    "shown": {"shown": ("shown", "show", *_YES), "hidden": ("hidden", "hide", *_NO)},
    "gate-action": {
        "pass": ("pass", "permit", "allow", "accept"),
        "stop": ("stop", "deny", "drop", "block", "reject", "discard"),
    },
    "tell": {
        "none": _NONE,
        "open": ("open", "start", "begin"),
        "close": ("close", "end", "finish"),
        "both": ("both", "all", "open-close", "start-end"),
    },
    "state": {"up": ("up",), "down": ("down",)},
    "origin": {
        "none": _NONE,
        "address": ("address", "addr", "ip", "inet"),
        "name": ("name", "host", "hostname", "label"),
    },
    "mode": {
        "immediate": ("immediate", "now", "single", "direct"),
        "batch": ("batch", "batched", "bulk", "queued"),
    },
    "format": {
        "rfc3164": ("rfc3164", "3164", "old", "bsd"),
        "rfc5424": ("rfc5424", "5424", "new", "ietf"),
    },
}  # fmt: skip


# Of each type: the values by their numbers, the codes of RFC 5424 section 6.2.1.
_CODES = {"severity": SEVERITIES, "threshold": SEVERITIES, "facility": FACILITIES}


def value_of(kind: str, word: str) -> str | None:
    """Return the value of a type that a word is used for; None if none is."""
    said = word.lower()
    for value, words in SPELLINGS.get(kind, {}).items():
        if said in words:
            return value
    return None


def coded(kind: str, word: str) -> str | None:
    """Return the value of a type that has this number; None if none has."""
    codes = _CODES.get(kind, ())
    return codes[int(word)] if re.fullmatch("[0-9]{1,2}", word) and int(word) < len(codes) else None


def may_be(slot: str, words: Iterable[str]) -> bool:
    """Whether all of these words can be values of an identified slot: there, severities and
    facilities may be numbers.
    """
    words = list(words)
    kind = SLOTS[slot].type.name
    return fits(slot, words) or all(coded(kind, word) is not None for word in words)


def fits(slot: str, words: Iterable[str]) -> bool:
    """Whether all of these words can be values of a slot."""
    kind = SLOTS[slot].type
    if kind.name in SPELLINGS:
        return all(value_of(kind.name, word) is not None for word in words)
    if kind.name == "word":
        return True
    for word in words:
        try:
            kind.parse(word)
        except ValueError:
            return False
    return True


def is_severity(word: str) -> bool:
    """Whether a word is one for a severity."""
    return value_of("severity", word) is not None


def is_facility(word: str) -> bool:
    """Whether a word is surely one for a facility: others of them have many uses."""
    return re.fullmatch(r"local-?[0-7]", word.lower()) is not None


def is_prefix(word: str) -> bool:
    """Whether a word is an address with the length of its prefix, as interfaces have it; routes
    have that of a network.
    """
    where, slash, length = word.partition("/")
    if not (slash and is_address(where) and length.isdigit()):
        return False
    try:
        found = ip_interface(word)
    except ValueError:
        return False
    return found.ip != found.network.network_address or found.network.num_addresses == 1


def spelled(slot: str, words: Iterable[str]) -> dict[str, list[str]]:
    """Return this platform's words for the values of a slot, as they were seen; nothing if they are
    the names that the values have anyway.

    Severities that were not seen are added, where those that were seen are all spelled in one way;
    so are those and facilities, where all that were seen are numbers.
    """
    kind = SLOTS[slot].type.name
    seen: dict[str, list[str]] = {}
    for word in words:
        value = value_of(kind, word) or coded(kind, word)
        if value is not None and word not in seen.setdefault(value, []):
            seen[value].append(word)
    if all(words == [value] for value, words in seen.items()):
        return {}
    if kind in ("switch", "shown"):
        # Whoever says yes says no.
        on, off = ("on", "off") if kind == "switch" else ("shown", "hidden")
        for words, others, value in ((_YES, _NO, off), (_NO, _YES, on)):
            pairs = dict(zip(words, others, strict=True))
            said = [w for ws in list(seen.values()) for w in ws if w.lower() in pairs]
            if said and value not in seen:
                seen[value] = [pairs[said[0].lower()]]
    if kind in ("severity", "threshold"):
        pairs_seen = [(v, w.lower()) for v, ws in seen.items() if v != "none" for w in ws]
        if pairs_seen and all(w == _SEVERITIES[v][0] for v, w in pairs_seen):
            for value in SEVERITIES:
                seen.setdefault(value, [value])
    if kind in _CODES and all(w.isdigit() for ws in seen.values() for w in ws):
        for code, value in enumerate(_CODES[kind]):
            seen.setdefault(value, [str(code)])
    order = list(SPELLINGS.get(kind, {}))
    return dict(sorted(seen.items(), key=lambda pair: order.index(pair[0])))
