"""What each destination says, in the words of the shape's statements."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from ivrel.core.shapes.rsyslog.flow.bounds import NONE
from ivrel.core.shapes.rsyslog.flow.model import Endpoint, Forward, Model
from ivrel.core.shapes.rsyslog.flow.templates import BARE
from ivrel.core.shapes.rsyslog.syntax.statements import said_of
from ivrel.core.vocabulary.severity import EVERYTHING

State = Mapping[str, tuple[str, ...]]
States = dict[Endpoint, State]

# What an action does that says nothing of it.
UNSAID: State = {"select": (EVERYTHING.word,), "form": BARE}

# Letters behind a number: small ones count by 1024, capital ones by 1000.
_SIZES = {c: 1024 ** (n + 1) for n, c in enumerate("kmgtpe")} | {
    c: 1000 ** (n + 1) for n, c in enumerate("KMGTPE")
}


def states_of(model: Model) -> States:
    """Return the statements of each destination."""
    return {key: state_of(forwards) for key, forwards in by_endpoint(model).items()}


def by_endpoint(model: Model) -> dict[Endpoint, list[Forward]]:
    """Return the forwarding actions by endpoint: several of the same are one destination."""
    out: dict[Endpoint, list[Forward]] = {}
    for forward in model.forwards:
        out.setdefault(forward.endpoint, []).append(forward)
    return out


def state_of(forwards: Sequence[Forward]) -> State:
    """Return the statements within a destination by their first words."""
    first = next((f for f in forwards if not f.action.idle), forwards[0])
    takes = NONE
    for forward in forwards:
        takes = takes | forward.takes
    out: dict[str, tuple[str, ...]] = {"select": (takes.most.word,)}
    if not takes.known:
        out["surely"] = (takes.sure.word,)
    if all(forward.action.idle for forward in forwards):
        out["lacks"] = (first.action.idle,)
    form = first.action.form
    if form is not None:
        out["form"] = form if isinstance(form, tuple) else ("depends", "on", form.text)
    params = first.action.params
    transport = first.endpoint[2]
    address = said_of(params, "address")
    device = said_of(params, "device")
    if address:
        # rsyslog takes the address for UDP only, and says so when it starts.
        out["address" if transport == "udp" else "idle-address"] = (address,)
    if device:
        out["device"] = (device,)
    if transport == "tls":
        mode = (said_of(params, "streamdriverauthmode") or "x509/name").lower()
        out["verify"] = ("on" if mode in ("x509/name", "x509/fingerprint") else "off",)
        peers = params.get("streamdriverpermittedpeers")
        said = peers.array or (peers.value or "").split(",") if peers else ()
        names = [name.strip() for name in said if name.strip()]
        if names and mode == "x509/name":
            out["peer"] = (",".join(names),)
    kind = (said_of(params, "queue.type") or "direct").lower()
    if kind != "direct":
        out["queue"] = (kind, _size(said_of(params, "queue.size") or "1000"))
    return out


def _size(text: str) -> str:
    found = re.fullmatch(r"([0-9]{1,12})([kmgtpeKMGTPE]?)", text)
    return str(int(found[1]) * _SIZES.get(found[2], 1)) if found else "?"
