"""Listening on a terminal: who speaks, while it goes on; and what it came to."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

from rich.console import Console, Group
from rich.live import Live
from rich.table import Table

from ivrel.core.vocabulary.wording import counted, plain
from ivrel.output.terminal.screen import Cell, table

if TYPE_CHECKING:
    from ivrel.core.attribution.senders import Directory
    from ivrel.core.evidence.expecting import Expected
    from ivrel.core.syslog.listening import ListenState

_RANK = ("contradicted", "waiting", "heard")
ROWS = 20  # senders that are shown, those first who spoke last


class Screen:
    """A table of senders on standard error, if that is a terminal; drawn again at each look."""

    def __init__(self, directory: Directory, live: bool, columns: int) -> None:
        self._directory = directory
        self._names = dict[str, str]()
        self._before: dict[str, int] = {}
        self._spoke: dict[str, float] = {}
        self._begun = time.monotonic()
        self._live: Live | None = None
        self._is_told = False
        if live and sys.stderr.isatty():
            screen = Console(stderr=True, width=columns, highlight=False, emoji=False, markup=False)
            self._live = Live(console=screen, auto_refresh=False, transient=True)
            self._live.start()

    def look(self, heard: ListenState, states: Iterable[Expected] = ()) -> None:
        """Draw what was heard so far, and the state of what is expected.

        Where it listens is reported once.
        """
        if not self._is_told and heard.ways:
            self._is_told = True
            print(begun(heard), file=sys.stderr, flush=True)
        if self._live is not None:
            self._live.update(self._drawn(heard, list(states)), refresh=True)

    def notice(self, said: str) -> None:
        """Print what goes wrong, as it happens, above the table."""
        if self._live is not None:
            self._live.console.print(Cell(plain(said), "yellow"))
        else:
            print(f"ivrel: {plain(said)}", file=sys.stderr, flush=True)

    def end(self) -> None:
        """Take the table away."""
        if self._live is not None:
            self._live.stop()

    def _drawn(self, heard: ListenState, states: Sequence[Expected]) -> Group:
        now = time.monotonic()
        if states:
            return Group(*(Cell(one) for one in expected(states)))
        for sender, number in heard.senders.items():
            if number != self._before.get(sender):
                self._spoke[sender] = now
        latest = sorted(self._spoke, key=lambda sender: -self._spoke[sender])[:ROWS]
        grid: Table = table("sender", "device", "messages", "spoke")
        grid.columns[2].justify = grid.columns[3].justify = "right"
        for sender in latest:
            ago = now - self._spoke[sender]
            when = Cell("now", "green") if ago < 1 else Cell(f"{ago:,.0f} s ago", "dim")
            grid.add_row(Cell(sender), Cell(self._name(sender)), f"{heard.senders[sender]:,}", when)
        self._before = dict(heard.senders)
        received = heard.received
        seconds = max(now - self._begun, 0.1)
        said = f"{counted(received, 'message')} of {counted(len(heard.senders), 'sender')}"
        rate = f"  {received / seconds:,.0f} a second"
        lost = f"  {heard.dropped:,} lost" if heard.dropped else ""
        parts = (said, (rate, "dim"), (lost, "bold red"), ("  Ctrl-C ends it", "dim"))
        return Group(Cell.assemble(*parts), Cell(""), grid)

    def _name(self, sender: str) -> str:
        if sender not in self._names:
            found = self._directory.with_address(sender)
            names = " or ".join(name for name, _ in found)
            relay = self._directory.relay(sender)
            self._names[sender] = f"relay {relay}" if relay else names or "-"
        return self._names[sender]


def expected(states: Iterable[Expected]) -> Iterator[str]:
    """Yield the state of what is expected, first the devices that are not heard yet."""
    ranked = sorted(states, key=lambda one: (_RANK.index(one.state), one.device))
    longest = max((len(one.device) for one in ranked), default=0)
    for one in ranked[:ROWS]:
        why = "; ".join(f"{c.setting}: {c.why}" for c in one.against)
        said = why or (counted(one.number, "message") if one.number else "nothing yet")
        yield f"{one.device.ljust(longest)}  {one.state.ljust(12)}  {said}"
    if len(ranked) > ROWS:
        yield f"and {len(ranked) - ROWS} more devices"
    heard = sum(1 for one in ranked if one.state == "heard")
    yield f"{heard} of {counted(len(ranked), 'device')} heard as the policy asks"


def begun(heard: ListenState) -> str:
    """Return where a session listens, and how much the system holds of what is not read yet."""
    held = f"; the system holds {heard.held // 1024:,} KiB" if heard.held else ""
    kept = f"recordings in {heard.folder}" if heard.folder else "nothing is kept"
    return f"listening on {heard.ways}{held}; {kept}"


def told(heard: ListenState) -> Iterator[str]:
    """Yield what a session came to, a line each."""
    yield (
        f"{counted(heard.received, 'message')} of {counted(len(heard.senders), 'sender')}, "
        f"{heard.dropped:,} dropped by the system"
    )
    for number, what, said in (
        (heard.others, "message", "of senders beyond these"),
        (heard.shortened, "message", "too long, and cut"),
        (heard.cut, "message", "cut off by the end of a stream"),
        (heard.unkept, "message", "not kept: the recording could not be written"),
        (heard.refused, "connection", "refused: too many at once"),
        (heard.ended, "idle connection", "ended, to make room for others"),
        (heard.failed, "connection", "failed, as a handshake of TLS does"),
        (heard.deleted, "recording", "deleted, to keep within --most-disk"),
    ):
        if number:
            yield f"{counted(number, what)} {said}"
    if heard.jumps:
        yield f"the clock went back {heard.jumps} times; times of receipt are not in order"
