"""The shape `rsyslog`: what a configuration of rsyslog forwards, as statements, in whichever style
it says so.

    *.info  @198.51.100.21
    if $syslogseverity <= 6 then action(type="omfwd" target="198.51.100.21" port="514")

Both read as a statement `forward 198.51.100.21 514 udp`, with `select all:through-informational`
and `form rfc3164 seconds hidden hidden` in it: what reaches that collector after all filters, in
the order of the rules, and as which template makes it. Where that depends on more than facility and
severity, `select` is the most that may leave, and `surely` what leaves whatever the rest is. A
configuration is one text, or the files of a folder in a bundle. A change is a unified diff (POSIX
diff -u): actions changed where they are, their old lines commented out, and what is new in a place
of its own.

The rooms: `syntax` (what a text says), `flow` (what reaches whom), `rewriting` (corrections).
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from typing import ClassVar

from msgspec.structs import replace

from ivrel.core.shapes.rsyslog.flow.model import Forward, Limit, Local, Model
from ivrel.core.shapes.rsyslog.flow.whole import read_model
from ivrel.core.shapes.rsyslog.rewriting.diff import apply_hunk, read_diff, write_diff
from ivrel.core.shapes.rsyslog.rewriting.state import UNSAID, by_endpoint, state_of, states_of
from ivrel.core.shapes.rsyslog.rewriting.write import pairs, rewritten
from ivrel.core.shapes.shape import Edit, Found, Identity, Shape, refuse
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words, quote, split_words
from ivrel.core.vocabulary.errors import Refused, Unreadable
from ivrel.core.vocabulary.severity import SEVERITIES
from ivrel.core.vocabulary.software import Software


class Rsyslog(Shape, frozen=True):
    """The shape `rsyslog`; `software`: what is installed on the device that the text is of."""

    ATOMIC: ClassVar[bool] = True
    DERIVED: ClassVar[bool] = True
    ASKS: ClassVar[str] = "rsyslogd -N1"

    software: Software = Software()

    def on(self, software: Software) -> Shape:
        return self if software == self.software else replace(self, software=software)

    def _read(self, data: bytes) -> Model:
        return read_model(data, self.software)

    def _model(self, text: Text) -> Model:
        """Return the model of the daemon for a text, computed once."""
        return text.once(("model", self.software), lambda: self._read(text.data))

    def sends_at(self, text: Text) -> Iterator[tuple[str, int, int]]:
        for forward in self._model(text).forwards:
            for s in () if forward.action.idle else forward.chain:
                # Of a rule, its filter alone: what stands in it has places of its own.
                stop = s.head if s.kind == "rule" else s.stop
                whole = s.source.whole
                first = whole.count("\n", 0, s.start) + 1
                yield s.source.name, first, first + whole[s.start : stop].rstrip().count("\n")

    def split(self, line: str) -> list[str]:
        return split_words(line)

    def join(self, words: Sequence[str]) -> str:
        return _join(words)

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        wanted = {head[0] for head in heads}
        for path, words, line in _statements(self._model(text), False):
            if (path[0] if path else words)[0] in wanted or words[:1] == ("?",):
                yield path, " ".join(words).removeprefix("? ").encode("utf-8", "replace"), line

    def holding(
        self, text: Text, word: bytes, heads: Sequence[Words], behind: Container[bytes]
    ) -> Iterator[Found]:
        return (found for found in self.scan(text, heads) if word in found[1])

    def everything(self, text: Text) -> Iterator[Found]:
        for path, words, line in _statements(self._model(text), True):
            if path and (words[0] in _OF_THE_ACTION or words[1:2] == ("depends",)):
                continue  # goes with its action
            yield path, " ".join(words).removeprefix("? ").encode("utf-8", "replace"), line

    def write_change(self, text: Text, edits: Sequence[Edit], identity: Identity) -> str:
        change = write_diff(text.data, self.apply(text, edits, identity))
        try:
            change.encode()
        except UnicodeEncodeError:
            raise Refused("a line that would change holds bytes that are no UTF-8") from None
        return change

    def read_change(self, text: str, file: str) -> list[Edit]:
        try:
            return read_diff(text)
        except ValueError as problem:
            raise refuse(file, *problem.args) from None

    def fine(self, text: Text, edits: Sequence[Edit], identity: Identity) -> list[Edit]:
        if all(edit.body is None for edit in edits):
            return list(edits)
        old = states_of(self._model(text))
        new = states_of(self._read(self.apply(text, edits, identity)))
        out: list[Edit] = []
        heirs = dict(pairs(old, new))
        for key, state in new.items():
            header = ("forward", *key)
            # A new action says what it says no better than one without filter and template; one
            # that takes another's place keeps its template.
            before = old.get(key, UNSAID)
            if key in heirs and "form" in old[heirs[key]]:
                before = {**UNSAID, "form": old[heirs[key]]["form"]}
            # What is only kept with an action is no line of a change.
            said = {
                n: words
                for n, words in state.items()
                if before.get(n) != words and n not in _OF_THE_ACTION
            }
            if key not in old and not said:
                out.append(Edit((), header))
            out += [Edit((header,), (name, *words)) for name, words in said.items()]
            gone = [name for name in before if name not in state and name not in _OF_THE_ACTION]
            out += [Edit((header,), (name,), True) for name in gone]
        out += [Edit((), ("forward", *key), True) for key in old if key not in new]
        # What an action does by its place, or by the template that holds for all, need not be said.
        for edit in [
            e
            for e in out
            if e.path and e.words[0] in ("select", "form", "verify") and not e.removes
        ]:
            key = (edit.path[0][1], edit.path[0][2], edit.path[0][3])
            fewer = [e for e in out if e is not edit]
            if (key not in old or "lacks" in old[key]) and any(
                edit.path[0] in (e.words, *e.path) for e in fewer
            ):
                try:
                    same = states_of(self._read(self.apply(text, fewer, identity))) == new
                except Refused:
                    continue
                out = fewer if same else out
        return out

    def apply(self, text: Text, edits: Sequence[Edit], identity: Identity) -> bytes:
        data = text.data
        if edits and all(edit.body is not None for edit in edits):
            for edit in edits:
                data = apply_hunk(data, edit)
            return data
        states = states_of(self._model(text))
        for edit in edits:
            if not edit.path:
                key = (
                    (edit.words[1], edit.words[2], edit.words[3])
                    if len(edit.words) == 4
                    else ("", "", "")
                )
                if edit.words[0] != "forward" or (edit.removes and key not in states):
                    raise Refused(f"there is no '{_join(edit.words)}'", edit.line)
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
            return rewritten(data, states, self._read)
        except (ValueError, Unreadable) as problem:
            raise Refused(str(problem), edits[-1].line) from None


def _join(words: Sequence[str]) -> str:
    return " ".join(words)


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
    """Return messages in a second; of an interval of 0 seconds there is no limit."""
    if not all(word.isascii() and word.isdigit() for word in (limit.burst, limit.seconds)):
        return "?"
    return str(int(limit.burst) // int(limit.seconds)) if int(limit.seconds) else "none"


def _local(found: Sequence[Local]) -> Iterator[tuple[Path, Words, int]]:
    """Yield all actions that write to the same kind of place, as one threshold if they make one."""
    first = found[0]
    most = sure = 0
    for local in found:
        most |= local.takes.most.bits
        sure |= local.takes.sure.bits
    # Of a selection that is no threshold, a file counts with what is there for sure of every
    # facility; the console and the sessions with all that may be shown.
    bits = sure if first.kind == "file" else most
    rows = [bits >> 8 * n & 0xFF for n in range(24)]
    codes = (
        [(~row & row + 1).bit_length() - 1 for row in rows]
        if first.kind == "file"
        else [max(rows).bit_length()]
    )
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
