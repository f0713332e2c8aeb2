"""What a correction writes where the policy leaves a choice: what the device has elsewhere, else
what most of the fleet has.

`write` comes first, and a list of values is in the policy's own order; what is left open are
ranges, and values that only must not be. What the text leaves to the platform is nobody's choice,
and does not count.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping

from msgspec.structs import replace

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging.judge import scope_of
from ivrel.core.judging.verdict_cache import VerdictCache, is_of_text
from ivrel.core.policy import Policy, Requirement, effective
from ivrel.core.policy.need import Need
from ivrel.core.reading.records import Dependencies, read_records
from ivrel.core.settings import SETTINGS, Fact, Scope
from ivrel.core.settings.relevance import slots_to_read
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Undecided

MOST = 20  # values of one part of a setting that are kept, the most common first

Usual = Mapping[tuple[str, str], tuple[str, ...]]  # by setting and part, the most common first
NOTHING_USUAL: Usual = {}
Votes = tuple[tuple[str, str, str], ...]  # setting, part and value, as one device has them


def open_settings(policy: Policy) -> frozenset[str]:
    """Return the settings for which some rule leaves open what to write."""
    asked = (item for rule in policy.rules for item in rule.require.items())
    return frozenset(name for name, r in asked if any(map(_is_open, r.needs.values())))


def _is_open(need: object) -> bool:
    if not isinstance(need, Need) or need.write or need.any_of is not None:
        return False
    return need.least is not None or need.most is not None or bool(need.never)


class Surveyor:
    """Finds out what devices have of some settings; of devices that say the same it is worked out
    once.
    """

    MOST_REMEMBERED = 20_000  # configurations

    def __init__(self, policy: Policy, settings: Iterable[str]) -> None:
        self._policy = policy
        self._settings = tuple(settings)
        self._recalls: dict[object, VerdictCache[Votes]] = {}
        self._count = 0

    def votes(self, device: Device, dialect: Dialect, text: Text) -> Votes:
        """Return what a configuration says of the settings, each value once; Unreadable if it is
        none. It is read as for an audit.
        """
        asked = effective(self._policy, device)
        records = read_records(dialect, text, slots_to_read(dialect, (*asked, *self._settings)))
        scope = scope_of(device, records, self._policy, asked)
        recall = self._recalls.setdefault((dialect, scope.wanted), VerdictCache())
        known = recall.find(records.marks)
        if known is not None:
            return known[0]
        notes = Dependencies()
        found = votes(scope.on(records.noting(notes)), self._settings)
        if is_of_text(notes.seen) and self._count < self.MOST_REMEMBERED:
            trace = recall.trace(dialect, notes.seen)
            trace.keep(trace.concerned(records.marks), found)
            self._count += 1
        return found


def votes(scope: Scope, settings: Iterable[str]) -> Votes:
    """Return what a device has of some settings, each value once."""
    facts = (fact for name in settings for fact in SETTINGS[name].facts(scope))
    return tuple(dict.fromkeys((f.setting, f.part, _value(f)) for f in facts if not f.default))


class DefaultsCounter:
    """Counts what devices have."""

    def __init__(self) -> None:
        self._counts: dict[tuple[str, str], Counter[str]] = {}

    def add(self, votes: Votes) -> None:
        """Count what one more device has."""
        for setting, part, value in votes:
            self._counts.setdefault((setting, part), Counter())[value] += 1

    def usual(self) -> Usual:
        """Return the most common values; of equally common ones, the alphabetically first."""
        return {
            at: tuple(
                value for value, _ in sorted(c.items(), key=lambda one: (-one[1], one[0]))[:MOST]
            )
            for at, c in self._counts.items()
        }


def leaves_open(asked: Requirement) -> bool:
    """Whether a requirement leaves open what to write."""
    return any(map(_is_open, asked.needs.values()))


def preferring(asked: Requirement, scope: Scope, fleet: Usual | None) -> Requirement:
    """Return a requirement that prefers what the device has, then what most of the fleet has, where
    it leaves that open.

    `fleet`: None while that is not known; what depends on it is then Undecided.
    """
    facts = SETTINGS[asked.setting].facts(scope)
    needs = {
        part: _preferring(need, (asked.setting, part), facts, fleet) if _is_open(need) else need
        for part, need in asked.needs.items()
    }
    return replace(asked, needs=needs)


def _preferring(
    need: Need, at: tuple[str, str], facts: Iterable[Fact], fleet: Usual | None
) -> Need:
    """Return a need with what is preferred of it; `at`: the setting and the part that it is of."""
    mine = [f for f in facts if at[1] in ("", f.part)]
    own = Counter(_value(f) for f in mine if not f.default)
    # All of one setting are the same to it, whichever destination or channel they are said of.
    # A device may say nothing of it so far.
    names = dict.fromkeys((at, *((f.setting, f.part) for f in mine)))
    others = [value for at in names for value in (fleet or {}).get(at, ())]
    prefer = tuple(dict.fromkeys((*(value for value, _ in own.most_common()), *others)))
    return replace(need, prefer=prefer, unsure=fleet is None)


def chosen(asked: Requirement, before: Iterable[Fact], after: Iterable[Fact]) -> list[str]:
    """Return in words where the values come from that a correction has chosen; `before`, `after`:
    what the configuration says of the setting. Undecided while it is not known what the fleet has.
    """
    had = {(f.of, f.part, _value(f)) for f in before}
    own = {(f.part, _value(f)) for f in before if not f.default}
    out = []
    for f in after:
        need = asked.needs.get(f.part, asked.needs.get(""))
        value = _value(f)
        if (f.of, f.part, value) in had or not isinstance(need, Need):
            continue
        if value not in need.prefer:
            if need.unsure:
                raise Undecided
            continue
        if (f.part, value) in own:
            out.append(f"{value} is what the device has elsewhere")
        else:
            out.append(f"of what is asked for, {value} is most common in the fleet")
    return list(dict.fromkeys(out))


def _value(fact: Fact) -> str:
    """Return a value as a policy would ask for it."""
    return fact.value.removeprefix("through ")
