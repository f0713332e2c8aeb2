"""Messages of RFC 5424: read whatever they hold, and written."""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec.structs import replace

from ivrel.core.syslog.message import RFC5424, Departure, Element, Message, Stamp
from ivrel.core.syslog.stamps import iso_departures, read_iso

BOM = "\ufeff"
# The fields behind the stamp, and how long each may be (section 6).
_FIELDS = (("HOSTNAME", 255), ("APP-NAME", 48), ("PROCID", 128), ("MSGID", 32))
MOST_SEQUENCE = 2147483647  # section 7.3.1
_VERSION = re.compile(r"([0-9]{1,3}) +(?=-(?: |$)|[0-9]{4}-[0-9]{2})")
_NAME = re.compile(r'( *)([^= \]"]{1,255})')
_PARAM = re.compile(r'( +)([^= \]"]{1,255})="((?:[^"\\]|\\.)*)"', re.DOTALL)
_END = re.compile(r"( *)\]")
_BARE = re.compile(r"(?<!\\)(?:\\\\)*\]")  # a bracket behind no backslash, or behind pairs of them
_ESCAPE = re.compile(r"\\(.)", re.DOTALL)


def begins(text: str, at: int) -> bool:
    """Whether a version and a stamp of RFC 5424 follow the PRI."""
    return _VERSION.match(text, at) is not None


def read(text: str, at: int, pri: int | None, departures: Sequence[Departure]) -> Message:
    """Return the message whose VERSION is at a place.

    `departures`: those that were found before it.
    """
    return _Reader(text, at, list(departures)).message(pri)


class _Reader:
    """Reads one message, field by field."""

    def __init__(self, text: str, at: int, departures: list[Departure]) -> None:
        self._text = text
        self._at = at
        self._departures = departures

    def message(self, pri: int | None) -> Message:
        found = _VERSION.match(self._text, self._at)
        if found is not None:
            self._at = found.end()
            if found[1] != "1":
                self._note("version", found[1])
        stamp = self._stamp()
        host, app, process, message_id = (self._field(*field) for field in _FIELDS)
        data = self._data()
        text = self._msg()
        sequence = _number(data, "meta", "sequenceId")
        if sequence is not None and not 1 <= sequence <= MOST_SEQUENCE:
            self._note("sequence-range", str(sequence))
        synchronised = _synchronised(data)
        if synchronised is not None and stamp.kind == "calendar":
            stamp = replace(stamp, synchronised=synchronised)
        return Message(
            RFC5424, pri, stamp, host, app, process, text, message_id, data, sequence,
            tuple(self._departures),
        )  # fmt: skip

    def _note(self, kind: str, found: str = "") -> None:
        self._departures.append(Departure(kind, found[:60]))

    def _word(self) -> str | None:
        """Take the text up to the next blank; None where the message has ended."""
        if self._text[self._at : self._at + 1] == " ":
            self._note("blanks")
            while self._text[self._at : self._at + 1] == " ":
                self._at += 1
        if self._at >= len(self._text):
            return None
        end = self._text.find(" ", self._at)
        end = len(self._text) if end < 0 else end
        word = self._text[self._at : end]
        self._at = end + 1
        return word

    def _stamp(self) -> Stamp:
        word = self._word()
        if word is None or word == "-":
            return Stamp()
        found = read_iso(word)
        if found is None or found[1] != len(word):
            self._note("stamp", word)
            return Stamp(text=word)
        stamp = found[0]
        self._departures += iso_departures(word, stamp)
        if "t" in word or "z" in word:
            self._note("stamp-case", word)
        if len(stamp.fraction) > 6:
            self._note("stamp-digits", word)
        if not stamp.zone:
            self._note("stamp-zone", word)
        elif word[-5] in "+-":
            self._note("stamp-offset", word)
        return stamp

    def _field(self, name: str, most: int) -> str | None:
        word = self._word()
        if word is None:
            self._note("no-field", name)
            return None
        if len(word) > most:
            self._note("long-field", f"{name} {word}")
        if not _is_printable_ascii(word):
            self._note("header-signs", f"{name} {word}")
        return None if word in ("-", "") else word

    def _data(self) -> tuple[Element, ...]:
        text = self._text
        if self._at >= len(text):
            self._note("no-data")
            return ()
        if text[self._at] == "-" and text[self._at + 1 : self._at + 2] in ("", " "):
            self._at += 1
            return ()
        out: list[Element] = []
        begun = self._at
        while text[self._at : self._at + 1] == "[":
            element = self._element()
            if element is None:
                # What cannot be read is text: nothing of the message is lost.
                self._note("data", text[self._at : self._at + 40])
                break
            if any(element.name == other.name for other in out):
                self._note("data-twice", element.name)
            out.append(element)
        if self._at == begun and not out and text[self._at] != "[":
            self._note("no-data")
        return tuple(out)

    def _element(self) -> Element | None:
        """Take one element; None, and nothing is taken, if it does not end."""
        text = self._text
        name = _NAME.match(text, self._at + 1)
        if name is None:
            return None
        at = name.end()
        params = []
        noted = []
        blanks = len(name[1])
        while found := _PARAM.match(text, at):
            value = found[3]
            at = found.end()
            blanks += len(found[1]) - 1
            if "]" in value and _BARE.search(value):
                noted.append(("data-bracket", value))
            if "\\" in value:
                if any(sign not in '"\\]' for sign in _ESCAPE.findall(value)):
                    noted.append(("data-escape", value))
                # Before any other sign, the backslash stands for itself (section 6.3.3).
                value = _ESCAPE.sub(lambda m: m[1] if m[1] in '"\\]' else m[0], value)
            params.append((found[2], value))
        end = _END.match(text, at)
        if end is None:
            return None
        self._at = end.end()
        if blanks + len(end[1]):
            noted.append(("data-blank", text[name.start() : self._at]))
        names = (name[2], *(key for key, _ in params))
        wrong = [said for said in names if len(said) > 32 or not _is_printable_ascii(said)]
        for kind, said in (*noted, *(("data-name", said) for said in wrong)):
            self._note(kind, said)
        return Element(name[2], tuple(params))

    def _msg(self) -> str:
        text = self._text
        if self._at >= len(text):
            return ""
        if text[self._at] == " ":
            self._at += 1
        else:
            self._note("joint")
        said = text[self._at :]
        return said.removeprefix(BOM)


