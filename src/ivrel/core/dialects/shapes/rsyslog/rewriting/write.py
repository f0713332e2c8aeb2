"""Writes what a configuration forwards: actions are changed where they stand, and new ones get a place of their own.

What an action says besides, of queues, retries, rate limits, is kept, whatever else of it changes. New actions come
behind the administrator's rules that drop messages for their text, and before all others.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import PurePosixPath

from ivrel.core.bundle import MARK, pack, parts
from ivrel.core.dialects.shapes.rsyslog.flow.directives import CARRIED
from ivrel.core.dialects.shapes.rsyslog.flow.model import Action, Endpoint, Forward, Model
from ivrel.core.dialects.shapes.rsyslog.flow.selectors import write_filter
from ivrel.core.dialects.shapes.rsyslog.flow.templates import Form, name_for
from ivrel.core.dialects.shapes.rsyslog.flow.walk import read_model
from ivrel.core.dialects.shapes.rsyslog.rewriting.edit import OFF, Cut, changed, cut, is_changed, restored
from ivrel.core.dialects.shapes.rsyslog.rewriting.state import UNSAID, State, States, by_endpoint, states_of
from ivrel.core.dialects.shapes.rsyslog.syntax.script import At, Statement
from ivrel.core.severity import EVERYTHING, selection_of

DROP_IN = "export.conf"  # how the name of a file of corrections ends
_FIRST = "00-export.conf"
BEGIN, END = "# export settings: begin", "# export settings: end"
_HEAD = "# What is forwarded. Each correction writes this file anew."

# What a destination's statements say of an action; all other parameters are kept as they are.
_SAID = ("type", "target", "port", "protocol", "template", "address", "device")
_UNSAID_PARAMS = {"port": "514", "protocol": "udp"}  # what holds where an action says nothing
_KEPT_STATE = ("address", "device", "verify", "peer")


def rewritten(data: bytes, states: Mapping[Endpoint, State]) -> bytes:
    """The text that forwards what the states say; ValueError if that cannot be written."""
    back = _taken_back(data)
    if back != data and _told(states_of(read_model(back))) == _told(states):
        return back
    model = read_model(data)
    old = states_of(model)
    moved = {key for key in {**old, **states} if old.get(key) != states.get(key)}
    if not moved:
        return data
    # What stands commented out and comes back keeps what it said besides.
    kept = {f.endpoint: f.action for f in (*read_model(back).forwards[::-1], *model.forwards[::-1])}
    standing = by_endpoint(model)
    cuts: dict[str, list[Cut]] = {}
    written: dict[Endpoint, Action | None] = {}
    leaving: list[Forward] = []
    # Where the configuration has a template of its own for actions that name none, each names its own.
    plain = {"form": UNSAID["form"]} if model.default_form else {}
    heirs = dict(pairs(old, states))
    for key in states:
        source = heirs.get(key, key if key in old else None)
        forwards = standing.get(source, []) if source else []
        own = [f for f in forwards if _is_own(f.action.statement, data)]
        if key not in moved and not own:
            continue
        base = forwards[0].action if forwards else kept.get(key)
        if forwards and not own and source and _same_filter(old[source], states[key]):
            for forward in forwards:
                said = states[key] if forward.action.form is not None else {**plain, **states[key]}
                _replace(forward, _action(key, said, forward.action), cuts)
            continue
        if any(f.doubt for f in forwards) and "surely" in states[key]:
            raise ValueError(f"what reaches {key[0]} is not understood; it cannot be written anew")
        written[key] = base
        leaving += [forward for forward in forwards if forward not in own]
    taken = set(heirs.values())
    for key in [k for k in old if k not in states and k not in taken]:
        leaving += [f for f in standing[key] if not _is_own(f.action.statement, data)]
    _remove(leaving, model, cuts)
    gone = [f for f in model.forwards if _is_own(f.action.statement, data) and f.endpoint not in written]
    lines = [_rule(key, {**plain, **states[key]}, action) for key, action in written.items()]
    lines += [OFF + _rule(f.endpoint, old[f.endpoint], f.action) for f in gone]
    texts = {p.name: p.data.decode("utf-8", "surrogateescape") for p in parts(data)}
    for name, inside in cuts.items():
        if name not in texts:
            raise ValueError("an action that stands within the text of an include cannot be changed")
        texts[name] = changed(texts[name], inside)
    return _with_own(_packed(data, texts), lines, {key: states[key] for key in written})


def pairs(old: Mapping[Endpoint, State], states: Mapping[Endpoint, State]) -> Iterator[tuple[Endpoint, Endpoint]]:
    """New endpoints, each with the one that it takes the place of: at the same address, or with the same filter."""
    gone = [key for key in old if key not in states]
    fresh = [key for key in states if key not in old]
    for fits in (
        lambda a, b: a[0] == b[0],
        lambda a, b: old[a] == states[b],
        lambda a, b: _filter(old[a]) == _filter(states[b]),
    ):
        for key in list(fresh):
            other = next((k for k in gone if fits(k, key)), None)
            if other is not None:
                gone.remove(other)
                fresh.remove(key)
                yield key, other


def _same_filter(old: State, new: State) -> bool:
    """Whether the filter in front of an action can stay; where something was lacking, it was never looked at."""
    return _filter(old) == _filter(new) or ("lacks" in old and "select" not in new)


def _filter(state: State) -> tuple[object, object]:
    return state.get("select"), state.get("surely")


def _told(states: Mapping[Endpoint, State]) -> States:
    """What statements can say of each destination; other parameters stay with their action."""
    kept = (*UNSAID, *_KEPT_STATE, "surely")
    said = {key: {n: w for n, w in state.items() if n in kept and w[0] != "depends"} for key, state in states.items()}
    return {key: {**UNSAID, **state} for key, state in said.items()}


def _is_own(statement: Statement, data: bytes) -> bool:
    """Whether a statement stands where corrections write."""
    name, at, _ = statement.place
    if _is_drop_in(name):
        return True
    text = statement.source.whole
    return text.rfind(BEGIN, 0, at) > text.rfind(END, 0, at)


def _is_drop_in(name: str) -> bool:
    return bool(re.search(r"(?:^00-|\.)export\.conf$", PurePosixPath(name).name))


# One action.


def _rule(key: Endpoint, state: State, old: Action | None) -> str:
    """One forwarding action with its filter, in one line."""
    takes = selection_of(state["select"][0]) if "select" in state else EVERYTHING
    return f"{write_filter(takes)} {_object(_parameters(key, state, old))}"


def _action(key: Endpoint, state: State, old: Action) -> str:
    """A forwarding action in the place of another, in its style if that can say it."""
    if "template" not in old.params and old.form == state.get("form"):
        state = {name: words for name, words in state.items() if name != "form"}  # the same template holds on
    if old.statement.kind == "legacy":
        return _in_older_style(key, state, old) or _object(_parameters(key, state, old))
    return _edited(old.statement, _parameters(key, state, old))


def _in_older_style(key: Endpoint, state: State, old: Action) -> str:
    """`@host:port;template`; '' if that cannot say it."""
    address, port, transport = key
    unlike = transport == "tls" or old.endpoint[2] == "tls" or "address" in state or "device" in state
    options = re.match(r"@@?(\([^)]*\))?", old.statement.text)
    if unlike or transport == "relp" or old.kind != "omfwd" or options is None:
        return ""
    template = _template(state, old)
    said = f"[{address}]" if ":" in address else address
    return f"{'@@' if transport == 'tcp' else '@'}{options[1] or ''}{said}:{port}{f';{template}' if template else ''}"


def _template(state: State, old: Action | None) -> str | None:
    """The template that a state asks for: the old one if its form is not asked to be another."""
    form = state.get("form")
    if old is not None and "template" in old.params and old.form is not None:
        before = old.form if isinstance(old.form, tuple) else None
        if form is None or form[0] == "depends" or before == form:
            return old.params["template"].value
    return name_for(_form(form)) if form and form[0] != "depends" else None


def _form(words: Sequence[str]) -> Form:
    return words[0], words[1], words[2], words[3]


def _object(params: Mapping[str, str]) -> str:
    """An action as an object in one line."""
    return f"action({' '.join(f'{name}={_quoted(value)}' for name, value in params.items())})"


def _edited(statement: Statement, params: Mapping[str, str]) -> str:
    """An action with other parameters, laid out as it stands: values change in place, new ones follow the target."""
    text, begun = statement.source.whole[statement.start : statement.stop], statement.start
    told = {name: value for name, value in params.items() if name in statement.params}
    new = {n: v for n, v in params.items() if n not in told and _UNSAID_PARAMS.get(n) != v}
    anchor = statement.params.get("target") or list(statement.params.values())[-1]
    for param, name in sorted(((p, n) for n, p in statement.params.items()), key=lambda one: -one[0].start):
        start, stop = param.start - begun, param.stop - begun
        if name not in told:
            start = len(text[:start].rstrip(" \t"))
            instead = ""
        else:
            old = _quoted("\0".join(("", *param.array)) if param.array is not None else param.value or "")
            same = old == _quoted(told[name])
            instead = text[start:stop] if same else f"{text[start:stop].partition('=')[0]}={_quoted(told[name])}"
        if param is anchor:
            instead += "".join(f" {n}={_quoted(v)}" for n, v in new.items())
        text = text[:start] + instead + text[stop:]
    was = statement.source.whole[statement.start : statement.stop].split("\n")
    blank = {n for n, line in enumerate(was) if not line.strip()}
    return "\n".join(line for n, line in enumerate(text.split("\n")) if line.strip() or n in blank)


def _parameters(key: Endpoint, state: State, old: Action | None) -> dict[str, str]:
    """What a forwarding action says; parameters of the old one that the state says nothing of are kept."""
    address, port, transport = key
    if transport == "relp":
        raise ValueError("RELP is read, but not written")
    kind = old.kind if old and old.kind in ("omfwd", "omudpspoof") and transport == "udp" else "omfwd"
    said = {"type": kind, "target": address, "port": port}
    if kind == "omfwd":
        said["protocol"] = "udp" if transport == "udp" else "tcp"
    template = _template(state, old)
    if template:
        said["template"] = template
    # rsyslog takes an address to send from for UDP alone.
    said |= {name: state[name][0] for name in ("address", "device")[transport != "udp" :] if name in state}
    rest = _kept(old) if old else {}
    if old and old.kind != kind:
        rest = {
            name: value for name, value in rest.items() if name.startswith(("action.", "queue.")) or name == "name"
        }
    streams = {name: value for name, value in rest.items() if name.startswith("streamdriver")}
    rest = {name: value for name, value in rest.items() if name not in streams}
    if transport == "tls":
        same = old is not None and old.endpoint[2] == "tls"
        said |= {"streamdriver": "gtls", "streamdrivermode": "1"} | (streams if same else {})
        verify = state.get("verify", ("on" if "peer" in state else "off",))[0] == "on"
        checks = said.get("streamdriverauthmode", "x509/name").lower() in ("x509/name", "x509/fingerprint")
        if verify != checks or "streamdriverauthmode" not in said:
            said["streamdriverauthmode"] = "x509/name" if verify else "anon"
        if not verify:
            said.pop("streamdriverpermittedpeers", None)
        elif "peer" in state:
            said["streamdriverpermittedpeers"] = state["peer"][0]
    return {**said, **rest}


def _kept(old: Action) -> dict[str, str]:
    """The parameters of an action that its destination's statements say nothing of, as they are written."""
    out: dict[str, str] = {}
    for name, param in old.params.items():
        if name in _SAID or (old.statement.kind == "legacy" and name not in CARRIED):
            continue
        if param.array is not None:
            out[name] = "\0".join(("", *param.array))
        elif param.value is None:
            raise ValueError(f"what {name} says is worked out elsewhere")
        elif param.value or old.statement.kind != "legacy":
            out[name] = param.value
    return out


