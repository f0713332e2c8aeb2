"""The change sheet: what goes to a change board, as data. What devices have alike is reported
once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date
from hashlib import sha256

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting import (
    CARRIED,
    PROPERTIES,
    TAKEN,
    Correction,
    CorrectionLine,
    NoLongerSent,
    OutageGap,
    Property,
    Remaining,
)
from ivrel.core.delivery import Wave
from ivrel.core.settings import SETTINGS
from ivrel.core.vocabulary.wording import counted
from ivrel.output.spool import Spool

_ANY = "device: ?,"  # stands in the text of a waiver for the name of a device


class BeforeAndAfter(Struct, frozen=True):
    """What a device says of a setting before and after the change, with the verdicts."""

    setting: str
    before: str
    after: str
    was: str
    becomes: str


class Section(Struct, frozen=True):
    """The report on one device, or on several whose change is the same to the letter."""

    platform: str
    changes: tuple[CorrectionLine, ...]
    turns: tuple[BeforeAndAfter, ...]
    change: str
    backout: str
    proof: tuple[Property, ...]
    gaps: tuple[OutageGap, ...]
    no_longer_sent: tuple[NoLongerSent, ...]
    remains: tuple[Remaining, ...]

    @property
    def proved(self) -> bool:
        """Whether every property of the proof holds."""
        return all(p.holds for p in self.proof)

    @property
    def failing(self) -> list[Property]:
        """The properties that do not hold."""
        return [p for p in self.proof if not p.holds]


class SheetMember(Struct, frozen=True):
    """A device that a section is about, and the fingerprint of the configuration at hand."""

    device: str
    fingerprint: str


class ChangeCounts(Struct):
    """How many lines the changes have, and what they do."""

    lines: int = 0
    added: int = 0
    replaced: int = 0
    removed: int = 0
    changed: int = 0
    proved: int = 0
    devices: int = 0

    def take(self, c: Correction) -> None:
        """Count one correction."""
        self.devices += 1
        if not c.changes:
            return
        self.changed += 1
        self.proved += c.proved
        self.lines += len(c.changes)
        self.removed += sum(1 for change in c.changes if change.removes)
        self.replaced += sum(1 for change in c.changes if change.replaces and not change.removes)
        self.added = self.lines - self.removed - self.replaced


class SheetSections:
    """Takes corrections one by one, and gives the sections of the sheet.

    They wait in a temporary file: memory holds the names of devices alone.
    """

    def __init__(self) -> None:
        self.counts = ChangeCounts()
        self.effects: dict[str, int] = {}  # by setting, the devices on which a line is about it
        self.asks: set[str] = set()
        self.taken: set[str] = set()  # the properties that were looked at
        self._gaps: dict[str, tuple[int, int]] = {}
        self._spool = Spool()
        self._known: dict[bytes, int] = {}
        self._members: list[tuple[bool, list[SheetMember]]] = []

    def take(self, c: Correction) -> None:
        """Take one correction; a device with nothing to report is only counted."""
        self.counts.take(c)
        if not c.changes and not c.remains:
            return
        if c.asks and c.changes:
            self.asks.add(c.asks)
        self.taken.update(p.name for p in c.proof)
        for name in dict.fromkeys(name for change in c.changes for name in change.settings):
            self.effects[name] = self.effects.get(name, 0) + 1
        for gap in c.gaps:
            number, most = self._gaps.get(gap.collector, (0, 0))
            self._gaps[gap.collector] = number + 1, max(most, gap.lines)
        section = msgspec.msgpack.encode(
            Section(
                c.platform,
                c.changes,
                turns(c),
                c.change,
                c.backout,
                c.proof,
                c.gaps,
                c.no_longer_sent,
                _for_any(c),
            )
        )
        key = sha256(section).digest()
        if key not in self._known:
            self._known[key] = self._spool.add(section)
            self._members.append((c.proved, []))
        self._members[self._known[key]][1].append(SheetMember(c.device, c.fingerprint))

    def __iter__(self) -> Iterator[tuple[Section, list[SheetMember]]]:
        """Yield the sections: what is not proved first, then what most devices have alike."""
        decoder = msgspec.msgpack.Decoder(Section)
        ranked = sorted(enumerate(self._members), key=lambda one: (one[1][0], -len(one[1][1])))
        for number, (_, members) in ranked:
            yield decoder.decode(self._spool[number]), members

    def alike(self) -> list[SheetMember]:
        """Return the devices that are reported together with others."""
        return [m for _, members in self._members if len(members) > 1 for m in members]

    def gaps(self) -> list[tuple[str, int, int]]:
        """Return the collectors that are not reached for some lines of a change: on how many
        devices, and for how many lines at most.
        """
        return [(name, number, most) for name, (number, most) in sorted(self._gaps.items())]

    def told(self) -> list[str]:
        """Return the properties that the proof has, in their order."""
        more = [name for name in (TAKEN, CARRIED) if name in self.taken]
        return [*PROPERTIES, *more]

    def elsewhere(self) -> list[tuple[str, str, int]]:
        """Return the settings that lines are about, what that brings about elsewhere, and on how
        many devices; the most first.
        """
        rows = [(name, SETTINGS[name].effect, n) for name, n in self.effects.items()]
        return sorted((row for row in rows if row[1]), key=lambda row: -row[2])


class SheetView(Struct, frozen=True):
    """The sheet as a whole. `policy`: its name and its file; `unread`: devices that could not be
    read, and why; `folder`: where the corrections are written.
    """

    fleet: str
    policy: tuple[str, str]
    today: date
    sections: SheetSections
    waves: tuple[Wave, ...] | None = None
    unread: tuple[tuple[str, str], ...] = ()
    folder: str = ""

    @property
    def lines(self) -> str:
        """How many lines there are, and what they do."""
        n = self.sections.counts
        return f"{n.lines:,}: {n.added:,} added, {n.replaced:,} replaced, {n.removed:,} removed"

    @property
    def wrong(self) -> list[str]:
        """What could go wrong, beginning with what is sure."""
        n = self.sections.counts
        out = []
        if n.proved < n.changed:
            left = n.changed - n.proved
            out.append(
                f"{left:,} of {n.changed:,} changes are not proved, and must not be sent as they "
                "are; they come first below."
            )
        for collector, devices, lines in self.sections.gaps():
            where = counted(devices, "device")
            long = counted(lines, "line")
            out.append(f"{collector} is not reached from {where} for up to {long} of a change.")
        asks = sorted(self.sections.asks)
        if asks and TAKEN not in self.sections.taken:
            out.append(
                f"{asks[0]} was not there to be asked whether it takes its configurations; on the "
                "device it says so."
            )
        out.append(
            "A device whose configuration is no longer the one with the fingerprint below: prove "
            f"again before anything is sent, by `ivrel correct --prove {self.folder or 'DIR'}`."
        )
        return out

    @property
    def back(self) -> str:
        """How it is taken back."""
        return (
            "Each device has a back-out beside its change, which was applied and read like the "
            "change itself: it brings back what the device said before. It is sent to one device, "
            "or to all of a wave, without regard to the others."
        )

    @property
    def day(self) -> str:
        """The day, as people write it."""
        return f"{self.today.day} {self.today:%B %Y}"


def turns(c: Correction) -> tuple[BeforeAndAfter, ...]:
    """Return the settings whose value differs after the change."""
    after = {v.setting: v for v in c.after.verdicts}
    out = []
    for v in c.before.verdicts:
        now = after.get(v.setting, v)
        if (v.found, v.verdict) != (now.found, now.verdict):
            out.append(
                BeforeAndAfter(v.setting, v.found or "-", now.found or "-", v.verdict, now.verdict)
            )
    return tuple(out)


def _for_any(c: Correction) -> tuple[Remaining, ...]:
    """Return the remaining verdicts, with waivers that do not name the device."""
    name = f"device: {c.device},"
    return tuple(replace(r, waiver=r.waiver.replace(name, _ANY, 1)) for r in c.remains)


def waivers(r: Remaining, members: Sequence[SheetMember]) -> list[str]:
    """Return the texts of waivers for what remains on some devices."""
    return [r.waiver.replace(_ANY, f"device: {m.device},", 1) for m in members] if r.waiver else []
