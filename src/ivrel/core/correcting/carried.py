"""A corrected configuration against what the platform's own program did with it."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.settings import Scope
from ivrel.core.settings.sending import lacking, sendings
from ivrel.core.vocabulary.severity import NOTHING, Selection

Endpoint = tuple[str, int, str]  # address or name, port, transport


def departure_of(scope: Scope, sends: Mapping[Endpoint, Selection]) -> str:
    """Return where what was computed departs from what arrived; '' if it does not.

    sends: what each receiver got, of one message of every facility and severity.
    """
    known: set[Endpoint] = set()
    for d in scope.destinations:
        end = str(d.endpoint[0]), int(str(d.endpoint[1])), str(d.endpoint[2])
        known.add(end)
        got = sends.get(end, NOTHING)
        for said in sendings(scope, d).values():
            surely = NOTHING if lacking(scope, d) else said.sure
            if not got <= said:
                return f"{d.title} got {(got - said).describe()} besides"
            if not surely <= got:
                return f"{d.title} did not get {(surely - got).describe()}"
    others = sorted(end for end, got in sends.items() if got and end not in known)
    return f"{' '.join(map(str, others[0]))} got messages, too" if others else ""