def _quoted(value: str) -> str:
    if value.startswith("\0"):
        return f"[{', '.join(_quoted(one) for one in value[1:].split(chr(0)))}]"
    escaped = value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
    return f'"{escaped}"'


# In its place.


def _replace(forward: Forward, text: str, cuts: dict[str, list[Cut]]) -> None:
    statement = forward.action.statement
    here = cuts.setdefault(statement.source.name, [])
    if text.startswith("@") and statement.kind == "legacy":
        # A comment at the end of the line stays.
        comment = re.search(r"\s+#.*$", statement.text)
        text += comment[0] if comment else ""
    else:
        _without_directives(forward, cuts)
    here.append(cut(statement, text, forward.chain))


def _without_directives(forward: Forward, cuts: dict[str, list[Cut]]) -> None:
    """Takes away the directives that are about an action alone."""
    for directive in forward.action.before:
        gone = Cut(directive.start, directive.stop, "", directive.start)
        there = cuts.setdefault(directive.source.name, [])
        if gone not in there:
            there.append(gone)


def _remove(forwards: Sequence[Forward], model: Model, cuts: dict[str, list[Cut]]) -> None:
    """Takes actions away, with the rules around them that do nothing else; where a block must not be empty, and
    within a chain of `&`, what does nothing stands in their place."""
    tree = _Tree(model.statements)
    gone = {f.action.statement.place for f in forwards}
    for forward in forwards:
        _without_directives(forward, cuts)
        parent = tree.parent(forward.action.statement)
        while parent is not None and parent.kind in ("rule", "list"):
            inner = _real((*parent.body, *parent.other))
            if any(s.place not in gone or s.source is not parent.source for s in inner):
                break
            gone.add(parent.place)
            parent = tree.parent(parent)
    for statement in tree.outermost(gone):
        chain = tree.above(statement)
        block = tree.siblings(statement)
        emptied = all(s.place in gone for s in block) and block[0].place == statement.place
        instead = ""
        if chain and (emptied or chain[-1].kind == "list"):
            # A ruleset that does nothing at all ends the daemon where it is called.
            instead = "continue" if chain[-1].kind != "object" else "unset $.off;"
        cuts.setdefault(statement.source.name, []).append(cut(statement, instead, chain))


