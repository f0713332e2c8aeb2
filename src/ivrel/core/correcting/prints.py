"""Fingerprints of configurations: is this still the one a correction was made for?"""

from __future__ import annotations

from hashlib import sha256

from ivrel.core.correcting.difference import adding, statements
from ivrel.core.reading.records import Records
from ivrel.core.text.words import Path


def fingerprint(data: bytes) -> str:
    """Return the SHA-256 of a configuration."""
    return sha256(data).hexdigest()


def print_of_statements(records: Records) -> str:
    """Return the SHA-256 of the statements of export settings, wherever they are: a text that is
    laid out again, or holds another stamp, has the same. Where their order says all, it counts.
    """
    shape = records.dialect.shape
    if shape.DERIVED:
        ordered = [
            b"\0".join((raw, *_encoded(path))) for path, raw, _ in shape.everything(records.text)
        ]
        return fingerprint(b"\n".join(ordered))
    join = shape.join
    added = set(adding(records))
    every = [
        "\0".join((*map(join, path), join(words)))
        for (path, words), times in statements(records, (), ()).items()
        for _ in range(times if (path, words) in added else 1)
    ]
    unparsed = [unparsed_line.text for unparsed_line in records.unparsed]
    return fingerprint("\n".join([*sorted(every), "", *sorted(unparsed)]).encode())


def _encoded(path: Path) -> list[bytes]:
    return [word.encode() for words in path for word in words]
