"""The state of a listening session."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct


class ListenState(Struct, frozen=True):
    """The state of a listening session.

    `ways`: what it listens on, in words; `held`: bytes that the system holds of what is not read
    yet; `folder`: where recordings are kept, '' if nowhere; `senders`: messages by address;
    `dropped`: datagrams that the system dropped; `shortened`: messages that were too long; `cut`:
    messages within which their stream ended; `refused`, `ended`, `failed`: connections that were
    too many, idle, or without a handshake; `jumps`: how often the clock went back; `deleted`:
    recordings that went to keep within the limit; `others`: messages of senders that are too many
    to be counted one by one; `unkept`: messages that could not be kept.
    """

    ways: str
    held: int
    folder: str
    received: int
    senders: Mapping[str, int]
    dropped: int = 0
    shortened: int = 0
    cut: int = 0
    refused: int = 0
    ended: int = 0
    failed: int = 0
    jumps: int = 0
    deleted: int = 0
    others: int = 0
    unkept: int = 0