def _real(statements: Sequence[Statement]) -> list[Statement]:
    """Statements that do something; directives and includes stand between them."""
    return [s for s in statements if s.kind not in ("directive", "include")]


class _Tree:
    """Which statement stands in which."""

    def __init__(self, statements: Sequence[Statement]) -> None:
        self._parents: dict[At, tuple[Statement | None, tuple[Statement, ...]]] = {}
        self._order: list[Statement] = []
        self._enter(None, tuple(statements))

    def _enter(self, parent: Statement | None, branch: tuple[Statement, ...]) -> None:
        for s in branch:
            if s.kind in ("directive", "include"):
                continue
            self._parents.setdefault(s.place, (parent, branch))
            self._order.append(s)
            self._enter(s, s.body)
            self._enter(s, s.other)

    def parent(self, s: Statement) -> Statement | None:
        """What a statement stands in; None at the top."""
        return self._parents[s.place][0]

    def siblings(self, s: Statement) -> list[Statement]:
        """The statements beside it, itself among them."""
        return _real(self._parents[s.place][1])

    def above(self, s: Statement) -> list[Statement]:
        """All that it stands in, the outermost first."""
        out: list[Statement] = []
        parent = self.parent(s)
        while parent is not None:
            out.insert(0, parent)
            parent = self.parent(parent)
        return out

    def outermost(self, gone: set[At]) -> Iterator[Statement]:
        """Of the statements that go, those that stand in none that goes."""
        for s in self._order:
            parent = self.parent(s)
            if s.place in gone and (parent is None or parent.place not in gone):
                yield s


