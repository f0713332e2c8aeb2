"""Writes what a configuration forwards: actions are changed where they are, and new ones get a
place of their own.

Other parameters of an action, such as queues, retries and rate limits, are kept. New actions come
behind the administrator's rules that drop messages for their text, and before all others.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from ivrel.core.shapes.rsyslog.flow.model import Action, Endpoint, Forward
from ivrel.core.shapes.rsyslog.flow.whole import Read
from ivrel.core.shapes.rsyslog.rewriting.action import replaced, rule
from ivrel.core.shapes.rsyslog.rewriting.edit import OFF, Replacement, changed
from ivrel.core.shapes.rsyslog.rewriting.place import is_own, packed, taken_back, with_own
from ivrel.core.shapes.rsyslog.rewriting.removal import remove_actions, replace_action
from ivrel.core.shapes.rsyslog.rewriting.state import UNSAID, State, States, by_endpoint, states_of
from ivrel.core.text.bundle import parts

_KEPT_STATE = ("address", "device", "verify", "peer")


def rewritten(data: bytes, states: Mapping[Endpoint, State], read: Read) -> bytes:
    """Return the text that forwards what the states say; ValueError if that cannot be written.

    read: reads a text as the daemon of the device does.
    """
    back = taken_back(data)
    if back != data and _told(states_of(read(back))) == _told(states):
        return back
    model = read(data)
    old = states_of(model)
    moved = {key for key in {**old, **states} if old.get(key) != states.get(key)}
    if not moved:
        return data
    # An action that was commented out and comes back keeps its other parameters.
    kept = {f.endpoint: f.action for f in (*read(back).forwards[::-1], *model.forwards[::-1])}
    standing = by_endpoint(model)
    cuts: dict[str, list[Replacement]] = {}
    written: dict[Endpoint, Action | None] = {}
    leaving: list[Forward] = []
    # Where the configuration has a template of its own for actions that name none, each names its
    # own.
    plain = {"form": UNSAID["form"]} if model.default_form else {}
    heirs = dict(pairs(old, states))
    for key in states:
        source = heirs.get(key, key if key in old else None)
        forwards = standing.get(source, []) if source else []
        own = [f for f in forwards if is_own(f.action.statement)]
        if key not in moved and not own:
            continue
        base = forwards[0].action if forwards else kept.get(key)
        if forwards and not own and source and _same_filter(old[source], states[key]):
            for forward in forwards:
                said = states[key] if forward.action.form is not None else {**plain, **states[key]}
                replace_action(forward, replaced(key, said, forward.action), cuts)
            continue
        if any(f.doubt for f in forwards) and "surely" in states[key]:
            raise ValueError(f"what reaches {key[0]} is not understood; it cannot be written anew")
        written[key] = base
        leaving += [forward for forward in forwards if forward not in own]
    taken = set(heirs.values())
    for key in [k for k in old if k not in states and k not in taken]:
        leaving += [f for f in standing[key] if not is_own(f.action.statement)]
    remove_actions(leaving, model, cuts)
    gone = [f for f in model.forwards if is_own(f.action.statement) and f.endpoint not in written]
    lines = [rule(key, {**plain, **states[key]}, action) for key, action in written.items()]
    lines += [OFF + rule(f.endpoint, old[f.endpoint], f.action) for f in gone]
    texts = {p.name: p.text for p in parts(data)}
    for name, inside in cuts.items():
        if name not in texts:
            raise ValueError(
                "an action that stands within the text of an include cannot be changed"
            )
        texts[name] = changed(texts[name], inside)
    return with_own(packed(data, texts), lines, {key: states[key] for key in written}, read)


def pairs(
    old: Mapping[Endpoint, State], states: Mapping[Endpoint, State]
) -> Iterator[tuple[Endpoint, Endpoint]]:
    """New endpoints, each with the one that it takes the place of: at the same address, or with the
    same filter.
    """
    gone = [key for key in old if key not in states]
    fresh = [key for key in states if key not in old]
    ways: tuple[Callable[[Endpoint, Endpoint], bool], ...] = (
        # Of several at one address, the one whose messages have the form that is asked for.
        lambda a, b: a[0] == b[0] and old[a].get("form") == {**UNSAID, **states[b]}["form"],
        lambda a, b: a[0] == b[0],
        lambda a, b: old[a] == states[b],
        lambda a, b: _filter(old[a]) == _filter(states[b]),
    )
    for fits in ways:
        for key in list(fresh):
            other = next((k for k in gone if fits(k, key)), None)
            if other is not None:
                gone.remove(other)
                fresh.remove(key)
                yield key, other


def _same_filter(old: State, new: State) -> bool:
    """Whether the filter in front of an action can stay.

    Where something was lacking, it was never looked at.
    """
    return _filter(old) == _filter(new) or ("lacks" in old and "select" not in new)


def _filter(state: State) -> tuple[object, object]:
    return state.get("select"), state.get("surely")


def _told(states: Mapping[Endpoint, State]) -> States:
    """Return the values of each destination that statements can set.

    Other parameters stay with their action.
    """
    kept = (*UNSAID, *_KEPT_STATE, "surely")
    said = {
        key: {n: w for n, w in state.items() if n in kept and w[0] != "depends"}
        for key, state in states.items()
    }
    return {key: {**UNSAID, **state} for key, state in said.items()}
