"""Hooks: calls the user's programs around a delivery, and around each device of it."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence

from ivrel.core.delivery.dialog import LONG, SHOWN, Exchange
from ivrel.core.vocabulary.errors import Unreachable
from ivrel.core.vocabulary.wording import plain, shorten
from ivrel.live.links import Link, Target
from ivrel.live.links.programs import called, ended

# Records a moment of a delivery in the journal, with the program called and its output.
Note = Callable[[str, Sequence[Exchange]], None]


class Hooks:
    """Calls the programs under `on:` of the fleet, for one delivery.

    on: the command for each moment.
    facts: what every program gets about the delivery.
    note: records a call in the journal.
    patience: seconds after which a program has failed.
    """

    def __init__(
        self,
        on: Mapping[str, Sequence[str]],
        facts: Mapping[str, object],
        note: Note,
        patience: int,
    ) -> None:
        self._on = on
        self._facts = facts
        self._note = note
        self._patience = patience

    async def call(self, moment: str, **more: object) -> str:
        """Call the program for a moment, with `facts` and `more` as JSON on standard input.

        Return why the delivery should stop: empty if the program succeeded, or if there is none.
        """
        words = self._on.get(moment)
        if not words:
            return ""
        given = json.dumps({"moment": moment, **self._facts, **more}).encode() + b"\n"
        try:
            code, out, err = await ended(words, given, self._patience)
        except Unreachable as problem:
            code = 1
            said = [str(problem)]
        else:
            said = [plain(one) for one in (err + out).decode("utf-8", "replace").splitlines()]
        shown = tuple(shorten(one, LONG) for one in said if one.strip())[:SHOWN]
        self._note(moment, [Exchange(" ".join(words), shown or ("ok",))])
        if not code:
            return ""
        return shorten(f"{words[0]} said no: {next(iter(shown), 'no word why')}", LONG)


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
    device = target.device
    reach = target.reach
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
