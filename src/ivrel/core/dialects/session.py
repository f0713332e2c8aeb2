"""Sessions: how one talks to a device of a platform, as its dialect says.

Passes: `{prompt: '[\\w.-]+> $', show: print all, typed: lines, errors: ['^no: ']}`
Fails:  `{prompt: '['}` (not a regular expression)
"""

from __future__ import annotations

import codecs
import re
from typing import Any

from msgspec import Struct

from ivrel.core.form import Key, ListOf, MappingField, Node, Report, TextField
from ivrel.core.vocabulary.wording import shorten

LINES, WHOLE = "lines", "text"  # a change is typed line by line, or as one text
SECONDS = "{seconds}"
FILE = "{file}"


class Reply(Struct, frozen=True):
    """What is said to a question of a device; `seen`: what its last line then looks like."""

    seen: str
    say: str


class Rise(Struct, frozen=True):
    """How one gets the right to change things: what is typed, and what asks for a second
    password.
    """

    say: str
    ask: str


class Session(Struct, frozen=True):
    """What is typed to a device, and what it answers.

    `prompt`: what the last line looks like when the device waits; `errors`: the pattern of a line
    that reports an error; `start`: what is typed first, so that answers come as a whole; `show`:
    what prints the configuration; `aside`: lines of it that are no configuration; `rise`: how one
    gets the right to change things; `pages`: what goes on behind a full screen; `questions`: what
    is answered to others.

    A change: `open`, then its lines (`typed`), `end` behind them, `check`, and then `trial`, which
    holds for this many seconds unless `keep` confirms it, or else `hold`. `drop` gives up what was
    typed, and takes back what is on trial; `preview` prints what it would give. `save`: what makes
    the configuration outlast a restart.

    Of platforms whose configuration is files, `files` are those, main one first, and `check` is the
    command that says whether they are taken.
    """

    prompt: str = ""
    errors: tuple[str, ...] = ()
    start: tuple[str, ...] = ()
    show: str = ""
    aside: tuple[str, ...] = ()
    open: tuple[str, ...] = ()
    typed: str = LINES
    end: str = ""
    check: tuple[str, ...] = ()
    hold: tuple[str, ...] = ()
    trial: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    drop: tuple[str, ...] = ()
    save: tuple[str, ...] = ()
    preview: str = ""
    leave: str = ""
    encoding: str = "utf-8"
    files: tuple[str, ...] = ()
    rise: Rise | None = None
    pages: Reply | None = None
    questions: tuple[Reply, ...] = ()

    @property
    def is_talk(self) -> bool:
        """Whether words are typed, and not files replaced."""
        return bool(self.show)


def _pattern(text: str) -> str:
    try:
        re.compile(text)
    except re.error as problem:
        said = f"'{shorten(text)}' is not a regular expression: {problem}"
        raise ValueError(said) from None
    return text


def _encoding(text: str) -> str:
    try:
        return codecs.lookup(text).name
    except (LookupError, ValueError):
        said = f"'{shorten(text)}' is not an encoding; write for example latin-1"
        raise ValueError(said) from None


_TEXT = TextField("text")
_WORDS = ListOf(_TEXT, one_is_enough=True, filled=True)
_PATTERNS = ListOf(TextField("a regular expression", _pattern), one_is_enough=True, filled=True)


_SEEN = Key(TextField("a regular expression", _pattern), "what its last line looks like", must=True)
_REPLY = MappingField(
    "a question",
    {"seen": _SEEN, "say": Key(_TEXT, "what is typed then", must=True)},
    lambda at, **said: Reply(**said),
)
_RISE = MappingField(
    "a rise",
    {
        "say": Key(_TEXT, "what is typed to be allowed to change things", must=True),
        "ask": Key(
            TextField("a regular expression", _pattern),
            "what asks for the second password",
            must=True,
        ),
    },
    lambda at, **said: Rise(**said),
)


def _built(at: Node, **said: Any) -> tuple[Node, Session]:
    return at, Session(**said)


SESSION = MappingField(
    "a session",
    {
        "prompt": Key(
            TextField("a regular expression", _pattern), "the last line when the device waits"
        ),
        "errors": Key(_PATTERNS, "lines of an answer that tell of an error"),
        "start": Key(_WORDS, "what is typed first, so that long answers do not stop"),
        "show": Key(_TEXT, "what prints the configuration"),
        "aside": Key(_PATTERNS, "printed lines that are no configuration: the time, say"),
        "open": Key(_WORDS, "what opens a change"),
        "typed": Key(
            TextField("a way", choices=(LINES, WHOLE)),
            "a change is typed line by line, each answered, or as one text (default: lines)",
        ),
        "end": Key(_TEXT, "the line that ends a text"),
        "check": Key(
            _WORDS, "what has it checked; of files, the command, in which {file} is the main one"
        ),
        "hold": Key(_WORDS, "what makes it hold"),
        "trial": Key(
            _WORDS, "what makes it hold for {seconds}, unless it is confirmed in this time"
        ),
        "keep": Key(_WORDS, "what confirms it"),
        "drop": Key(_WORDS, "what gives up a change that is open or on trial"),
        "save": Key(_WORDS, "what makes it outlast a restart"),
        "preview": Key(_TEXT, "what prints the text that a change which is open would give"),
        "leave": Key(_TEXT, "what ends the session"),
        "encoding": Key(TextField("an encoding", _encoding), "of its texts (default: UTF-8)"),
        "files": Key(_WORDS, "of a platform whose configuration is files: these, or globs"),
        "rise": Key(_RISE, "how one is allowed to change things, with a second password"),
        "pages": Key(_REPLY, "what a full screen ends with, and the sign that goes on"),
        "questions": Key(
            ListOf(_REPLY, one_is_enough=True, filled=True), "other questions, and what is typed"
        ),
    },
    _built,
)


def checked(said: tuple[Node, Session] | None, report: Report) -> Session | None:
    """Return a session of a dialect; what it lacks goes to the report."""
    if said is None:
        return None
    node, session = said
    if not session.show and not session.files:
        report.add(node, "a session without 'show' or 'files'; expected how to read the device")
    if session.show and not session.prompt:
        report.add(node, "a session without 'prompt'; expected what the device's last line is")
    if session.trial and not session.keep:
        report.add(node, "'trial' without 'keep'; expected what confirms the change")
    if session.trial and not any(SECONDS in line for line in session.trial):
        report.add(node, f"'trial' names no {SECONDS}; expected how long the change holds")
    return session
