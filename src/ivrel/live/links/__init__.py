"""Links to devices: one class a way, in the table `LINKS`."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module

from ivrel.core.vocabulary.errors import Unreachable
from ivrel.live.links.link import Link, OutgoingChange, Route, Target

__all__ = ["Link", "OutgoingChange", "Route", "Target", "open_link"]

# By what the fleet says under `via`, and whether the platform's configuration is files: the module
# of a way and its class. A way is loaded when a device is reached by it.
LINKS: Mapping[tuple[str, bool], tuple[str, str]] = {
    ("ssh", False): ("talk", "Talk"),
    ("ssh", True): ("replaced", "Replaced"),
    ("netconf", False): ("netconf", "Netconf"),
    ("command", False): ("programs", "Programs"),
    ("command", True): ("programs", "Programs"),
}


async def open_link(target: Target) -> Link:
    """Return a link to a device, which is logged in; Unreachable tells why there is none."""
    reach = target.reach
    session = target.dialect.session
    if not reach.via:
        raise Unreachable("the fleet does not say how to reach it (reach: via)")
    has_files = session is not None and bool(session.files)
    if (reach.via, has_files) not in LINKS:
        raise Unreachable(f"a configuration of files is not reached by {reach.via}; expected ssh")
    module, name = LINKS[reach.via, has_files]
    link: Link = getattr(import_module(f"ivrel.live.links.{module}"), name)(target)
    try:
        await link.open()
    except BaseException:
        await link.close()
        raise
    return link
