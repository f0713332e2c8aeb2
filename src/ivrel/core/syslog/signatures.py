"""Signatures: lines that show the same are counted together, and one of them is read for all.

What a message shows (`summary.observed`) and who sent it follow from its signature: PRI, the form
of its stamp, and the words up to its tag. Where two signatures differ only in digits of a valid
time, the messages show the same. A line whose signature is not certain is read by itself.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from ivrel.core.syslog.compiled import Finder, finder

_TIME = rb"(?!2[4-9])[0-2][0-9]:[0-5][0-9]:[0-5][0-9]"
# Three digits of a fraction, or six where it is known what ends them; others are read one by one.
_FRACTION = rb"(?:(\.)[0-9][0-9][0-9](?:[0-9][0-9][0-9](?=([Z +-])))?)?(?![0-9])"
_WORD = rb"[^ :\[\]\"\\\n]+"
# RFC 3164. A date stays in the signature, for there are few of them; a number may be before it.
_OLD = (
    rb"(?:[0-9]{1,9}(: ))?"
    rb"(?:([*.]?(?:[A-Z][a-z][a-z] [ 0-9][0-9] (?:[0-9]{4} )?|[0-9][0-9][0-9][0-9]-..-..[T ]))"
    + _TIME + _FRACTION
    # Or how long a device has been up.
    + rb"|[0-9]{1,5}([wd])(?:[0-9]{1,2}([dh])(?=[ :]))?(?=[ :]))"
    # A year, a zone, and then HOSTNAME and the tag, of which neither may be one of those.
    rb"((?:Z|[+-]..:..)?(?: (?:19|20)[0-9]{2}(?= ))?(?: ?[+-][0-9]{2}:?[0-9]{2}(?= )| UTC(?= ))?:?"
    rb"(?! (?:[0-9]{4}|[A-Z]{1,5}|TZ[^ ]*)[ :]) " + _WORD
    + rb"(?:: | " + _WORD + rb"(?:: | |\[(?=[0-9]{1,10}\]:? ))))"
)  # fmt: skip
# RFC 5424, with no structured data, or with the number of the message.
_NEW = (
    rb"(1 [0-9][0-9][0-9][0-9]-..-..T)" + _TIME + _FRACTION + rb"((?:Z|[+-]..:..) " + _WORD
    + rb" " + _WORD + rb" )" + _WORD + rb"( " + _WORD + rb" )"
    rb"(?:-|(\[meta sequenceId=)QUOTE[0-9]{1,9}QUOTE\])(?=[ \n])"
)  # fmt: skip

# What stands around a message in a line of a recording, with the sign of its quotes.
_RECORDED = (
    rb"\{\"received\":\"[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2}\.[0-9]{6}Z\""
    rb"(,\"sender\":\"[0-9a-f.:]+\",\"port\":[0-9]+,\"transport\":\"[a-z]+\","
    rb"\"framing\":\"[a-z ]+\",)\"text\":\"",
    b'\\\\"',
    rb"\"\}",
)


class Group(Struct, frozen=True):
    """Lines that show the same: their indexes in order, the first of these lines, and what gives
    any of them; `is_sure`: whether they have a signature, or are the same byte by byte.
    """

    ats: Sequence[int]
    line: bytes
    line_of: Callable[[int], bytes]
    is_sure: bool = True


class Signatures:
    """Finds the groups of lines, of a recording (`recorded`) or of messages alone.

    `quick`: in the compiled way, if there is one.
    """

    def __init__(self, *, recorded: bool = False, quick: bool = True) -> None:
        before, quote, after = _RECORDED if recorded else (b"", b'"', b"")
        new = _NEW.replace(b"QUOTE", quote)
        signature = rb"((?:<[0-9]{1,3}>)?)(?:%s|%s)" % (new, _OLD)
        # A second expression for the whole line; that a match begins where one ended needs no sign.
        self._lines = re.compile(rb"%s%s[^\n]*%s\n|([^\n]*)\n" % (before, signature, after))
        self._signature = re.compile(before + signature)
        self._recorded = recorded
        self._find = finder() if quick else None

    def groups(self, data: bytes) -> Iterator[Group]:
        """Yield the groups of some lines; the last may lack its line end."""
        if not data.endswith(b"\n"):
            data += b"\n"
        yield from self._one_by_one(data) if self._find is None else self._at_once(data, self._find)

    def _one_by_one(self, data: bytes) -> Iterator[Group]:
        lines = data.split(b"\n")
        groups: dict[tuple[bytes, ...], list[int]] = {}
        for at, key in enumerate(self._lines.findall(data)):
            groups.setdefault(key, []).append(at)
        for key, ats in groups.items():
            # The last part of a key is the whole line, where it has no signature.
            yield Group(ats, lines[ats[0]], lines.__getitem__, is_sure=not key[-1])

    def _at_once(self, data: bytes, find: Finder) -> Iterator[Group]:
        """Yield the groups of lines, most of them without looking at each line."""
        found = find(data, self._recorded, self._signature_of)
        begins = found.begins

        def line(n: int) -> bytes:
            return data[begins[n] : begins[n + 1] - 1]

        groups = [Group(ats, line(ats[0]), line) for ats in found.alike]
        others = b"".join(line(n) + b"\n" for n in found.others)
        for group in self._one_by_one(others) if others else ():
            ats = [found.others[at] for at in group.ats]
            groups.append(Group(ats, group.line, line, group.is_sure))
        # In the order of the lines: of equals, the first is reported.
        yield from sorted(groups, key=lambda group: group.ats[0])

    def _signature_of(self, line: bytes, cut: int) -> tuple[bytes, ...] | None:
        """Return the signature of a line, if it surely ends in so many bytes."""
        signature = self._signature.match(line)
        return signature.groups(b"") if signature is not None and signature.end() <= cut else None
