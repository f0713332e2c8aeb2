"""The errors that Ivrel raises, one tree, and mistakes in what the user gave.

IvrelError ├── InputError      the input or the call is wrong; all of its mistakes at once ├──
Unreadable      one configuration cannot be read; the other devices go on │   └── Foreign     it
holds nothing that the platform would say ├── Refused         a platform would not take a step of a
change ├── Undecided       what to write depends on the rest of the fleet, which is not known yet
└── Unreachable     a device cannot be reached, or stopped answering

The command line turns them into lines and exit codes in one place, `ivrel.cli.problems`.
"""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct


class Mistake(Struct, frozen=True):
    """One thing that is wrong with an input.

    `line` and `column` count from 1, 0 means not known.
    """

    file: str
    said: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        place = ":".join(str(part) for part in (self.file, self.line, self.column) if part)
        return f"{place}: {self.said}" if place else self.said


class IvrelError(Exception):
    """Whatever Ivrel raises on purpose."""


class InputError(IvrelError):
    """The input or the call is wrong.

    Carries every mistake that was found, in the order of the files.
    """

    def __init__(self, mistakes: Iterable[Mistake] | str) -> None:
        self.mistakes = (
            (Mistake("", mistakes),)
            if isinstance(mistakes, str)
            else tuple(sorted(mistakes, key=lambda m: (m.file, m.line, m.column)))
        )
        super().__init__("\n".join(str(m) for m in self.mistakes))


class Unreadable(IvrelError):
    """One configuration cannot be read."""


class Foreign(Unreadable):
    """A text holds nothing that the platform would say: it may be another platform's."""


class Refused(IvrelError):
    """A platform would not take a step of a change.

    `line`: that of the change, 0 if it has none.
    """

    def __init__(self, said: str, line: int = 0) -> None:
        super().__init__(said)
        self.line = line


class NotServed(Refused):
    """The files of a device are in place, and its service does not run with them.

    `hangs`: its restart does not end, and must not be begun a second time.
    """

    def __init__(self, said: str, *, hangs: bool = False) -> None:
        super().__init__(said)
        self.hangs = hangs


class Undecided(IvrelError):
    """What to write depends on what most of the fleet has, which is not known yet."""


class Unreachable(IvrelError):
    """A device cannot be reached, lets nobody in, or stopped answering."""
