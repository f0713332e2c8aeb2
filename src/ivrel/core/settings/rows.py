"""Rows that are addresses: time servers, resolvers."""

from __future__ import annotations

from collections.abc import Container, Mapping

from ivrel.core.policy.need import SetNeed
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Key


def is_number(word: object) -> bool:
    """Whether a word is a whole number in the digits 0 to 9, and not too long for one."""
    text = str(word)
    return text.isascii() and text.isdigit() and len(text) <= 12


def addresses_of(records: Records, table: str) -> dict[str, tuple[int, ...]]:
    """Return the addresses of a table, and the lines that say them."""
    out = {}
    for row in records.rows(table).values():
        said = records.get(f"{table}.address", row)
        if said.value is not None:
            out[str(said.value)] = said.lines
    return out


def differences(need: SetNeed, found: Mapping[str, object]) -> tuple[list[str], list[str]]:
    """Return the addresses that are missing, and those that must go."""
    gone = [
        a for a in found if a in need.never or (need.exactly is not None and a not in need.exactly)
    ]
    return [a for a in need.wanted if a not in found], gone


def with_rows(records: Records, table: str, need: SetNeed) -> Records:
    """Return the records with the addresses that are asked for, and without those that must go."""
    missing, gone = differences(need, addresses_of(records, table))
    for address in missing:
        records = add_row(records, table, address)
    return remove_rows(records, table, gone)


def add_row(records: Records, table: str, address: str) -> Records:
    """Return the records with one address more, under the next number where rows have names."""
    key: Key = (address,)
    if records.dialect.keys[table] != (f"{table}.address",):
        used = [int(str(k[0])) for k in records.rows(table) if is_number(k[0])]
        key = (str(max(used, default=0) + 1),)
    return records.having(table, key, f"{table}.address", address)


def remove_rows(records: Records, table: str, addresses: Container[str]) -> Records:
    """Return the records without the rows of these addresses."""
    for key, row in records.rows(table).items():
        if str(records.get(f"{table}.address", row).value) in addresses:
            records = records.without(table, key)
    return records
