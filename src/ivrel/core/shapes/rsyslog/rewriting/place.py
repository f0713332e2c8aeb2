"""The place of what is new: a file or a part of the main file of its own, where it does what is
wanted.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import PurePosixPath

from ivrel.core.shapes.rsyslog.flow.model import Endpoint, Model
from ivrel.core.shapes.rsyslog.flow.whole import Read
from ivrel.core.shapes.rsyslog.rewriting.edit import OFF, is_changed, restored
from ivrel.core.shapes.rsyslog.rewriting.state import State, states_of
from ivrel.core.shapes.rsyslog.syntax.statements import Statement
from ivrel.core.text.bundle import MARK, pack, parts

DROP_IN = "export.conf"  # how the name of a file of corrections ends
FIRST = "00-export.conf"
BEGIN, END = "# export settings: begin", "# export settings: end"
_OPEN = ", behind a line without an end"  # which a back-out has to bring back
HEAD = "# What is forwarded. Each correction writes this file anew."


def is_own(statement: Statement) -> bool:
    """Whether a statement is where corrections write."""
    text = statement.source.whole
    at = statement.start
    return _is_drop_in(text) or text.rfind(BEGIN, 0, at) > text.rfind(END, 0, at)


def _is_drop_in(text: str) -> bool:
    """Whether a file is one of corrections.

    Its name alone, which anybody may choose, does not say so.
    """
    return text.startswith(HEAD)


def with_own(
    data: bytes, lines: Sequence[str], wanted: Mapping[Endpoint, State], read: Read
) -> bytes:
    """Return the text with these lines in the file of corrections, or in their part of the main
    file; `read` reads it as the daemon of the device does.

    Of all places that they could be in, the first where they do what is wanted.
    """
    first: bytes | None = None
    for tried in _places(data, lines, read):
        first = tried if first is None else first
        got = states_of(read(tried))
        if all(
            key in got and got[key].get("select") == state.get("select")
            for key, state in wanted.items()
        ):
            return tried
    return data if first is None else first


def _places(data: bytes, lines: Sequence[str], read: Read) -> Iterator[bytes]:
    texts = {p.name: p.text for p in parts(data)}
    model = read(data)
    main = model.main.name
    own = next((name for name, text in texts.items() if _is_drop_in(text)), "")
    block = BEGIN in texts[main]
    if not lines:
        if own:
            del texts[own]
        texts[main] = _without_block(texts[main])
        yield packed(data, texts)
        return
    said = "".join(line + "\n" for line in (HEAD, *lines))
    if own or (main and not block):
        folders = [
            str(PurePosixPath(p).parent)
            for p in model.includes
            if PurePosixPath(p).name in ("*.conf", "*")
        ]
        # Each place is tried by reading the whole text again; more than a few folders are hardly
        # worth it.
        for folder in dict.fromkeys(folders[:4]):
            for name in (own,) if own else dict.fromkeys((_behind_drops(model, folder), FIRST)):
                path = name if own else str(PurePosixPath(folder) / name)
                if own or path not in texts:  # nobody else's file is written over
                    yield packed(data, {**texts, path: said})
    text = _without_block(texts[main])
    model = read(packed(data, {**texts, main: text}))
    here = [s for s in model.statements if s.source.name == main]
    for s in here:
        # The default ruleset may be one with a body of its own.
        if (
            s.kind == "object"
            and s.name == "ruleset"
            and s.body
            and s.params["name"].value == _default_of(model)
        ):
            inside = text.rfind("\n", 0, s.body[0].start) + 1
            if inside > s.start:
                yield packed(data, {**texts, main: _inserted(text, inside, (BEGIN, *lines, END))})
    rulesets = (s.start for s in here if s.kind == "directive" and s.name == "ruleset")
    for at in dict.fromkeys((_behind(here), _before_rules(here), next(rulesets, 0), len(text))):
        at = len(text) if at is None else text.rfind("\n", 0, at) + 1
        yield packed(data, {**texts, main: _inserted(text, at, (BEGIN, *lines, END))})


def _default_of(model: Model) -> str | None:
    found = [s.text.split()[0] for s in model.statements if s.name == "defaultruleset" and s.text]
    return found[-1] if found else None


def _behind_drops(model: Model, folder: str) -> str:
    """Return the name of a file that comes right behind the files which only drop messages for
    their text.
    """
    files: dict[str, list[Statement]] = {}
    for s in model.statements:
        if s.acts and str(PurePosixPath(s.source.name).parent) == folder:
            files.setdefault(s.source.name, []).append(s)
    last = ""
    for name in sorted(files):
        if not all(_drops_by_text(s) for s in files[name]):
            break
        last = PurePosixPath(name).name
    return f"{last.removesuffix('.conf')}.{DROP_IN}" if last.endswith(".conf") else FIRST


def _drops_by_text(s: Statement) -> bool:
    """Whether a rule does nothing but drop messages, and not for their facility or severity
    alone.
    """
    only = [inner for inner in s.body if inner.acts]
    named = s.name in ("property", "if") and not s.other
    if not (s.kind == "rule" and named and len(only) == 1 and only[0].kind == "stop"):
        return False
    return bool(
        re.search(r"(?<![a-z-])(?:raw)?msg\b|syslogtag|programname|app-name|procid", s.raw, re.I)
    )


def _behind(statements: Sequence[Statement]) -> int | None:
    """Return where the rules end, at the beginning of a file, that only drop messages for their
    text.
    """
    return _before_rules([s for s in statements if not _drops_by_text(s)])


def _before_rules(rules: Sequence[Statement]) -> int | None:
    """Return the place of the first rule, or of the first directive that concerns it alone."""
    at = next((n for n, s in enumerate(rules) if s.kind not in ("directive", "object")), None)
    if at is None:
        return None
    while at and rules[at - 1].kind == "directive" and rules[at - 1].name.startswith("action"):
        at -= 1
    return rules[at].start


def _without_block(text: str) -> str:
    text = re.sub(rf"\n{BEGIN}{_OPEN}\n(?:.*\n)*?{END}\n", "", text)
    return re.sub(rf"^{BEGIN}\n(?:.*\n)*?{END}\n", "", text, flags=re.M)


def _inserted(text: str, at: int, lines: Sequence[str]) -> str:
    """Return the text with a block of lines before a place."""
    # Lines that are commented out belong to the rules behind them.
    above = text[:at].split("\n")
    while len(above) > 1 and is_changed(above[-2]):
        above.pop(-2)
    at = min(at, len("\n".join(above)))
    said = "".join(line + "\n" for line in lines)
    if text[:at] and not text[:at].endswith("\n"):
        said = f"\n{said.replace(BEGIN, BEGIN + _OPEN, 1)}"
    return text[:at] + said + text[at:]


def taken_back(data: bytes) -> bytes:
    """Return the text as it was before all corrections."""
    if not any(mark.encode() in data for mark in (OFF, BEGIN, HEAD)):
        return data
    files: dict[str, str] = {}
    for part in parts(data):
        text = part.text
        if not _is_drop_in(text):
            files[part.name] = restored(_without_block(text))
    return packed(data, files)


def packed(data: bytes, files: Mapping[str, str]) -> bytes:
    """These files as one configuration, packed as another is."""
    encoded = {name: text.encode("utf-8", "surrogateescape") for name, text in files.items()}
    if not data.startswith(MARK):
        return encoded[""]
    # Files keep their order; new ones come behind.
    order = [p.name for p in parts(data)]
    return pack({name: encoded[name] for name in (*[n for n in order if n in encoded], *encoded)})
