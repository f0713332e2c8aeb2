"""Selectors: `*.info;mail.none` as a selection, and back.

What a selector takes is what rsyslog computes: its parts work from left to right on a table of
facilities by severities; `!` takes away, `=` means one severity alone, `none` clears. rsyslog has
names for all facilities but 13 and 15; a number is an eighth of what it says.
"""

from __future__ import annotations

import re

from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES, Selection

SEVERITY_WORDS = ("emerg", "alert", "crit", "err", "warning", "notice", "info", "debug")
_SEVERITIES = {
    **{word: n for n, word in enumerate(SEVERITY_WORDS)},
    "panic": 0,
    "error": 3,
    "warn": 4,
}
_NAMED = {name: n for n, name in enumerate(FACILITIES) if name not in ("audit", "cron2")}
_FACILITIES = {**_NAMED, "security": 4}
NAMELESS = (13, 15)

_ROW = 0xFF


def severity_code(word: str) -> int | None:
    """Return the numerical code of a severity's name."""
    return _SEVERITIES.get(word.lower())


def facility_code(word: str) -> int | None:
    """Return the numerical code of a facility's name."""
    return _FACILITIES.get(word.lower())


def read_selector(text: str, *, called: bool = False) -> Selection:
    """Return the selection of a selector; ValueError if the daemon refuses it.

    `called`: it is given to `prifilt`, which takes nothing from a blank before a part on.

    >>> read_selector("*.err;kern.!=crit").describe()
    'through error; kern: emergency, alert, error'
    """
    rows = [0] * len(FACILITIES)
    rest = text
    while rest and not (called and rest[0] in " \t"):
        names, dot, said = rest.partition(".")
        found = re.match(r"([^,; \t]*)[,;]*", said)
        if not dot or not found:
            raise ValueError(text)
        negated, alone, word = re.fullmatch(r"(!?)(=?)(.*)", found[1], re.S).groups()  # type: ignore[union-attr]
        mask = _mask(word, bool(alone))
        for name in filter(None, re.split(r"[, ]+", names)):
            for n in _rows(name):
                rows[n] = (
                    _ROW * bool(negated)
                    if mask is None
                    else rows[n] & ~mask
                    if negated
                    else rows[n] | mask
                )
        rest = said[found.end() :]
    return Selection(sum(row << 8 * n for n, row in enumerate(rows)))


def _mask(word: str, alone: bool) -> int | None:
    """Return the severities that a word names; None for `none`."""
    if word.lower() == "none":
        return None
    if word == "*":
        return 0 if alone else _ROW  # the daemon takes `=*` for nothing
    code = int(word) if word.isascii() and word.isdigit() and len(word) < 3 else severity_code(word)
    if code is None:
        raise ValueError(word)
    return (1 << code if alone else (2 << code) - 1) & _ROW


def _rows(name: str) -> range:
    if "*" in name[:1]:
        return range(len(FACILITIES))
    if name == "mark":  # rsyslog's own marks: no facility that a message bears
        return range(0)
    code = (
        int(name) >> 3
        if name.isascii() and name.isdigit() and len(name) < 5
        else facility_code(name)
    )
    if code is None or code >= len(FACILITIES):
        raise ValueError(name)
    return range(code, code + 1)


def write_filter(selection: Selection) -> str:
    """Return a filter that takes a selection: a selector, or an `if` where one of the nameless
    facilities differs.
    """
    rows = [selection.bits >> 8 * n & _ROW for n in range(len(FACILITIES))]
    named = [row for n, row in enumerate(rows) if n not in NAMELESS]
    base = max(named, key=named.count)
    parts = _severities("*", base)
    for n, row in enumerate(rows):
        if row != base and n not in NAMELESS:
            parts += ([f"{FACILITIES[n]}.none"] if base else []) + _severities(FACILITIES[n], row)
    selector = ";".join(parts) or "*.none"
    odd = [n for n in NAMELESS if rows[n] != base]
    if not odd:
        return selector
    terms = [f'(prifilt("{selector}")' + "".join(f" and $syslogfacility != {n}" for n in odd) + ")"]
    for n in odd:
        codes = [f"$syslogseverity == {s}" for s in range(len(SEVERITIES)) if rows[n] >> s & 1]
        if codes:
            terms.append(f"($syslogfacility == {n} and ({' or '.join(codes)}))")
    return f"if {' or '.join(terms)} then"


def _severities(facility: str, row: int) -> list[str]:
    if not row:
        return []
    if row == _ROW:
        return [f"{facility}.*"]
    if not row & (row + 1):
        return [f"{facility}.{SEVERITY_WORDS[row.bit_length() - 1]}"]
    return [f"{facility}.={word}" for s, word in enumerate(SEVERITY_WORDS) if row >> s & 1]