def _is_printable_ascii(text: str) -> bool:
    return text.isascii() and text.isprintable()


def _number(data: Sequence[Element], name: str, param: str) -> int | None:
    """Return a number of the structured data; None if it is not said, or none."""
    for element in data:
        if element.name == name:
            said = element.get(param) or ""
            return int(said) if said.isascii() and said.isdigit() and len(said) < 11 else None
    return None


def _synchronised(data: Sequence[Element]) -> bool | None:
    """Return the state of the clock in `timeQuality` (section 7.1.2); None if it is not stated."""
    for element in data:
        if element.name == "timeQuality":
            return {"1": True, "0": False}.get(element.get("isSynced") or "")
    return None


def write(message: Message) -> bytes:
    """Return a message in the form of RFC 5424; fields that are None become NILVALUE.

    The text is written in UTF-8 behind a BOM, if it is not ASCII (section 6.4).

    >>> from ivrel.core.syslog import parse
    >>> write(parse(b"<165>1 2003-10-11T22:14:15.003Z - - - - - hello"))
    b'<165>1 2003-10-11T22:14:15.003Z - - - - - hello'
    """
    stamp = message.stamp
    when = "-"
    if stamp.kind == "calendar":
        fraction = f".{stamp.fraction}" if stamp.fraction else ""
        zone = "Z" if stamp.zone in ("", "+00:00") else stamp.zone
        when = (
            f"{stamp.year:04}-{stamp.month:02}-{stamp.day:02}T"
            f"{stamp.hour:02}:{stamp.minute:02}:{stamp.second:02}{fraction}{zone}"
        )
    fields = (message.host, message.app, message.process, message.message_id)
    data = "".join(_written(element) for element in message.data) or "-"
    head = " ".join([f"<{message.pri or 0}>1", when, *(field or "-" for field in fields), data])
    if not message.text:
        return head.encode()
    bom = "" if message.text.isascii() else BOM
    return f"{head} {bom}{message.text}".encode()


def _written(element: Element) -> str:
    params = (
        ' {}="{}"'.format(name, re.sub(r'(["\\\]])', r"\\\1", value))
        for name, value in element.params
    )
    return f"[{element.name}{''.join(params)}]"
