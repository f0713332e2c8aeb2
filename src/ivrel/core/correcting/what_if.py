"""What another policy would change for one device: what is asked, the verdicts, the lines to send.

For the discussion before a rule is tightened.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping
from datetime import date
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting.correction import Correction
from ivrel.core.correcting.corrector import Corrector
from ivrel.core.correcting.reasons import CorrectionLine
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging.judge import with_waivers
from ivrel.core.policy import Policy, effective
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.verdict import Verdict

NOT_ASKED = "-"  # in the place of a verdict


class Otherwise(Struct, frozen=True):
    """One setting of a device that is asked or judged otherwise by the other policy.

    What is asked is in words, '' for nothing; a verdict is NOT_ASKED where nothing is asked.
    """

    setting: str
    asked: str
    would_ask: str
    verdict: str
    would_be: str
    why: str = ""

    @property
    def is_judged_otherwise(self) -> bool:
        """Whether the verdict is another one."""
        return self.verdict != self.would_be


class WhatIf(Struct, frozen=True):
    """What another policy would change for a device.

    `dropped`: the lines of today's correction that would not be sent; `added`: those that would be
    sent in addition. `problem`: why the configuration could not be read, if it could not.
    """

    device: str
    platform: str
    settings: tuple[Otherwise, ...] = ()
    dropped: tuple[CorrectionLine, ...] = ()
    added: tuple[CorrectionLine, ...] = ()
    lines: tuple[int, int] = (0, 0)
    problem: str = ""

    @property
    def differs(self) -> bool:
        """Whether anything would be other than it is."""
        return bool(self.settings or self.dropped or self.added)


def what_if(
    device: Device,
    dialect: Dialect,
    data: bytes | Text,
    correctors: tuple[Corrector, Corrector],
    file: str,
) -> WhatIf:
    """Return the difference that the second corrector's policy makes for a device.

    `file`: what the configuration is called. Both are about the same settings, on the same day.
    Unreadable if the configuration is none of the platform's.
    """
    one, other = correctors
    now = one.correct(device, dialect, data, file)
    if _asks_alike(device, (one.auditor.policy, other.auditor.policy), one.auditor.today):
        return WhatIf(device.name, dialect.name, lines=(len(now.changes), len(now.changes)))
    then = other.correct(device, dialect, data, file)
    dropped = _lines_of_one(now, then)
    added = _lines_of_one(then, now)
    return WhatIf(
        device.name,
        dialect.name,
        tuple(_otherwise(now, then, one.only)),
        dropped,
        added,
        (len(now.changes), len(then.changes)),
    )


def _asks_alike(device: Device, policies: tuple[Policy, Policy], today: date) -> bool:
    """Whether both policies surely say the same of a device, whatever its configuration is."""
    one, other = (_asked(device, policy, today) for policy in policies)
    return bool(one == other)


def _asked(device: Device, policy: Policy, today: date) -> Any:
    """Return all that a policy says of a device, without the place and the rule."""
    asked = effective(policy, device)
    # A waiver may hold, have run out, or not be there, and its words are shown with a verdict.
    undecided = tuple(Verdict(name, "breaks", "", r.text, "", "", ()) for name, r in asked.items())
    return (
        {name: (r.needs, r.problem) for name, r in asked.items()},
        {name: replace(c, line=0) for name, c in policy.collectors.items()},
        with_waivers(device, undecided, policy, today),
    )


def _otherwise(now: Correction, then: Correction, only: Collection[str]) -> list[Otherwise]:
    verdicts: tuple[Mapping[str, Verdict], ...] = tuple(
        {v.setting: v for v in c.before.verdicts} for c in (now, then)
    )
    out = []
    for name in {**verdicts[0], **verdicts[1]}:
        one, other = (of.get(name) for of in verdicts)
        found = Otherwise(
            name,
            one.wanted if one else "",
            other.wanted if other else "",
            one.verdict if one else NOT_ASKED,
            other.verdict if other else NOT_ASKED,
            other.why if other else "",
        )
        if (not only or name in only) and (
            found.asked != found.would_ask or found.is_judged_otherwise
        ):
            out.append(found)
    return out


def _lines_of_one(one: Correction, other: Correction) -> tuple[CorrectionLine, ...]:
    """Return the changes of one correction that the other does not have, where they are."""
    rest = Counter(_said(change) for change in other.changes)
    out = []
    for change in one.changes:
        if rest[_said(change)]:
            rest[_said(change)] -= 1
        else:
            out.append(change)
    return tuple(out)


def _said(change: CorrectionLine) -> tuple[str, str]:
    return change.inside, change.line
