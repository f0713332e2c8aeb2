"""The formats of records: how a line of each becomes a message with how it came.

`recording`  what Ivrel keeps itself, see `ivrel.core.syslog.record`
`json`       an object a line, with the property names of rsyslog (rawmsg, timegenerated, …)
`lines`      messages as they are, with PRI or without: what collectors write into files
"""

from __future__ import annotations

import re
from base64 import b64decode
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from ivrel.core.syslog import RFC3164, Message, Stamp, moment, parse
from ivrel.core.syslog.record import Record
from ivrel.core.syslog.stamps import read_stamp
from ivrel.core.vocabulary.addresses import address
from ivrel.core.vocabulary.errors import InputError
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES
from ivrel.core.vocabulary.wording import not_one_of

# Gives the record of a line; ValueError if it is none. `near`: when the file was written last.
Read = Callable[[bytes, str, int, datetime], Record]


def read_line(data: bytes, file: str, line: int, near: datetime) -> Record:
    """Return the record of a line that is a message and nothing else."""
    return Record(parse(data), data, file, line)


def read_kept(data: bytes, file: str, line: int, near: datetime) -> Record:
    """Return the record of a line of a recording."""
    said = _object(data)
    raw = b64decode(said["base64"]) if "base64" in said else str(said.get("text", "")).encode()
    return Record(
        parse(raw), raw, file, line,
        _time(said.get("received"), near), _address(said.get("sender")), _port(said.get("port")),
        said.get("transport"), said.get("framing"), is_cut=bool(said.get("cut")),
    )  # fmt: skip


def read_json(data: bytes, file: str, line: int, near: datetime) -> Record:
    """Return the record of an object with property names of rsyslog.

    Where the message as it came is there (`rawmsg`), that is read.
    """
    said = _object(data)
    raw = said.get("rawmsg")
    received = _time(said.get("timegenerated"), near)
    sender = _address(said.get("fromhost-ip") or said.get("fromhost"))
    if isinstance(raw, str):
        return Record(parse(raw.encode()), raw.encode(), file, line, received, sender)
    return Record(_message(said), data, file, line, received, sender)


def _message(said: Mapping[str, Any]) -> Message:
    """Return the message with these properties."""
    stamp = Stamp()
    tag = str(said.get("syslogtag") or said.get("programname") or "")
    found = read_stamp(str(said.get("timereported") or said.get("timestamp") or ""))
    if found is not None:
        stamp = found[0]
    name = re.match(r"([^\[\]:]+)(?:\[([^\]]*)\])?", tag)
    return Message(
        RFC3164, _pri(said), stamp,
        _word(said.get("hostname")), _word(said.get("app-name")) or (name[1] if name else None),
        _word(said.get("procid")) or (name[2] if name else None), str(said.get("msg", "")).lstrip(),
        _word(said.get("msgid")),
    )  # fmt: skip


def _pri(said: Mapping[str, Any]) -> int | None:
    pri = said.get("pri")
    if isinstance(pri, int | str) and str(pri).isdecimal() and int(pri) <= 191:
        return int(pri)
    facility = _code(said, "syslogfacility", FACILITIES)
    severity = _code(said, "syslogseverity", SEVERITIES)
    return None if facility is None or severity is None else facility * 8 + severity


_SHORT = {"emerg": "emergency", "crit": "critical", "err": "error", "warn": "warning",
          "info": "informational"}  # fmt: skip


def _code(said: Mapping[str, Any], name: str, words: tuple[str, ...]) -> int | None:
    code = str(said.get(name, ""))
    if code.isdecimal() and int(code) < len(words):
        return int(code)
    word = str(said.get(f"{name}-text", code))
    word = _SHORT.get(word, word)
    return words.index(word) if word in words else None


def _word(value: Any) -> str | None:
    return None if value in (None, "", "-") else str(value)


def _object(data: bytes) -> dict[str, Any]:
    try:
        said = msgspec.json.decode(data)
    except (msgspec.DecodeError, UnicodeDecodeError) as problem:
        raise ValueError(f"not JSON: {problem}") from None
    if not isinstance(said, dict):
        raise ValueError("not a JSON object")
    return said


def _time(said: Any, near: datetime) -> datetime | None:
    found = read_stamp(str(said)) if said else None
    return moment(found[0], near, UTC) if found is not None else None


def _address(said: Any) -> str | None:
    try:
        return address(str(said)) if said else None
    except ValueError:
        return None


def _port(said: Any) -> int | None:
    return said if isinstance(said, int) and 0 < said < 65536 else None


FORMATS: Mapping[str, Read] = {"recording": read_kept, "json": read_json, "lines": read_line}


def recognised(data: bytes) -> str:
    """Return the format of a file that begins with these lines, as a row of FORMATS."""
    first = data.lstrip().partition(b"\n")[0]
    if first[:1] == b"{":
        try:
            said = _object(first)
        except ValueError:
            return "lines"
        return "recording" if {"text", "base64"} & said.keys() else "json"
    return "lines"


# What a user's own line format may name, and what is in its place.
_FIELDS = {
    "received": r"\S+(?: [0-9:.]+)?",
    "sender": r"[0-9A-Fa-f.:]+",
    "port": r"[0-9]+",
    "transport": r"udp|tcp|tls",
    "any": r"\S+",
    "message": r".*",
}


def template(text: str) -> Read:
    """Return the reader for lines of a user's own format; InputError if it cannot be one.

    `{received} {sender} {message}`: fields by name, with what is between them; `{any}` is a word
    that says nothing.
    """
    names = re.findall(r"\{([^{}]*)\}", text)
    for name in names:
        if name not in _FIELDS:
            raise InputError(f"--template: field {not_one_of(name, _FIELDS)}")
    if "message" not in names:
        raise InputError("--template: expected {message} in it, where the message stands")
    pattern = ""
    known = set()
    for piece in re.split(r"(\{[^{}]*\})", text):
        name = piece[1:-1] if piece.startswith("{") else ""
        if not name or name == "any":
            pattern += _FIELDS["any"] if name else re.escape(piece)
            continue
        if name in known:
            raise InputError(f"--template: field '{name}' stands twice")
        known.add(name)
        pattern += f"(?P<{name}>{_FIELDS[name]})"
    compiled = re.compile(pattern.encode(), re.DOTALL)

    def read(data: bytes, file: str, line: int, near: datetime) -> Record:
        found = compiled.fullmatch(data)
        if found is None:
            raise ValueError("does not fit the format of --template")
        said = {name: value.decode("ascii", "replace") for name, value in found.groupdict().items()
                if name != "message"}  # fmt: skip
        raw = found["message"]
        port = said.get("port")
        return Record(
            parse(raw), raw, file, line, _time(said.get("received"), near),
            _address(said.get("sender")), _port(int(port)) if port and len(port) < 6 else None,
            said.get("transport"),
        )  # fmt: skip

    return read
