"""Listening for messages: kept in recordings, counted by sender, compared with what is expected."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from datetime import date
from pathlib import Path

from ivrel.core.attribution.messages import AttributedMessage
from ivrel.core.attribution.senders import Directory, attribute
from ivrel.core.evidence.expecting import Expected, Expecting
from ivrel.core.fleet import Device
from ivrel.core.syslog.listening import ListenState
from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.addresses import address
from ivrel.core.vocabulary.errors import InputError
from ivrel.sources.listening.keeping import RotationLimits
from ivrel.sources.listening.session import ListenOptions, ListenSession, in_words
from ivrel.sources.listening.sockets import ListenPort, tls_context
from ivrel.sources.workspace import WorkspaceFiles

__all__ = [
    "Expectation", "ListenOptions", "ListenState", "RotationLimits", "attributed_message",
    "listen", "listen_addresses", "listen_ports",
]  # fmt: skip


class Expectation:
    """Devices that should send messages.

    `quiet`: seconds at the start when none of them may send.
    """

    def __init__(
        self,
        files: WorkspaceFiles,
        devices: Sequence[Device],
        directory: Directory,
        today: date,
        quiet: float = 0.0,
    ) -> None:
        self._expecting = Expecting(devices, files.policy, directory, today)
        self._quiet = quiet
        self._begun = time.monotonic()
        self.early = ""  # a device that sent although it was to be quiet

    @property
    def states(self) -> Mapping[str, Expected]:
        """The state of each device."""
        return self._expecting.states

    @property
    def is_met(self) -> bool:
        """Whether every device was heard as the policy asks, and none too early."""
        return self._expecting.done and not self.early

    @property
    def ends(self) -> bool:
        """Whether there is nothing left to wait for."""
        return bool(self.early) or (not self._is_quiet and self._expecting.done)

    def take(self, record: Record) -> None:
        """Take a message as it arrives."""
        self._expecting.take(record)
        if self._is_quiet:
            sending = (name for name, one in self.states.items() if one.number)
            self.early = self.early or next(sending, "")

    @property
    def _is_quiet(self) -> bool:
        return time.monotonic() - self._begun < self._quiet


def listen(
    options: ListenOptions,
    *,
    certificate: str = "",
    key: str = "",
    clients: str = "",
    expectation: Expectation | None = None,
    heard: Callable[[Record], None] | None = None,
    looked: Callable[[ListenState], None] = lambda state: None,
    noticed: Callable[[str], None] = lambda said: None,
) -> ListenState:
    """Listen until the time or the number of messages is reached, or what is expected was heard.

    `certificate`, `key`, `clients`: files for TLS; `heard`: called with each message; `looked`:
    called now and then with the state; `noticed`: called with what goes wrong, as it happens.
    Return the state at the end.
    """
    if any(way.transport == "tls" for way in options.ways) != bool(certificate):
        raise InputError("--tls and --certificate belong together; give both or none")
    context = None
    if certificate:
        own, authority = (Path(name) if name else None for name in (key, clients))
        context = tls_context(Path(certificate), own, authority)

    def look(session: ListenSession) -> bool:
        looked(_state(session))
        return expectation is not None and expectation.ends

    taken = heard
    if taken is None and expectation is not None:
        taken = expectation.take
    session = ListenSession(options, context, taken, look, noticed)
    session.run()
    return _state(session)


def _state(session: ListenSession) -> ListenState:
    counts = session.counts
    keeper = session.keeper
    return ListenState(
        ways=in_words(session.ways),
        held=min(session.buffers, default=0),
        folder=str(session.asked.folder or ""),
        received=counts.received,
        senders=session.senders,
        dropped=counts.dropped,
        shortened=counts.shortened,
        cut=counts.cut,
        refused=counts.refused,
        ended=counts.ended,
        failed=counts.failed,
        jumps=session.jumps,
        deleted=keeper.deleted if keeper is not None else 0,
        others=session.others,
        unkept=keeper.unkept if keeper is not None else 0,
    )


def attributed_message(record: Record, directory: Directory) -> AttributedMessage:
    """Return a message that was just received, with the device that sent it."""
    return AttributedMessage(record, attribute(record, directory), record.received)


def listen_ports(
    udp: Sequence[int], tcp: Sequence[int], tls: Sequence[int]
) -> tuple[ListenPort, ...]:
    """Return the ports to listen on, with their transports."""
    by_transport = {"udp": udp, "tcp": tcp, "tls": tls}
    ports = []
    for transport, some in by_transport.items():
        ports += [ListenPort(transport, port) for port in some]
    return tuple(ports)


def listen_addresses(words: Sequence[str]) -> tuple[str, ...]:
    """Return the addresses to listen on, all of this machine if none is named."""
    try:
        return tuple(address(word) for word in words) or ("0.0.0.0", "::")
    except ValueError as problem:
        raise InputError(f"--on: {problem}") from None
