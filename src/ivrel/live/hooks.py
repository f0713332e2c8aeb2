"""Hooks: programs of the user's that are called around a delivery to one device."""

from __future__ import annotations

import json
from collections.abc import Sequence

from ivrel.core.delivery.dialog import Exchange
from ivrel.core.vocabulary.errors import Unreachable
from ivrel.core.vocabulary.wording import plain, shorten
from ivrel.live.links import Link, Target
from ivrel.live.links.programs import called


async def objection(link: Link, words: Sequence[str], step: str, change: str) -> str:
    """Call a program, and return what it has against going on; '' if it has nothing.

    It gets what is known of the device as JSON on standard input, and says no by its exit code.
    What it wrote is in the record, without the words of the configuration.
    """
    target = link.target
    given = json.dumps({"step": step, **_facts(target), "change": change}).encode()
    try:
        code, out, err = await called(target, words, given)
    except Unreachable as problem:
        return str(problem)
    shown = link.hider.shown(err + out)
    link.exchanges.append(Exchange(" ".join(words), shown or ("ok",)))
    if not code:
        return ""
    said = next(iter(shown), "no word why")
    return shorten(plain(f"{words[0]} ended with {code}: {said}"), 160)


def _facts(target: Target) -> dict[str, object]:
    device, reach = target.device, target.reach
    return {
        "device": device.name,
        "kind": device.kind,
        "site": device.site,
        "platform": device.platform,
        "groups": list(device.groups),
        "identity": device.identity,
        "address": reach.address,
        "port": reach.port,
    }
