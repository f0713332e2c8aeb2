"""Messages are read as the standards say, whatever they hold; streams fall into the same messages
in whatever pieces they come.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta, timezone
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from conftest import tried
from hypothesis import example, given
from hypothesis import strategies as st

import ivrel.core.syslog as package
from ivrel.core.syslog import (
    COUNTED,
    DEPARTURES,
    LINE,
    RFC3164,
    RFC5424,
    Element,
    Frames,
    Message,
    Stamp,
    moment,
    parse,
    rfc3164,
    rfc5424,
    section,
)

BOM = b"\xef\xbb\xbf"
EXAMPLE = Element(
    "exampleSDID@32473", (("iut", "3"), ("eventSource", "Application"), ("eventID", "1011"))
)
SDATA = b'[exampleSDID@32473 iut="3" eventSource="Application" eventID="1011"]'


def fields(message: Message) -> tuple[object, ...]:
    return (
        *(message.facility, message.severity, message.host, message.app, message.process),
        *(message.message_id, message.text),
    )


@pytest.mark.parametrize(
    ("data", "stamp", "said", "elements"),
    [
        (
            b"<34>1 2003-10-11T22:14:15.003Z mymachine.example.com su - ID47 - "
            + BOM + b"'su root' failed for lonvick on /dev/pts/8",
            (2003, 10, 11, 22, 14, 15, "003", "+00:00"),
            (4, 2, "mymachine.example.com", "su", None, "ID47", "'su root' failed for lonvick on /dev/pts/8"),
            (),
        ),
        (
            b"<165>1 2003-08-24T05:14:15.000003-07:00 192.0.2.1 myproc 8710 - - "
            b"%% It's time to make the do-nuts.",
            (2003, 8, 24, 5, 14, 15, "000003", "-07:00"),
            (20, 5, "192.0.2.1", "myproc", "8710", None, "%% It's time to make the do-nuts."),
            (),
        ),
        (
            b"<165>1 2003-10-11T22:14:15.003Z mymachine.example.com evntslog - ID47 " + SDATA
            + b" " + BOM + b"An application event log entry...",
            (2003, 10, 11, 22, 14, 15, "003", "+00:00"),
            (20, 5, "mymachine.example.com", "evntslog", None, "ID47", "An application event log entry..."),
            (EXAMPLE,),
        ),
        (
            b"<165>1 2003-10-11T22:14:15.003Z mymachine.example.com evntslog - ID47 " + SDATA
            + b'[examplePriority@32473 class="high"]',
            (2003, 10, 11, 22, 14, 15, "003", "+00:00"),
            (20, 5, "mymachine.example.com", "evntslog", None, "ID47", ""),
            (EXAMPLE, Element("examplePriority@32473", (("class", "high"),))),
        ),
    ],
)  # fmt: skip
def test_examples_of_rfc_5424_section_6_5(
    data: bytes, stamp: tuple[object, ...], said: tuple[object, ...], elements: tuple[Element, ...]
) -> None:
    m = parse(data)
    s = m.stamp
    assert (s.year, s.month, s.day, s.hour, s.minute, s.second, s.fraction, s.zone) == stamp
    assert (m.form, fields(m), m.data, m.departures) == (RFC5424, said, elements, ())


@pytest.mark.parametrize(
    ("data", "said", "stamp", "kinds"),
    [
        (
            b"<34>Oct 11 22:14:15 mymachine su: 'su root' failed for lonvick on /dev/pts/8",
            (4, 2, "mymachine", "su", None, None, "'su root' failed for lonvick on /dev/pts/8"),
            (None, 10, 11, 22, ""), [],
        ),
        (b"Use the BFG!", (None, None, None, None, None, None, "Use the BFG!"), (None, 0, 0, 0, ""),
         ["no-pri", "no-stamp", "no-tag"]),
        (b"<13>Feb  5 17:32:18 10.0.0.99 Use the BFG!", (1, 5, "10.0.0.99", None, None, None, "Use the BFG!"),
         (None, 2, 5, 17, ""), ["no-tag"]),
        # What a strict reader takes for HOSTNAME and TAG is a zone and a year, and is read as that.
        (b"<165>Aug 24 05:34:00 CST 1987 mymachine myproc[10]: %% It's time",
         (20, 5, "mymachine", "myproc", "10", None, "%% It's time"), (1987, 8, 24, 5, "CST"), ["stamp-year", "zone"]),
        (b"<0>1990 Oct 22 10:52:01 TZ-6 scapegoat.dmz.example.org 10.1.2.3 sched[0]: That's All Folks!",
         (0, 0, "scapegoat.dmz.example.org", None, None, None, "10.1.2.3 sched[0]: That's All Folks!"),
         (1990, 10, 22, 10, "TZ-6"), ["stamp-year", "zone", "no-tag"]),
    ],
)  # fmt: skip
def test_examples_of_rfc_3164_section_5_4(
    data: bytes, said: tuple[object, ...], stamp: tuple[object, ...], kinds: list[str]
) -> None:
    m = parse(data)
    assert (m.form, fields(m)) == (RFC3164, said)
    assert (m.stamp.year, m.stamp.month, m.stamp.day, m.stamp.hour, m.stamp.zone) == stamp
    assert [d.kind for d in m.departures] == kinds


@pytest.mark.parametrize(
    ("data", "kinds", "expected"),
    [
        (b"<189>000123: *Nov  3 2026 10:00:00.123 UTC: %A-3-B: down",
         ["sequence", "unsynchronised", "stamp-year", "stamp-fraction", "zone", "stamp-colon", "no-host"],
         {"sequence": 123, "app": "%A-3-B", "text": "down"}),
        (b"<189>Nov 03 10:00:00 2001:db8::1 app[3]: x", ["day-zero"], {"host": "2001:db8::1", "process": "3"}),
        (b"<5>3d04h: hello", ["uptime", "stamp-colon", "no-host", "no-tag"], {"text": "hello"}),
        (b"<5>Nov 23 10:00:00 MST su: x", [], {"host": "MST"}),
        (b"<5>Nov 23 10:00:00 +0100 h su: x", ["zone"], {"host": "h"}),
        (b"2026-11-23T10:00:00.1+01:00 h tag[1]: x\n", ["ending", "no-pri", "iso-stamp"], {"app": "tag", "text": "x"}),
        (b"<5>Feb 30 10:00:00 h su: x", ["no-stamp", "no-tag"], {"host": None}),
        (b"<192>Nov 23 10:00:00 h su: x", ["pri-range"], {"pri": None, "host": "h"}),
        (b"<007>Nov 23 10:00:00 h su: x\x00", ["ending", "pri-zeros"], {"pri": 7}),
        (b"<7>Nov 23 10:00:00 h su: \xff\x1b[m", ["not-utf-8", "control"], {"text": "\ufffd\x1b[m"}),
        (b"<7>2 2026-11-23t10:00:00.1234567z h a p m -", ["version", "stamp-case", "stamp-digits"], {"host": "h"}),
        (b"<7>1 2026-11-23T10:00:00 h a p m -", ["stamp-zone"], {"app": "a"}),
        (b"<7>1 2026-13-23T10:00:00Z h a p m -", ["stamp"], {"host": "h"}),
        (b"<7>1 - h", ["no-field", "no-field", "no-field", "no-data"], {"host": "h"}),
        (b"<7>1 - - - - - hello", ["no-data", "joint"], {"text": "hello"}),
        (b'<7>1 - - - - - [a b="1"][a c="\\x"] x', ["data-escape", "data-twice"], {"text": "x"}),
        (b'<7>1 - - - - - [a b="1" x', ["data", "joint"], {"data": (), "text": '[a b="1" x'}),
        (b'<7>1 - - - - - [a b="\\]\\"\\\\"] x', [], {"data": (Element("a", (("b", ']"\\'),)),)}),
        (b'<7>1 - - - - - [meta sequenceId="7"]', [], {"sequence": 7}),
        # A bracket belongs to the signs of a name, and blanks to nothing.
        (b'<7>1 - - - - - [a[b="1"] x', ["data", "joint"], {"data": ()}),
        (b'<7>1 - - - - - [a[b c="1"] x', [], {"data": (Element("a[b", (("c", "1"),)),)}),
        (b'<7>1 - h  a - - - x', ["blanks"], {"host": "h", "app": "a", "text": "x"}),
        (b'<7>1 - - - - - [ a  b="1" ] x', ["data-blank"], {"data": (Element("a", (("b", "1"),)),)}),
        (b'<7>1 - - - - - [a b="x]y"] x', ["data-bracket"], {"data": (Element("a", (("b", "x]y"),)),)}),
        (b'<7>1 2026-06-30T23:59:60Z h a p m -', ["stamp-leap"], {"host": "h"}),
        (b'<7>1 2026-11-23T10:00:00+0200 h a p m -', ["stamp-offset"], {"host": "h"}),
        (b'<7>1 2026-11-23T10:00:00-99:99 h a p m -', ["stamp-far"], {"host": "h"}),
        (b'<7>1 2026-11-23T10:00:00,5Z h a p m -', ["stamp-comma"], {"host": "h"}),
        (b'<7>1 0000-11-23T10:00:00Z h a p m -', ["stamp-year-zero"], {"host": "h"}),
        (b'<7>1 - - - - - [meta sequenceId="0"]', ["sequence-range"], {"sequence": 0}),
        (b'<7>1 - - - - - [meta sequenceId="2147483648"]', ["sequence-range"], {"sequence": 2147483648}),
        (b"<7>Nov 23 10:00:00  h su: x", ["blanks"], {"host": "h", "app": "su"}),
        (b"", ["empty", "no-pri", "no-stamp", "no-tag"], {"text": ""}),
    ],
)  # fmt: skip
def test_departures_are_named_and_the_rest_is_kept(
    data: bytes, kinds: list[str], expected: dict[str, object]
) -> None:
    message = parse(data)
    assert [d.kind for d in message.departures] == kinds
    assert {name: getattr(message, name) for name in expected} == expected


def test_every_departure_is_noted_somewhere_and_every_one_noted_is_known() -> None:
    folder = Path(package.__file__).parent
    noted = set()
    for path in folder.glob("*.py"):
        if path.name != "departures.py":
            noted |= set(re.findall(r'(?:Departure|_note)\(\s*"([\w-]+)"', path.read_text()))
            noted |= set(re.findall(r'\(\("?(data-[\w]+)', path.read_text()))
    noted |= {"not-utf-8", "bom-bytes", "data-name", "data-escape", "data-bracket", "data-blank"}
    assert noted == set(DEPARTURES)


def test_a_departure_is_told_with_the_standard_that_the_message_follows() -> None:
    for data, form in (
        (b"<007>Nov 23 10:00:00 h su: \xff", "3164"),
        (b"<007>1 - - - - - - \xff", "5424"),
    ):
        message = parse(data)
        assert message.departures
        for one in message.departures:
            assert section(one, message.form).startswith(f"RFC {form} section "), one


def test_a_clock_that_is_not_synchronised_says_so() -> None:
    data = b'<7>1 2026-11-23T10:00:00Z - - - - [timeQuality tzKnown="1" isSynced="%d"]'
    assert [parse(data % n).stamp.synchronised for n in (0, 1)] == [False, True]
    assert parse(b"<7>.Nov 23 10:00:00 h su: x").stamp.synchronised is False
    assert parse(b"<7>Nov 23 10:00:00 h su: x").stamp.synchronised is None


def test_the_year_that_is_not_said_is_the_nearest() -> None:
    near = datetime(2027, 1, 1, 0, 5, tzinfo=UTC)
    stamp = parse(b"<7>Dec 31 23:59:58 h su: x").stamp
    assert moment(stamp, near) == datetime(2026, 12, 31, 23, 59, 58, tzinfo=UTC)
    here = timezone(timedelta(hours=1))
    assert moment(stamp, near, here) == datetime(2026, 12, 31, 22, 59, 58, tzinfo=UTC)
    assert moment(parse(b"<7>3d04h: x").stamp, near) is None
    # At the end of summer, an hour comes twice: the nearer one is meant.
    zone, stamp = ZoneInfo("Europe/Lisbon"), parse(b"<7>Oct 25 2026 01:30:00 h su: x").stamp
    for hour in (0, 1):
        then = datetime(2026, 10, 25, hour, 30, tzinfo=UTC)
        assert moment(stamp, then, zone) == then
    leap = parse(b"<7>Feb 29 12:00:00 h su: x").stamp
    assert moment(leap, near) is not None and moment(leap, near.replace(year=2026)) is None


WORD = st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=12)
NAME = WORD.map(lambda s: re.sub(r'[=\]"\[\\]', "x", s))
FIELD = st.none() | WORD.filter(lambda s: s != "-")
TEXT = st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cs")), max_size=40).map(
    lambda s: s.lstrip("\ufeff")
)
STAMPS = st.builds(
    Stamp,
    st.just("calendar"),
    st.just(""),
    st.integers(1970, 2099),
    st.integers(1, 12),
    st.integers(1, 28),
    st.integers(0, 23),
    st.integers(0, 59),
    st.integers(0, 59),
    st.from_regex(r"[0-9]{0,6}", fullmatch=True),
    st.sampled_from(["+00:00", "-07:00", "+05:30"]),
)
ELEMENTS = st.lists(
    st.builds(Element, NAME, st.lists(st.tuples(NAME, TEXT), max_size=3).map(tuple)),
    max_size=3,
    unique_by=lambda e: e.name,
).map(tuple)


@tried(300)
@given(
    st.builds(
        Message,
        st.just(RFC5424),
        st.integers(0, 191),
        st.just(Stamp()) | STAMPS,
        *(FIELD, FIELD, FIELD, TEXT, FIELD, ELEMENTS),
    )
)
def test_what_is_written_is_read(message: Message) -> None:
    read = parse(rfc5424.write(message))
    assert not read.departures
    assert (read.pri, fields(read), read.data) == (message.pri, fields(message), message.data)
    mine, theirs = message.stamp, read.stamp
    for name in ("kind", "year", "month", "day", "hour", "minute", "second", "fraction", "zone"):
        assert getattr(mine, name) == getattr(theirs, name)


@tried(200)
@given(
    st.integers(0, 191), STAMPS, st.from_regex(r"[a-z][a-z0-9.-]{0,20}[a-z]", fullmatch=True),
    st.from_regex(r"[a-z][a-z0-9/_-]{0,20}", fullmatch=True), st.none() | st.from_regex(r"[0-9]{1,6}", fullmatch=True), TEXT,
)  # fmt: skip
def test_what_is_written_of_old_is_read(
    pri: int, stamp: Stamp, host: str, app: str, process: str | None, text: str
) -> None:
    message = Message(RFC3164, pri, stamp, host, app, process, text)
    read = parse(rfc3164.write(message))
    assert (read.pri, fields(read)) == (pri, fields(message)) and not read.departures
    assert (read.stamp.month, read.stamp.day, read.stamp.second) == (
        *(stamp.month, stamp.day),
        stamp.second,
    )


@tried(300)
@example(said=[(False, b"\0"), (True, b"\0")], sizes=[1, 10])
@given(
    st.lists(st.tuples(st.booleans(), st.binary(min_size=1, max_size=30)), max_size=8),
    st.lists(st.integers(1, 20), min_size=1, max_size=20),
)
def test_a_stream_falls_into_the_same_frames_in_whatever_pieces_it_comes(
    said: list[tuple[bool, bytes]], sizes: list[int]
) -> None:
    wanted: list[tuple[bytes, str]] = []
    stream = b""
    for counted, data in said:
        if counted:
            wanted.append((b"<1>" + data, COUNTED))
            stream += b"%d <1>%s" % (len(data) + 3, data)
        else:
            line = b"<1>" + data.replace(b"\n", b" ").replace(b"\0", b" ")
            wanted.append((line, LINE))
            stream += line + b"\n"
    frames, got, at, n = Frames(), [], 0, 0
    while at < len(stream):
        size = sizes[n % len(sizes)]
        got += frames.feed(stream[at : at + size])
        at, n = at + size, n + 1
    assert [(f.data, f.framing) for f in (*got, *frames.close())] == wanted


@pytest.mark.parametrize(
    ("stream", "expected"),
    [
        # Python's own handler ends messages with a zero byte; they may hold line feeds.
        (b"<14>one\0<14>two\nlines\0", [b"<14>one", b"<14>two\nlines"]),
        (b"<14>one\0\n<14>two\0\n", [b"<14>one", b"<14>two"]),
        # A number is a count only if a message follows.
        (b"12 text\n<14>x\n", [b"12 text", b"<14>x"]),
        (b"4294967296 <14>x\n<14>y\n", [b"4294967296 <14>x", b"<14>y"]),
        (b"0005 <14>x\n7 <14>abc<14>y\n", [b"0005 <14>x", b"<14>abc", b"<14>y"]),
        # Blank lines are no messages.
        (b"\n\r\n<14>x\r\n\n", [b"<14>x\r"]),
        (b"7 <14>abc\n7 <14>def\n", [b"<14>abc", b"<14>def"]),
    ],
)
@pytest.mark.parametrize("step", [1, 4, 100])
def test_streams_end_their_messages_in_several_ways(
    stream: bytes, expected: list[bytes], step: int
) -> None:
    frames, got = Frames(), []
    for at in range(0, len(stream), step):
        got += frames.feed(stream[at : at + step])
    assert [f.data for f in got] == expected and not frames.close()


@pytest.mark.parametrize("step", [1, 3, 7, 50])
def test_what_never_ends_is_bounded_and_counted(step: int) -> None:
    stream = b"<1>" + b"x" * 40 + b"\n" + b"30 <1>" + b"y" * 27 + b"<2>last\n5 <3>a"
    frames, got = Frames(longest=10), []
    for at in range(0, len(stream), step):
        got += frames.feed(stream[at : at + step])
        assert len(frames._held) <= 10 + step + 12
    got += frames.close()
    assert [(f.data, f.dropped, f.cut) for f in got] == [
        (b"<1>xxxxxxx", 33, False),
        (b"<1>yyyyyyy", 20, False),
        (b"<2>last", 0, False),
        (b"<3>a", 0, True),
    ]