# In a place of its own.


def _with_own(data: bytes, lines: Sequence[str], wanted: Mapping[Endpoint, State]) -> bytes:
    """The text with these lines in the file of corrections, or in their part of the main file.

    Of all places that they could stand in, the first where they do what is wanted.
    """
    first: bytes | None = None
    for tried in _places(data, lines):
        first = tried if first is None else first
        got = states_of(read_model(tried))
        if all(key in got and got[key].get("select") == state.get("select") for key, state in wanted.items()):
            return tried
    return data if first is None else first


def _places(data: bytes, lines: Sequence[str]) -> Iterator[bytes]:
    texts = {p.name: p.data.decode("utf-8", "surrogateescape") for p in parts(data)}
    model = read_model(data)
    main = model.main.name
    own = next((name for name in texts if _is_drop_in(name)), "")
    block = BEGIN in texts[main]
    if not lines:
        if own:
            del texts[own]
        texts[main] = _without_block(texts[main])
        yield _packed(data, texts)
        return
    said = "".join(line + "\n" for line in (_HEAD, *lines))
    if own or (main and not block):
        folders = [str(PurePosixPath(p).parent) for p in model.includes if PurePosixPath(p).name in ("*.conf", "*")]
        for folder in dict.fromkeys(folders[:4]):
            for name in (own,) if own else dict.fromkeys((_behind_drops(model, folder), _FIRST)):
                path = name if own else str(PurePosixPath(folder) / name)
                yield _packed(data, {**texts, path: said})
    text = _without_block(texts[main])
    model = read_model(_packed(data, {**texts, main: text}))
    here = [s for s in model.statements if s.source.name == main]
    for s in here:
        # The default ruleset may be one with a body of its own.
        if s.kind == "object" and s.name == "ruleset" and s.body and s.params["name"].value == _default_of(model):
            inside = text.rfind("\n", 0, s.body[0].start) + 1
            if inside > s.start:
                yield _packed(data, {**texts, main: _inserted(text, inside, (BEGIN, *lines, END))})
    rulesets = (s.start for s in here if s.kind == "directive" and s.name == "ruleset")
    for at in dict.fromkeys((_behind(here), _before_rules(here), next(rulesets, 0), len(text))):
        at = len(text) if at is None else text.rfind("\n", 0, at) + 1
        yield _packed(data, {**texts, main: _inserted(text, at, (BEGIN, *lines, END))})


