"""Results of fetching configurations and host keys from devices."""

from __future__ import annotations

from msgspec import Struct

# Worst first; `other layout`: every statement is as before, and comments or the layout are not.
STATES = ("not gathered", "kept beside", "new", "changed", "other layout", "as before")


class GatheredDevice(Struct, frozen=True):
    """One device: its state, the file, why it was not gathered, which statements of export settings
    are gone or have come, and what else is to be said of what it printed.

    `display`: the file with what it showed of its present state; `no_display`: why there is none,
    although it was asked for.
    """

    device: str
    platform: str
    state: str
    file: str = ""
    problem: str = ""
    gone: tuple[str, ...] = ()
    come: tuple[str, ...] = ()
    remark: str = ""
    display: str = ""
    no_display: str = ""


class HostKey(Struct, frozen=True):
    """The key that a host shows; `state`: 'learnt', 'known', 'another' or 'none'."""

    device: str
    address: str
    port: int
    kind: str = ""
    fingerprint: str = ""
    state: str = "none"
    problem: str = ""
