"""The dialog of a stand-in: what a device answers, by the `session:` of its platform's dialect."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from msgspec import Struct

from ivrel.core.dialects.session import SECONDS, WHOLE, Reply, Session
from ivrel.core.vocabulary.errors import InputError, Refused
from ivrel.standin.unit import Unit

# What prompts look like; the first that a dialect's pattern takes is the stand-in's.
_PROMPTS = ("{name}> ", "{name}# ", "[{name}] ", "{name} keeper$ ", "osier) ", ": ", "{name}$ ")


def prompt(session: Session, name: str) -> str:
    """Return the prompt of a device; InputError if the dialect has one that stand-ins lack."""
    for form in _PROMPTS:
        said = form.format(name=name)
        if re.search(session.prompt, said):
            return said
    raise InputError(f"no prompt of stand-ins is what the dialect takes for one: {session.prompt}")


def text_like(pattern: str) -> str:
    """Return a text that a pattern of a dialect is about; InputError if that is no single one."""
    text = re.sub(r"\\(\W)", r"\1", pattern.removeprefix("^").removesuffix("$"))
    if re.search(pattern, text):
        return text
    raise InputError(f"stand-ins say single texts, and no pattern of several: {pattern}")


class Answered(Struct, frozen=True):
    """What a device answers: a text, what it asks then, if anything (`hidden`: what is typed to
    that is not shown), and whether the session goes on.
    """

    said: bytes = b""
    goes_on: bool = True
    asks: str = ""
    hidden: bool = False


class Talker:
    """One session with a unit. `second`: the password that allows one to change things.

    What it cannot do it answers with an error, as a device does.
    """

    def __init__(self, unit: Unit, second: str = "") -> None:
        session = unit.dialect.session
        assert session is not None
        self._unit = unit
        self._said = session
        self.prompt = prompt(session, unit.device.name)
        self._second = second
        self._risen = session.rise is None
        # Takes what is typed to a question.
        self._replied: Callable[[str], bytes | None] | None = None
        self._ask = text_like(session.rise.ask) if session.rise is not None else ""
        self._questions = [(text_like(one.seen), one) for one in session.questions]
        first = session.errors[0] if session.errors else ""
        self._mark = re.sub(r"\\(.)", r"\1", first.lstrip("^"))
        self._draft: bytes | None = None  # the text that is being changed
        self._lines: list[str] = []  # of the change, as far as they were typed
        self._collects = False  # whether a text is being typed
        self._trial = [_with_seconds(line) for line in session.trial]
        self._commands: dict[str, Callable[[], bytes | None]] = {
            **dict.fromkeys((*session.start, session.leave, ""), lambda: None),
            session.show: self._show,
            **dict.fromkeys(filter(None, (self._shows_state,)), self._state),
            **dict.fromkeys(filter(None, (session.preview,)), self._drafted),
            **dict.fromkeys(session.open, self._open),
            **dict.fromkeys(session.check, self._check),
            **dict.fromkeys(session.hold, self._hold),
            **dict.fromkeys(session.keep, self._keep),
            **dict.fromkeys(session.drop, self._drop),
            **dict.fromkeys(session.save, self._save),
        }

    @property
    def in_text(self) -> bool:
        """Whether a text is being typed, to whose lines nothing is answered."""
        return self._collects

    def is_change(self, line: str) -> bool:
        """Whether a line is one of a change."""
        said = self._said
        word = line.strip()
        if self._collects or word in (*said.open, *said.check, *said.hold, *said.keep):
            return True
        if any(one.fullmatch(word) for one in self._trial):
            return True
        others = (
            said.show,
            self._shows_state,
            said.preview,
            said.leave,
            *said.start,
            *said.save,
            *said.drop,
            "",
            self._rises,
        )
        if self._replied is not None:
            return False
        return said.typed != WHOLE and word not in (*others, said.leave)

    def refused(self, line: str) -> Answered | None:
        """Return the answer to a line that the device refuses; None within a text, which is
        answered at its end.
        """
        if self._collects and line.strip() != self._said.end:
            return None
        self._collects = False
        self._lines = []
        return Answered(f"{self._mark}this is not possible now\n".encode())

    def ignored(self, line: str) -> Answered:
        """Return the answer of a device that ignores a line without saying so."""
        if self._collects and line.strip() == self._said.end:
            self._collects = False
            self._lines = []
        return Answered()

    def typed(self, line: str) -> Answered:
        """Return the answer of the device to a line."""
        takes = self._replied
        self._replied = None
        word = line.strip()
        try:
            if takes is not None:
                return Answered(takes(line) or b"")
            if word == self._rises and word and not self._risen:
                self._replied = self._rise
                return Answered(asks=self._ask, hidden=True)
            if word in self._asked_at and self._questions:
                asks, question = self._questions[0]
                self._replied = self._asked(word, question)
                return Answered(asks=asks)
            return Answered(self._answer(line) or b"", word != self._said.leave)
        except Refused as problem:
            return Answered(f"{self._mark}{problem}\n".encode())

    def _answer(self, line: str) -> bytes | None:
        said = self._said
        word = line.strip()
        if self._collects:
            if word != said.end:
                self._lines.append(line)
            else:
                self._collects = False
                self._whole()
        elif word in self._commands:
            return self._commands[word]()
        elif seconds := self._seconds(word):
            self._hold(seconds)
        elif said.typed == WHOLE or (said.open and self._draft is None):
            raise Refused("that is no command")
        else:
            self._one(line)
        return None

    @property
    def _rises(self) -> str:
        return "" if self._said.rise is None else self._said.rise.say

    @property
    def _asked_at(self) -> Sequence[str]:
        """The lines at which the questions of the dialect are asked: those that make a change
        last.
        """
        said = self._said
        return next((some for some in (said.save, said.keep, said.hold) if some), ())

    def _rise(self, word: str) -> None:
        if word != self._second:
            raise Refused("that is not the word")
        self._risen = True

    def _asked(self, command: str, question: Reply) -> Callable[[str], bytes | None]:
        def replied(line: str) -> bytes | None:
            if line.strip() != question.say.strip():
                raise Refused(f"'{command}' was not done")
            return self._answer(command)

        return replied

    def _show(self) -> bytes:
        text = self._unit.running
        return text if text.endswith(b"\n") else text + b"\n"

    @property
    def _shows_state(self) -> str:
        display = self._unit.dialect.display
        return "" if display is None else display.show

    def _state(self) -> bytes:
        return self._unit.displayed()

    def _open(self) -> None:
        self._may_change()
        self._draft = self._unit.running
        self._lines = []
        self._collects = self._said.typed == WHOLE

    def _check(self) -> None:
        self._drafted()

    def _hold(self, seconds: int = 0) -> None:
        self._unit.take(self._drafted(), seconds)
        self._draft = None
        self._lines = []

    def _keep(self) -> None:
        if not self._unit.confirm():
            raise Refused("nothing is on trial")

    def _save(self) -> None:
        self._unit.saved = self._unit.running
        self._lines = []

    def _seconds(self, word: str) -> int:
        found = next(filter(None, (one.fullmatch(word) for one in self._trial)), None)
        return int(found[1]) if found else 0

    def _whole(self) -> None:
        """Take a text that is complete: into the draft, or at once where there is none."""
        text = "".join(f"{line}\n" for line in self._lines)
        self._lines = []
        said = self._said
        unit = self._unit
        if not (said.hold or said.trial):
            unit.take(unit.changed(unit.running, text))
        else:
            self._draft = unit.changed(unit.running, text)

    def _may_change(self) -> None:
        if not self._risen:
            raise Refused("you may only look")

    def _one(self, line: str) -> None:
        """Take one line of a change: into the draft, or at once where there is none."""
        self._may_change()
        unit = self._unit
        if self._draft is None:
            unit.take(unit.changed(unit.running, f"{line}\n"))
            self._lines.append(line)
            return
        text = "".join(f"{one}\n" for one in [*self._lines, line])
        try:
            unit.changed(self._draft, text)
        except Refused as problem:
            # The header of a block is none before something is below it.
            if problem.line != len(self._lines) + 1 or not text.rstrip("\n").endswith(line):
                raise
            raise Refused(str(problem).partition(": ")[2] or str(problem), problem.line) from None
        self._lines.append(line)

    def _drafted(self) -> bytes:
        if self._draft is None:
            raise Refused("no change was begun")
        if self._said.typed == WHOLE:
            return self._draft
        return self._unit.changed(self._draft, "".join(f"{line}\n" for line in self._lines))

    def _drop(self) -> None:
        had = self._draft is not None
        self._draft = None
        self._lines = []
        if not self._unit.withdraw() and not had:
            raise Refused("there is nothing to give up")


def _with_seconds(line: str) -> re.Pattern[str]:
    head, _, tail = line.partition(SECONDS)
    return re.compile(f"{re.escape(head)}([0-9]+){re.escape(tail)}")
