"""Types of values: how the words of each are read, and which values there are."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from ipaddress import ip_interface

from msgspec import Struct

from ivrel.core.vocabulary.addresses import address
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES, selection_of

Value = str | int


class ValueType(Struct, frozen=True):
    """How the words of one type are read; `parse` raises ValueError.

    `choices`: all values, least first.
    """

    name: str
    parse: Callable[[str], Value]
    choices: tuple[str, ...] = ()


def _one_of(name: str, choices: tuple[str, ...]) -> ValueType:
    def parse(word: str) -> str:
        if word not in choices:
            raise ValueError(word)
        return word

    return ValueType(name, parse, choices)


def _port(word: str) -> int:
    if not re.fullmatch(r"[0-9]{1,5}", word) or not 0 < int(word) < 65536:
        raise ValueError(f"'{word[:20]}' is not a port; expected 1 to 65535")
    return int(word)


_HOST = re.compile(r"(?=.{1,253}$)[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*")


def _host(word: str) -> str:
    try:
        return address(word)
    except ValueError:
        if _HOST.fullmatch(word.lower()) and not word.replace(".", "").isdigit():
            return word.lower()
        raise


@lru_cache(maxsize=4096)
def _inet(word: str) -> str:
    where, slash, length = word.partition("/")
    found = address(where)
    if slash and not (length.isdecimal() and int(length[:4]) <= (128 if ":" in found else 32)):
        # A mask in the place of a length is for the library to judge.
        return str(ip_interface(word).ip)
    return found


def _number(word: str) -> int:
    if not re.fullmatch(r"[0-9]{1,12}", word):
        raise ValueError(f"'{word[:20]}' is not a whole number")
    return int(word)


def _rate(word: str) -> Value:
    return word if word == "none" else _number(word)


def _selection(word: str) -> str:
    return selection_of(word).word


WORD = ValueType("word", str)
SWITCH = _one_of("switch", ("off", "on"))
HOST = ValueType("host", _host)
INET = ValueType("inet", _inet)
ADDRESS = ValueType("address", address)
PORT = ValueType("port", _port)
# What a policy may ask for; RELP can only be read.
TRANSPORTS = ("udp", "tcp", "tls")
TRANSPORT = _one_of("transport", (*TRANSPORTS, "relp"))
SEVERITY = _one_of("severity", SEVERITIES)
THRESHOLD = _one_of("threshold", ("none", *SEVERITIES))
FACILITY = _one_of("facility", FACILITIES)
FACILITY_OR_ALL = _one_of("facility-or-all", ("all", *FACILITIES))
COMPARE = _one_of("compare", ("at-least", "exactly"))
OUTPUT = _one_of("output", ("console", "file"))
ACTION = _one_of("action", ("send", "drop"))
STAMP = _one_of("stamp-kind", ("none", "uptime", "calendar"))
PRECISION = _one_of("precision", ("seconds", "milliseconds", "microseconds"))
SHOWN = _one_of("shown", ("hidden", "shown"))
STATE = _one_of("state", ("down", "up"))
NUMBER = ValueType("number", _number)
RATE = ValueType("rate", _rate)
ORIGIN = _one_of("origin", ("none", "address", "name"))
MODE = _one_of("mode", ("batch", "immediate"))
TELL = _one_of("tell", ("none", "open", "close", "both"))
VERDICT = _one_of("gate-action", ("pass", "stop"))
FORMAT = _one_of("format", ("rfc3164", "rfc5424"))
SELECTION = ValueType("selection", _selection)
