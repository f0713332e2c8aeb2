"""Writes what a configuration forwards: one file of its own, and the lines that contradict it commented out."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import PurePosixPath

from ivrel.core.bundle import MARK, pack, parts
from ivrel.core.dialects.shapes.rsyslog.model import Endpoint, Forward, Model, read_model
from ivrel.core.dialects.shapes.rsyslog.script import Statement, read_script
from ivrel.core.dialects.shapes.rsyslog.selectors import write_filter
from ivrel.core.dialects.shapes.rsyslog.templates import BARE, name_for
from ivrel.core.severity import EVERYTHING, NOTHING, selection_of

State = Mapping[str, tuple[str, ...]]
States = dict[Endpoint, State]

DROP_IN = "00-export.conf"
OFF = "#off# "  # before lines that are commented out, so that a back-out finds them
TAG = "# in place of the lines above"
BEGIN, END = "# export settings: begin", "# export settings: end"
INCLUDED = "# export settings"

# What an action does that says nothing of it.
UNSAID: State = {"select": (EVERYTHING.word,), "form": BARE}

# The parameters that a state says; all others of an action are kept as they are.
_SAID = ("type", "target", "port", "protocol", "template", "address", "device", "streamdrivermode")


def state_of(forwards: Sequence[Forward]) -> State:
    """What the statements inside of a destination say, by their first words."""
    first = forwards[0]
    taken = NOTHING
    for forward in forwards:
        taken |= forward.takes.most
    out: dict[str, tuple[str, ...]] = {"select": (taken.word,)}
    form = first.form
    out["form"] = form if isinstance(form, tuple) else ("depends", "on", form.text)
    params = {name: said for name, (said, _) in first.params.items()}
    transport = first.endpoint[2]
    if "address" in params:
        # rsyslog takes the address for UDP only, and says so when it starts.
        out["address" if transport == "udp" else "idle-address"] = (params["address"],)
    if "device" in params:
        out["device"] = (params["device"],)
    if transport == "tls":
        mode = params.get("streamdriverauthmode", "anon")
        out["verify"] = ("on" if mode.startswith("x509/") and mode != "x509/certvalid" else "off",)
    if "queue.type" in params:
        out["queue"] = (params["queue.type"].lower(), params.get("queue.size", "1000"))
    return out


def rewritten(data: bytes, states: Mapping[Endpoint, State]) -> bytes:
    """The text that forwards what the states say; ValueError if that cannot be written."""
    back = _taken_back(data)
    if back != data and _told(states_of(read_model(back))) == _told(states):
        return back
    model = read_model(data)
    old = states_of(model)
    changed = {key for key in {**old, **states} if old.get(key) != states.get(key)}
    if not changed:
        return data
    own = [f for f in model.forwards if _is_own(f, data)]
    # What an action says besides is kept, also of one that stands commented out and comes back.
    kept = {f.endpoint: f for f in (*reversed(read_model(_uncommented(data)).forwards), *reversed(model.forwards))}
    for key in [k for k in old if k in changed and k in states]:
        of_it = [f for f in model.forwards if f.endpoint == key]
        if any(f.doubt for f in of_it):
            if len(of_it) > 1 or states[key].get("select") != old[key]["select"]:
                raise ValueError(f"what reaches {key[0]} is not understood; it cannot be written anew")
            # Its filter is kept as it stands, whatever it takes.
            data = _without(data, of_it[0], _params(key, states[key], of_it[0]))
            changed.remove(key)
    if not changed:
        return data
    model = read_model(data)
    written = [key for key in states if key in changed or any(f.endpoint == key for f in own)]
    lines = [_action(key, states[key], kept.get(key)) for key in written]
    lines += [OFF + _action(f.endpoint, old[f.endpoint], f) for f in own if f.endpoint not in states]
    while gone := [f for f in read_model(data).forwards if f.endpoint in changed and not _is_own(f, data)]:
        data = _without(data, gone[0])
    return _with_own(data, model, lines)


def _told(states: Mapping[Endpoint, State]) -> States:
    """What statements can say of each destination; other parameters stay with their action."""
    kept = (*UNSAID, "address", "device", "verify")
    return {key: {n: w for n, w in {**UNSAID, **state}.items() if n in kept} for key, state in states.items()}


def states_of(model: Model) -> States:
    """What each destination says."""
    return {key: state_of(forwards) for key, forwards in by_endpoint(model).items()}


def by_endpoint(model: Model) -> dict[Endpoint, list[Forward]]:
    """The forwarding actions by endpoint: several of the same are one destination."""
    out: dict[Endpoint, list[Forward]] = {}
    for forward in model.forwards:
        out.setdefault(forward.endpoint, []).append(forward)
    return out


def _is_own(forward: Forward, data: bytes) -> bool:
    """Whether an action stands where corrections write."""
    if PurePosixPath(forward.file).name == DROP_IN:
        return True
    text = next(p.data for p in parts(data) if p.name == forward.file).decode("utf-8", "replace")
    at = forward.chain[0].start
    return text.rfind(BEGIN, 0, at) > text.rfind(END, 0, at)


def _action(key: Endpoint, state: State, old: Forward | None) -> str:
    """One forwarding action with its filter, in one line."""
    takes = selection_of(state["select"][0]) if "select" in state else EVERYTHING
    return f"{write_filter(takes)} {_params(key, state, old)}"


def _params(key: Endpoint, state: State, old: Forward | None) -> str:
    """A forwarding action; parameters of the old one that the state says nothing of are kept."""
    address, port, transport = key
    said = {"type": "omfwd", "target": address, "port": port, "protocol": "udp" if transport == "udp" else "tcp"}
    form = state.get("form")
    if form and form[0] == "depends":
        template = old.params["template"][0] if old and "template" in old.params else None
    else:
        template = name_for((form[0], form[1], form[2], form[3])) if form else None
    if template:
        said["template"] = template
    for name in ("address", "device"):
        if name in state:
            said[name] = state[name][0]
    if transport == "tls":
        said |= {"streamdriver": "gtls", "streamdrivermode": "1"}
        verify = state.get("verify", ("on",))[0] == "on"
        said["streamdriverauthmode"] = "x509/name" if verify else "anon"
        if verify:
            said["streamdriverpermittedpeers"] = address
    rest = {n: v for n, (v, _) in old.params.items() if n not in _SAID} if old else {}
    if transport != "tls":
        rest = {n: v for n, v in rest.items() if not n.startswith("streamdriver")}
    elif rest.get("streamdriverauthmode", "").startswith("x509/") != (said["streamdriverauthmode"] == "x509/name"):
        rest = {n: v for n, v in rest.items() if n not in ("streamdriverauthmode", "streamdriverpermittedpeers")}
    params = " ".join(f'{name}="{_quoted(value)}"' for name, value in {**said, **rest}.items())
    return f"action({params})"


def _quoted(value: str) -> str:
    return value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")


def _without(data: bytes, forward: Forward, instead: str = "") -> bytes:
    """The text without one action: its lines commented out, and another or `continue` in its place."""
    files = {p.name: p.data.decode("utf-8", "replace") for p in parts(data)}
    text = files[forward.file]
    lines = text.split("\n")
    statement, place = forward.chain[-1], forward.chain[-1]
    for above, inner in zip(reversed(forward.chain[:-1]), reversed(forward.chain), strict=False):
        if above.kind != "rule" or above.other or len(above.body) != 1 or above.body[0] is not inner:
            break
        place = above
    outer = forward.chain[: forward.chain.index(place)]
    alone = bool(outer) and any(
        len(branch) == 1 and branch[0] is place for branch in (outer[-1].body, outer[-1].other)
    )
    first, last = _lines_of(text, place)
    before, after = _around(text, place)
    if instead or alone or before.strip() or after.strip():
        first, last = _lines_of(text, statement)
        before, after = _around(text, statement)
        stand_in = [f"{before}{instead or 'continue'}{after} {TAG}"]
    else:
        stand_in = []
    out = [*lines[:first], *(OFF + line for line in lines[first : last + 1]), *stand_in, *lines[last + 1 :]]
    for at in forward.before:
        out[at - 1] = OFF + out[at - 1]
    return _packed(data, {**files, forward.file: "\n".join(out)})


def _lines_of(text: str, s: Statement) -> tuple[int, int]:
    return text.count("\n", 0, s.start), text.count("\n", 0, s.stop)


def _around(text: str, s: Statement) -> tuple[str, str]:
    """What stands before and behind a statement on its lines, comments aside."""
    end = text.find("\n", s.stop)
    after = text[s.stop : end if end >= 0 else len(text)]
    return text[text.rfind("\n", 0, s.start) + 1 : s.start], re.sub(r"(^|\s)#.*", "", after)


def _with_own(data: bytes, model: Model, actions: Sequence[str]) -> bytes:
    """The text with these actions in the file of corrections, or in their part of the only file."""
    files = {p.name: p.data.decode("utf-8", "replace") for p in parts(data)}
    main = model.main.name
    if not main:
        return _packed(data, {main: _with_block(files[main], actions)})
    folders = [p for p in model.includes if _takes_drop_ins(p)]
    at = str(PurePosixPath(folders[0]).parent / DROP_IN) if folders else ""
    own = next((name for name in files if PurePosixPath(name).name == DROP_IN), at)
    if not own:
        own = str(PurePosixPath(main).parent / DROP_IN)
        files[main] = _inserted(files[main], [f'include(file="/etc/{DROP_IN}") {INCLUDED}'])
    if actions:
        said = ["# What is forwarded. Each correction writes this file anew.", *actions]
        files[own] = "".join(line + "\n" for line in said)
    else:
        files.pop(own, None)
    return _packed(data, files)


def _takes_drop_ins(pattern: str) -> bool:
    return PurePosixPath(pattern).name in ("*.conf", "*")


def _with_block(text: str, actions: Sequence[str]) -> str:
    text = re.sub(rf"^{BEGIN}\n(?:.*\n)*?{END}\n", "", text, flags=re.M)
    return _inserted(text, [BEGIN, *actions, END]) if actions else text


def _inserted(text: str, lines: Sequence[str]) -> str:
    """The text with lines before its first rule."""
    rules = (s for s in read_script(text) if s.kind in ("rule", "action", "stop", "call") or s.name == "include")
    first = next((s for s in rules), None)
    at = len(text) if first is None else text.rfind("\n", 0, first.start) + 1
    # Lines that are commented out belong to the rules behind them.
    above = text[:at].split("\n")
    while len(above) > 1 and above[-2].startswith(OFF):
        above.pop(-2)
    at = len("\n".join(above)) if first is not None else at
    gap = "" if not text[:at] or text[:at].endswith("\n") else "\n"
    return text[:at] + gap + "".join(line + "\n" for line in lines) + text[at:]


def _uncommented(data: bytes) -> bytes:
    """The text with all that corrections commented out beside what they wrote, for looking things up."""
    if OFF.encode() not in data:
        return data
    return _packed(data, {p.name: p.data.decode("utf-8", "replace").replace(OFF, "") for p in parts(data)})


def _taken_back(data: bytes) -> bytes:
    """The text as it was before all corrections."""
    files: dict[str, str] = {}
    for part in parts(data):
        if PurePosixPath(part.name).name == DROP_IN:
            continue
        text = part.data.decode("utf-8", "replace")
        if OFF in text or BEGIN in text or INCLUDED in text:
            text = re.sub(rf"^{BEGIN}\n(?:.*\n)*?{END}\n", "", text, flags=re.M)
            lines = [line for line in text.split("\n") if not line.endswith((TAG, f") {INCLUDED}"))]
            while any(line.startswith(OFF) for line in lines):
                lines = [line.removeprefix(OFF) for line in lines]
            text = "\n".join(lines)
        files[part.name] = text
    return _packed(data, files)


def _packed(data: bytes, files: Mapping[str, str]) -> bytes:
    encoded = {name: text.encode() for name, text in files.items()}
    if not data.startswith(MARK):
        return encoded[""]
    order = [p.name for p in parts(data)]
    return pack({name: encoded[name] for name in (*[n for n in order if n in encoded], *encoded)})
