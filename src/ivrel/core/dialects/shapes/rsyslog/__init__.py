"""The shape `rsyslog`: what a configuration of rsyslog forwards, as statements, in whichever style it says so.

    *.info  @198.51.100.21
    if $syslogseverity <= 6 then action(type="omfwd" target="198.51.100.21" port="514" protocol="udp")

Both read as a statement `forward 198.51.100.21 514 udp`, with `select all:through-informational` and
`form rfc3164 seconds hidden hidden` in it: what reaches that collector after all filters, in the order of the
rules, and as which template makes it. Where that hangs on more than facility and severity, `select` is the most that
may leave, and `surely` what leaves whatever the rest is. A configuration is one text, or the files of a folder in a
bundle. A change is a unified diff (POSIX diff -u): actions changed where they stand, their old lines commented out,
and what is new in a place of its own.

The rooms: `syntax` (what a text says), `flow` (what reaches whom), `rewriting` (corrections).
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence

from ivrel.core.dialects.shapes.base import (
    Edit,
    Found,
    Identity,
    Path,
    Refused,
    Style,
    Words,
    quote,
    refuse,
    split_words,
)
from ivrel.core.dialects.shapes.rsyslog.flow.model import Forward, Limit, Local, Model
from ivrel.core.dialects.shapes.rsyslog.flow.walk import read_model
from ivrel.core.dialects.shapes.rsyslog.rewriting.diff import apply_hunk, read_diff, write_diff
from ivrel.core.dialects.shapes.rsyslog.rewriting.state import UNSAID, by_endpoint, state_of, states_of
from ivrel.core.dialects.shapes.rsyslog.rewriting.write import pairs, rewritten
from ivrel.core.mistakes import Unreadable
from ivrel.core.severity import SEVERITIES

ATOMIC = True
DERIVED = True
ASKS = "rsyslogd -N1"

split = split_words


def join(words: Sequence[str]) -> str:
    return " ".join(words)


def scan(data: bytes, heads: Sequence[Words], style: Style) -> Iterator[Found]:
    wanted = {head[0] for head in heads}
    for path, words, line in _statements(read_model(data), False):
        if (path[0] if path else words)[0] in wanted or words[:1] == ("?",):
            yield path, " ".join(words).removeprefix("? ").encode("utf-8", "replace"), line


def holding(
    data: bytes, text: bytes, heads: Sequence[Words], style: Style, behind: Container[bytes]
) -> Iterator[Found]:
    return (found for found in scan(data, heads, style) if text in found[1])


def everything(data: bytes, style: Style) -> Iterator[Found]:
    for path, words, line in _statements(read_model(data), True):
        if path and (words[0] in _OF_THE_ACTION or words[1:2] == ("depends",)):
            continue  # goes with its action
        yield path, " ".join(words).removeprefix("? ").encode("utf-8", "replace"), line


def _statements(model: Model, all_of_them: bool) -> Iterator[tuple[Path, Words, int]]:
    for forwards in by_endpoint(model).values():
        yield from _destination(forwards)
    # Of several limits, the least comes last: it holds.
    for limit in sorted(model.limits, key=_most, reverse=True):
        yield (), ("limit", _per_second(limit), limit.source), limit.line
    for kind in dict.fromkeys(local.kind for local in model.locals):
        yield from _local([local for local in model.locals if local.kind == kind])
    if model.name:
        yield (), ("name", model.name.text), model.name.line
    if model.authority:
        yield (), ("authority", quote(model.authority.text)), model.authority.line
    for doubt in model.doubts:
        yield (), ("?", doubt.text), doubt.line
    if model.main.name or len(model.statements) > len(model.doubts):
        yield (), ("main", model.main.name or "-"), model.main.first
    for relay in model.relays if all_of_them else ():
        yield (), ("relay", *relay.endpoint), relay.line
    for other in model.others if all_of_them else ():
        yield (), ("other", other.text), other.line


def _most(limit: Limit) -> float:
    said = _per_second(limit)
    return -1 if said == "?" else float("inf") if said == "none" else int(said)


def _per_second(limit: Limit) -> str:
    """Messages in a second; of an interval of 0 seconds there is no limit."""
    if not all(word.isascii() and word.isdigit() for word in (limit.burst, limit.seconds)):
        return "?"
    return str(int(limit.burst) // int(limit.seconds)) if int(limit.seconds) else "none"


def _local(found: Sequence[Local]) -> Iterator[tuple[Path, Words, int]]:
    """All actions that write to the same kind of place, as one threshold if they make one."""
    first = found[0]
    most = sure = 0
    for local in found:
        most |= local.takes.most.bits
        sure |= local.takes.sure.bits
    # Of a selection that is no threshold, a file counts with what is there for sure of every facility; the console
    # and the sessions with all that may be shown.
    bits = sure if first.kind == "file" else most
    rows = [bits >> 8 * n & 0xFF for n in range(24)]
    codes = [(~row & row + 1).bit_length() - 1 for row in rows] if first.kind == "file" else [max(rows).bit_length()]
    level = min(codes)
    yield (), ("local", first.kind, SEVERITIES[level - 1] if level else "none"), first.line


def _destination(forwards: Sequence[Forward]) -> Iterator[tuple[Path, Words, int]]:
    first = forwards[0]
    header = ("forward", *first.endpoint)
    yield (), header, first.line
    path = (header,)
    doubt = next((f.doubt for f in forwards if f.doubt), None)
    for name, words in state_of(forwards).items():
        if name == "select":
            for forward in forwards:
                yield path, (name, *words), forward.line
        elif name == "lacks":
            yield path, (name, quote(words[0])), first.line
        elif name == "surely" and doubt:
            yield path, (name, *words), doubt.line or first.line
        else:
            params = first.action.params
            param = params.get(_PARAMS.get(name, name))
            yield path, (name, *words), param.line if param else first.line


_OF_THE_ACTION = ("queue", "idle-address", "surely", "lacks")
_PARAMS = {
    "form": "template",
    "verify": "streamdriverauthmode",
    "peer": "streamdriverpermittedpeers",
    "queue": "queue.type",
    "idle-address": "address",
}


def write_change(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> str:
    change = write_diff(data, apply(data, edits, identity, style))
    try:
        change.encode()
    except UnicodeEncodeError:
        raise Refused(edits[-1], "a line that would change holds bytes that are no UTF-8") from None
    return change


def read_change(text: str, file: str, style: Style) -> list[Edit]:
    try:
        return read_diff(text)
    except ValueError as problem:
        raise refuse(file, *problem.args) from None


def fine(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> list[Edit]:
    if all(edit.body is None for edit in edits):
        return list(edits)
    after = data
    for edit in edits:
        after = apply(after, [edit], identity, style)
    old, new = states_of(read_model(data)), states_of(read_model(after))
    out: list[Edit] = []
    heirs = dict(pairs(old, new))
    for key, state in new.items():
        header = ("forward", *key)
        # A new action says what it says no better than one without filter and template; one that takes another's
        # place keeps its template.
        before = old.get(key, UNSAID)
        if key in heirs and "form" in old[heirs[key]]:
            before = {**UNSAID, "form": old[heirs[key]]["form"]}
        # What is only kept with an action is no line of a change.
        said = {n: words for n, words in state.items() if before.get(n) != words and n not in _OF_THE_ACTION}
        if key not in old and not said:
            out.append(Edit((), header))
        out += [Edit((header,), (name, *words)) for name, words in said.items()]
        gone = [name for name in before if name not in state and name not in _OF_THE_ACTION]
        out += [Edit((header,), (name,), True) for name in gone]
    out += [Edit((), ("forward", *key), True) for key in old if key not in new]
    # What an action does by its place, or by the template that holds for all, need not be said.
    for edit in [e for e in out if e.path and e.words[0] in ("select", "form", "verify") and not e.removes]:
        key = (edit.path[0][1], edit.path[0][2], edit.path[0][3])
        fewer = [e for e in out if e is not edit]
        if (key not in old or "lacks" in old[key]) and any(edit.path[0] in (e.words, *e.path) for e in fewer):
            try:
                same = states_of(read_model(apply(data, fewer, identity, style))) == new
            except Refused:
                continue
            out = fewer if same else out
    return out


def apply(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> bytes:
    if edits and all(edit.body is not None for edit in edits):
        for edit in edits:
            data = apply_hunk(data, edit)
        return data
    states = states_of(read_model(data))
    for edit in edits:
        if not edit.path:
            key = (edit.words[1], edit.words[2], edit.words[3]) if len(edit.words) == 4 else ("", "", "")
            if edit.words[0] != "forward" or (edit.removes and key not in states):
                raise Refused(edit, f"there is no '{join(edit.words)}'")
            if edit.removes:
                del states[key]
            else:
                states.setdefault(key, {})
        else:
            key = (edit.path[0][1], edit.path[0][2], edit.path[0][3])
            state = dict(states.get(key, {}))
            if edit.removes:
                state.pop(edit.words[0], None)
            else:
                state[edit.words[0]] = edit.words[1:]
            states[key] = state
    try:
        return rewritten(data, states)
    except (ValueError, Unreadable) as problem:
        raise Refused(edits[-1], str(problem)) from None