def _default_of(model: Model) -> str | None:
    found = [s.text.split()[0] for s in model.statements if s.name == "defaultruleset" and s.text]
    return found[-1] if found else None


def _behind_drops(model: Model, folder: str) -> str:
    """The name of a file that comes right behind the files which only drop messages for their text."""
    files: dict[str, list[Statement]] = {}
    for s in model.statements:
        if str(PurePosixPath(s.source.name).parent) == folder and s.kind not in ("directive", "include"):
            files.setdefault(s.source.name, []).append(s)
    last = ""
    for name in sorted(files):
        if not all(_drops_by_text(s) or s.kind == "object" for s in files[name]):
            break
        if any(_drops_by_text(s) for s in files[name]):
            last = PurePosixPath(name).name
    return f"{last.removesuffix('.conf')}.{DROP_IN}" if last.endswith(".conf") else _FIRST


def _drops_by_text(s: Statement) -> bool:
    """Whether a rule does nothing but drop messages, and not for their facility or severity alone."""
    only = [inner for inner in s.body if inner.kind not in ("directive", "include")]
    named = s.name in ("property", "if") and not s.other
    if not (s.kind == "rule" and named and len(only) == 1 and only[0].kind == "stop"):
        return False
    return bool(re.search(r"(?<![a-z-])(?:raw)?msg\b|syslogtag|programname|app-name|procid", s.raw, re.I))


def _behind(statements: Sequence[Statement]) -> int | None:
    """Where the rules end, at the beginning of a file, that only drop messages for their text."""
    return _before_rules([s for s in statements if not _drops_by_text(s)], statements)


def _before_rules(rules: Sequence[Statement], everything: Sequence[Statement] = ()) -> int | None:
    """Where the first rule stands, or the first directive that is about it alone."""
    at = next((n for n, s in enumerate(rules) if s.kind not in ("directive", "object")), None)
    if at is None:
        return None
    while at and rules[at - 1].kind == "directive" and rules[at - 1].name.startswith("action"):
        at -= 1
    return rules[at].start


def _without_block(text: str) -> str:
    return re.sub(rf"^{BEGIN}\r?\n(?:.*\n)*?{END}\r?\n", "", text, flags=re.M)


def _inserted(text: str, at: int, lines: Sequence[str]) -> str:
    # Lines that are commented out belong to the rules behind them.
    above = text[:at].split("\n")
    while len(above) > 1 and is_changed(above[-2]):
        above.pop(-2)
    at = min(at, len("\n".join(above)))
    gap = "" if not text[:at] or text[:at].endswith("\n") else "\n"
    return text[:at] + gap + "".join(line + "\n" for line in lines) + text[at:]


def _taken_back(data: bytes) -> bytes:
    """The text as it was before all corrections."""
    if not any(mark.encode() in data for mark in (OFF, BEGIN, _HEAD)):
        return data
    files: dict[str, str] = {}
    for part in parts(data):
        text = part.data.decode("utf-8", "surrogateescape")
        if not (_is_drop_in(part.name) and text.startswith(_HEAD)):
            files[part.name] = restored(_without_block(text))
    return _packed(data, files)


def _packed(data: bytes, files: Mapping[str, str]) -> bytes:
    encoded = {name: text.encode("utf-8", "surrogateescape") for name, text in files.items()}
    if not data.startswith(MARK):
        return encoded[""]
    order = [p.name for p in parts(data)]
    return pack({name: encoded[name] for name in (*[n for n in order if n in encoded], *encoded)})
