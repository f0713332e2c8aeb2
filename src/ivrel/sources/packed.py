"""Compressed files: gzip, xz and zstd, told by their first bytes."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import Any

from msgspec import Struct

from ivrel.core.vocabulary.errors import Unreadable

MIB = 1024 * 1024


class SizeLimits(Struct, frozen=True):
    """How large a configuration may be, in bytes: `largest` unpacked, `longest_line` a line."""

    largest: int = 64 * MIB
    longest_line: int = MIB


LIMITS = SizeLimits()

ENDINGS = (".gz", ".xz", ".zst")


def _gzip(data: bytes) -> Any:
    import gzip

    return gzip.GzipFile(fileobj=io.BytesIO(data))


def _xz(data: bytes) -> Any:
    import lzma

    return lzma.LZMAFile(io.BytesIO(data))


def _zstd(data: bytes) -> Any:
    import zstandard

    return io.BufferedReader(
        zstandard.ZstdDecompressor().stream_reader(io.BytesIO(data), read_across_frames=True)
    )


def _to_gzip(data: bytes) -> bytes:
    import gzip

    return gzip.compress(data, mtime=0)


def _to_xz(data: bytes) -> bytes:
    import lzma

    return lzma.compress(data)


def _to_zstd(data: bytes) -> bytes:
    import zstandard

    return zstandard.ZstdCompressor().compress(data)


# RFC 1952 section 2.3.1; the .xz file format, section 2.1.1.1; RFC 8878 section 3.1.1.
_KINDS: dict[bytes, tuple[str, Callable[[bytes], Any], Callable[[bytes], bytes]]] = {
    b"\x1f\x8b": ("gzip", _gzip, _to_gzip),
    b"\xfd7zXZ\x00": ("xz", _xz, _to_xz),
    b"\x28\xb5\x2f\xfd": ("zstd", _zstd, _to_zstd),
}


_MAGICS = tuple(_KINDS)


def unpacked(data: bytes, shown: str, limits: SizeLimits = LIMITS) -> bytes:
    """Return the text of a file that may be compressed.

    Unreadable if what is compressed is damaged or too long.
    """
    if not data.startswith(_MAGICS):
        return data
    for magic, (name, opened, _) in _KINDS.items():
        if data.startswith(magic):
            try:
                with opened(data) as file:
                    text = file.read(limits.largest + 1)
            except Exception as problem:  # each library has errors of its own
                said = str(problem).strip().rstrip(".").lower() or type(problem).__name__
                raise Unreadable(f"{shown}: damaged {name} file: {said}") from None
            if name == "zstd" and not _whole(data, limits.largest):
                raise Unreadable(f"{shown}: damaged zstd file: it ends too early")
            return bytes(text)
    return data


def packed_like(like: bytes, data: bytes) -> bytes:
    r"""Return bytes, compressed as others are; as they are, if those are not compressed.

    >>> packed_like(b"plain", b"text")
    b'text'
    >>> unpacked(packed_like(b"\x1f\x8b", b"text"), "x")
    b'text'
    """
    pack = next((pack for magic, (_, _, pack) in _KINDS.items() if like.startswith(magic)), None)
    return data if pack is None else pack(data)


def _whole(data: bytes, largest: int) -> bool:
    """Whether a zstd file ends where its last frame does: the stream reader does not tell."""
    import zstandard

    rest = data
    while rest:
        frame = zstandard.ZstdDecompressor().decompressobj()
        size = 0
        for at in range(0, len(rest), 1 << 16):
            size += len(frame.decompress(rest[at : at + (1 << 16)])) if not frame.eof else 0
            if frame.eof:
                rest = frame.unused_data + rest[at + (1 << 16) :]
                break
            if size > largest:
                return True
        else:
            return False
    return True
