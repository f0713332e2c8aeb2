"""Severities, facilities and selections of both.

A selection is a table of 24 facilities by 8 severities that may leave for one destination, held as
one integer, so that comparing selections is set arithmetic and every hole has a name.

>>> (through("warning") - single("critical")).describe()
'emergency, alert, error, warning'
>>> describe_gap(through("warning"), through("warning") - single("critical"))
'critical'
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import lru_cache

from msgspec import Struct

# RFC 5424 section 6.2.1, table 2; the index is the numerical code, 0 the most urgent.
SEVERITIES = (
    "emergency",
    "alert",
    "critical",
    "error",
    "warning",
    "notice",
    "informational",
    "debug",
)

# RFC 5424 section 6.2.1, table 1, by the names that RFC 9742 gives them; the index is the numerical
# code.
FACILITIES = (
    *(
        "kern",
        "user",
        "mail",
        "daemon",
        "auth",
        "syslog",
        "lpr",
        "news",
        "uucp",
        "cron",
        "authpriv",
        "ftp",
    ),
    *("ntp", "audit", "console", "cron2"),
    *(f"local{n}" for n in range(8)),
)

_ALL = (1 << (len(FACILITIES) * 8)) - 1
_EVERY_FACILITY = sum(1 << (8 * f) for f in range(len(FACILITIES)))


class Selection(Struct, frozen=True, gc=False):
    """Which facilities and severities may leave: bit `facility * 8 + severity` is set for each
    pair.
    """

    bits: int = 0

    def __or__(self, other: Selection) -> Selection:
        return Selection(self.bits | other.bits)

    def __and__(self, other: Selection) -> Selection:
        return Selection(self.bits & other.bits)

    def __sub__(self, other: Selection) -> Selection:
        return Selection(self.bits & ~other.bits)

    def __le__(self, other: Selection) -> bool:
        return not self.bits & ~other.bits

    def __bool__(self) -> bool:
        return self.bits != 0

    def __contains__(self, pair: tuple[str, str]) -> bool:
        facility, severity = pair
        return bool(self.bits >> (FACILITIES.index(facility) * 8 + SEVERITIES.index(severity)) & 1)

    def describe(self) -> str:
        """Return the selection in words: 'through warning', 'error, warning', 'nothing', or
        facility by facility.
        """
        return _describe(self.bits)

    @property
    def word(self) -> str:
        """The selection in one word: `all:through-informational;kern:none;mail:error,critical`."""
        return _word(self.bits)


EVERYTHING = Selection(_ALL)
NOTHING = Selection(0)


def _rows(facilities: Iterable[str] | None) -> int:
    if facilities is None:
        return _EVERY_FACILITY
    return sum(1 << (8 * FACILITIES.index(f)) for f in set(facilities))


def through(severity: str, facilities: Iterable[str] | None = None) -> Selection:
    """Return the threshold: `severity` and everything more urgent, for all facilities or those
    given.

    >>> through("error").word
    'all:through-error'
    >>> through("error", ["local4"]).word
    'all:none;local4:through-error'
    """
    return Selection(_rows(facilities) * ((2 << SEVERITIES.index(severity)) - 1))


def least_urgent(selection: Selection) -> int:
    """Return the number of the least urgent severity of a selection; -1 if it is empty.

    >>> least_urgent(through("notice"))
    5
    """
    rows = 0
    for place in range(0, len(FACILITIES) * 8, 8):
        rows |= selection.bits >> place & 255
    return rows.bit_length() - 1


def single(severity: str, facilities: Iterable[str] | None = None) -> Selection:
    """Return one severity alone, for all facilities or those given.

    >>> single("notice", ["local4"]).word
    'all:none;local4:notice'
    """
    return Selection(_rows(facilities) << SEVERITIES.index(severity))


def holes(selection: Selection) -> Selection:
    """Return the severities that are missing although less urgent ones of the same facility are
    sent.

    >>> holes(through("notice", ["local4"]) - single("error", ["local4"])).word
    'all:none;local4:error'
    """
    return _holes(selection.bits)


@lru_cache(maxsize=4096)
def _holes(bits: int) -> Selection:
    out = 0
    for f in range(len(FACILITIES)):
        row = bits >> (8 * f) & 0xFF
        # All bits below the highest that is set, less those that are set.
        out |= ((1 << row.bit_length()) - 1 & ~row) << (8 * f)
    return Selection(out)


@lru_cache(maxsize=4096)
def thresholds(selection: Selection) -> frozenset[str]:
    """Return the thresholds of all facilities; 'none' if nothing of one is sent.

    A facility with a hole has no threshold, and gives none.

    >>> sorted(thresholds(through("warning") | through("debug", ["auth"])))
    ['debug', 'warning']
    """
    rows = {selection.bits >> (8 * f) & 0xFF for f in range(len(FACILITIES))}
    return frozenset(_threshold_of(row) for row in rows if not row & (row + 1))


def _threshold_of(row: int) -> str:
    return SEVERITIES[row.bit_length() - 1] if row else "none"


def adjusted(selection: Selection, accepts: Callable[[str], bool], wanted: str) -> Selection:
    """Return a selection with another threshold for each facility whose own is not accepted.

    >>> adjusted(through("debug", ["auth"]), lambda word: word == "none", "none").describe()
    'nothing'
    """
    new = 0 if wanted == "none" else (2 << SEVERITIES.index(wanted)) - 1
    bits = 0
    for f in range(len(FACILITIES)):
        row = selection.bits >> (8 * f) & 0xFF
        fits = not row & (row + 1) and accepts(_threshold_of(row))
        bits |= (row if fits else new) << (8 * f)
    return Selection(bits)


def by_threshold(selection: Selection) -> dict[str, list[str]]:
    """Return the facilities of each threshold, without those that nothing is sent of; of a facility
    with a hole, that of the least urgent severity.

    >>> by_threshold(through("error", ["local4", "local5"]))
    {'error': ['local4', 'local5']}
    """
    out: dict[str, list[str]] = {}
    for row, names in _by_row(selection.bits).items():
        if row:
            out.setdefault(_threshold_of(row), []).extend(names)
    return out


def selection_of(word: str) -> Selection:
    """Return the selection that a word says; ValueError if it says none.

    >>> selection_of("all:through-warning;kern:none").describe()
    'through warning; kern: nothing'
    """
    rows = [0] * len(FACILITIES)
    for part in word.split(";"):
        names, _, said = part.partition(":")
        row = 0 if said == "none" else sum({_row_of(severity) for severity in said.split(",")})
        for n in (
            range(len(FACILITIES)) if names == "all" else map(FACILITIES.index, names.split(","))
        ):
            rows[n] = row
    return Selection(sum(row << (8 * n) for n, row in enumerate(rows)))


def _row_of(word: str) -> int:
    last = word.removeprefix("through-")
    return (2 << SEVERITIES.index(last)) - 1 if last != word else 1 << SEVERITIES.index(word)


def describe_gap(whole: Selection, part: Selection) -> str:
    """Return the difference between `whole` and `part`, by severity, with the facilities where they
    differ.

    >>> describe_gap(through("notice", ["local4"]), through("error", ["local4"]))
    'warning, notice of local4'
    """
    return _describe_set((whole - part).bits)


def _names(row: int) -> tuple[str, ...]:
    return tuple(name for s, name in enumerate(SEVERITIES) if row >> s & 1)


def _by_row(bits: int) -> dict[int, list[str]]:
    rows: dict[int, list[str]] = {}
    for f, name in enumerate(FACILITIES):
        rows.setdefault(bits >> (8 * f) & 0xFF, []).append(name)
    return rows


@lru_cache(maxsize=4096)
def _describe_set(bits: int) -> str:
    rows = _by_row(bits)
    if len(rows) == 1:
        return ", ".join(_names(bits & 0xFF)) or "nothing"
    return "; ".join(
        f"{', '.join(_names(row))} of {_facilities(names)}" for row, names in rows.items() if row
    )


@lru_cache(maxsize=4096)
def _describe(bits: int) -> str:
    rows = _by_row(bits)
    if len(rows) == 1:
        return _describe_row(bits & 0xFF)
    rest = max(rows, key=lambda row: len(rows[row]))
    odd = (
        f"{_facilities(names)}: {_describe_row(row)}" for row, names in rows.items() if row != rest
    )
    return "; ".join([_describe_row(rest), *odd])


@lru_cache(maxsize=4096)
def _word(bits: int) -> str:
    rows = _by_row(bits)
    # What most facilities have is said first, the odd ones after it.
    rest = max(rows, key=lambda row: len(rows[row]))
    odd = (f"{','.join(names)}:{_row_word(row)}" for row, names in rows.items() if row != rest)
    return ";".join([f"all:{_row_word(rest)}", *odd])


def _row_word(row: int) -> str:
    return (
        _describe_row(row)
        .replace("nothing", "none")
        .replace("through ", "through-")
        .replace(", ", ",")
    )


def _describe_row(row: int) -> str:
    if not row:
        return "nothing"
    if not row & (row + 1):
        return f"through {SEVERITIES[row.bit_length() - 1]}"
    return ", ".join(_names(row))


def _facilities(names: list[str]) -> str:
    if len(names) > 4:
        return f"{names[0]}, {names[1]} and {len(names) - 2} more facilities"
    return ", ".join(names)
