"""Writes one forwarding action: in place with other parameters, or rewritten, with its other
parameters kept.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from ivrel.core.shapes.rsyslog.flow.directives import CARRIED
from ivrel.core.shapes.rsyslog.flow.model import Action, Endpoint
from ivrel.core.shapes.rsyslog.flow.parameters import refused
from ivrel.core.shapes.rsyslog.flow.selectors import write_filter
from ivrel.core.shapes.rsyslog.flow.templates import Form, name_for
from ivrel.core.shapes.rsyslog.rewriting.state import State
from ivrel.core.shapes.rsyslog.syntax.statements import Statement
from ivrel.core.vocabulary.severity import EVERYTHING, selection_of
from ivrel.core.vocabulary.software import UNSAID

# What a destination's statements say of an action; all other parameters are kept as they are.
_SAID = ("type", "target", "port", "protocol", "template", "address", "device")
_UNSAID_PARAMS = {"port": "514", "protocol": "udp"}  # what holds where an action says nothing


def rule(key: Endpoint, state: State, old: Action | None) -> str:
    """Return one forwarding action with its filter, in one line."""
    takes = selection_of(state["select"][0]) if "select" in state else EVERYTHING
    return f"{write_filter(takes)} {_object(_parameters(key, state, old))}"


def replaced(key: Endpoint, state: State, old: Action) -> str:
    """Return a forwarding action in the place of another, in its style if that can say it."""
    if "template" not in old.params and old.form == state.get("form"):
        state = {
            name: words for name, words in state.items() if name != "form"
        }  # the same template holds on
    if old.statement.kind == "legacy":
        return _in_older_style(key, state, old) or _object(_parameters(key, state, old))
    return _edited(old.statement, _parameters(key, state, old))


def _in_older_style(key: Endpoint, state: State, old: Action) -> str:
    """`@host:port;template`; '' if that cannot say it."""
    address, port, transport = key
    # These need an object: the short form has no room for them.
    unlike = (
        transport == "tls" or old.endpoint[2] == "tls" or "address" in state or "device" in state
    )
    options = re.match(r"@@?(\([^)]*\))?", old.statement.text)
    if unlike or transport == "relp" or old.kind != "omfwd" or options is None:
        return ""
    template = _template(state, old)
    said = f"[{address}]" if ":" in address else address
    sign = "@@" if transport == "tcp" else "@"
    form = f";{template}" if template else ""
    return f"{sign}{options[1] or ''}{said}:{port}{form}"


def _template(state: State, old: Action | None) -> str | None:
    """Return the template that a state asks for: the old one if its form is not asked to be
    another.
    """
    form = state.get("form")
    if old is not None and "template" in old.params and old.form is not None:
        before = old.form if isinstance(old.form, tuple) else None
        is_taken = not any(refused(old.kind, {"template": old.params["template"]}, UNSAID))
        if is_taken and (form is None or form[0] == "depends" or before == form):
            return old.params["template"].value
    return name_for(_form(form)) if form and form[0] != "depends" else None


def _form(words: Sequence[str]) -> Form:
    return words[0], words[1], words[2], words[3]


def _object(params: Mapping[str, str]) -> str:
    """Return an action as an object in one line."""
    return f"action({' '.join(f'{name}={_quoted(value)}' for name, value in params.items())})"


def _edited(statement: Statement, params: Mapping[str, str]) -> str:
    """Return an action with other parameters, laid out as it is: values change in place, new ones
    follow the target.
    """
    text = statement.source.whole[statement.start : statement.stop]
    begun = statement.start
    told = {name: value for name, value in params.items() if name in statement.params}
    new = {n: v for n, v in params.items() if n not in told and _UNSAID_PARAMS.get(n) != v}
    anchor = statement.params.get("target") or list(statement.params.values())[-1]
    # From the end, so that the places of those further up stay true.
    for param, name in sorted(
        ((p, n) for n, p in statement.params.items()), key=lambda one: -one[0].start
    ):
        start = param.start - begun
        stop = param.stop - begun
        if name not in told:
            start = len(text[:start].rstrip(" \t"))
            instead = ""
        else:
            old = _quoted(
                "\0".join(("", *param.array)) if param.array is not None else param.value or ""
            )
            same = old == _quoted(told[name])
            instead = (
                text[start:stop]
                if same
                else f"{text[start:stop].partition('=')[0]}={_quoted(told[name])}"
            )
        if param is anchor:
            instead += "".join(f" {n}={_quoted(v)}" for n, v in new.items())
        text = text[:start] + instead + text[stop:]
    was = statement.source.whole[statement.start : statement.stop].split("\n")
    # A line that lost its only parameter goes; one that was blank before stays.
    blank = {n for n, line in enumerate(was) if not line.strip()}
    return "\n".join(line for n, line in enumerate(text.split("\n")) if line.strip() or n in blank)


def _parameters(key: Endpoint, state: State, old: Action | None) -> dict[str, str]:
    """Return the parameters of a forwarding action.

    Parameters of the old one that the state says nothing of are kept.
    """
    address, port, transport = key
    if transport == "relp":
        raise ValueError("RELP is read, but not written")
    kind = (
        old.kind if old and old.kind in ("omfwd", "omudpspoof") and transport == "udp" else "omfwd"
    )
    said = {"type": kind, "target": address, "port": port}
    if kind == "omfwd":
        said["protocol"] = "udp" if transport == "udp" else "tcp"
    template = _template(state, old)
    if template:
        said["template"] = template
    # rsyslog takes an address to send from for UDP alone.
    said |= {
        name: state[name][0]
        for name in ("address", "device")[transport != "udp" :]
        if name in state
    }
    rest = _kept(old) if old else {}
    if old and old.kind != kind:
        rest = {
            name: value
            for name, value in rest.items()
            if name.startswith(("action.", "queue.")) or name == "name"
        }
    streams = {name: value for name, value in rest.items() if name.startswith("streamdriver")}
    rest = {name: value for name, value in rest.items() if name not in streams}
    if transport == "tls":
        same = old is not None and old.endpoint[2] == "tls"
        said |= {"streamdriver": "gtls", "streamdrivermode": "1"} | (streams if same else {})
        # A name to expect means that the peer is verified, also where that is not said.
        verify = state.get("verify", ("on" if "peer" in state else "off",))[0] == "on"
        checks = said.get("streamdriverauthmode", "x509/name").lower() in (
            "x509/name",
            "x509/fingerprint",
        )
        if verify != checks or "streamdriverauthmode" not in said:
            said["streamdriverauthmode"] = "x509/name" if verify else "anon"
        if not verify:
            said.pop("streamdriverpermittedpeers", None)
        elif "peer" in state:
            said["streamdriverpermittedpeers"] = state["peer"][0]
    return {**said, **rest}


def _kept(old: Action) -> dict[str, str]:
    """Return the parameters of an action that its destination's statements say nothing of, as they
    are written.
    """
    out: dict[str, str] = {}
    for name, param in old.params.items():
        if name in _SAID or (old.statement.kind == "legacy" and name not in CARRIED):
            continue
        if any(refused(old.kind, {name: param}, UNSAID)):
            continue  # with this value the daemon would take the action for none
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
