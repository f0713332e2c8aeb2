"""Rows that are addresses: time servers, resolvers."""

from __future__ import annotations

from collections.abc import Container

from ivrel.core.dialects.records import Key, Records


def addresses_of(records: Records, table: str) -> dict[str, tuple[int, ...]]:
    """The addresses of a table, and the lines that say them."""
    out = {}
    for row in records.rows(table).values():
        said = records.get(f"{table}.address", row)
        if said.value is not None:
            out[str(said.value)] = said.lines
    return out


def add_row(records: Records, table: str, address: str) -> Records:
    """The records with one address more, under the next number where rows have names."""
    key: Key = (address,)
    if records.dialect.keys[table] != (f"{table}.address",):
        used = [int(str(k[0])) for k in records.rows(table) if str(k[0]).isdigit()]
        key = (str(max(used, default=0) + 1),)
    return records.having(table, key, f"{table}.address", address)


def remove_rows(records: Records, table: str, addresses: Container[str]) -> Records:
    """The records without the rows of these addresses."""
    for key, row in records.rows(table).items():
        if str(records.get(f"{table}.address", row).value) in addresses:
            records = records.without(table, key)
    return records
