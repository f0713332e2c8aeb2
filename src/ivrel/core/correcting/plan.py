"""Plans a correction: required settings, less the settings read, give the records that should
be.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Set
from functools import cached_property

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting.answers import StateAnswers
from ivrel.core.correcting.difference import may_differ
from ivrel.core.correcting.steps import EditStep, steps_between
from ivrel.core.dialects.slots import LAZY
from ivrel.core.policy import Requirement
from ivrel.core.policy.need import Need, SetNeed
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Key
from ivrel.core.settings import SETTINGS, Obstacle
from ivrel.core.settings.relevance import bearing
from ivrel.core.vocabulary.errors import Undecided

MOST_ROUNDS = 4  # so often all settings are mended
Touched = tuple[str, Key, str]  # table, key, slot; slot '' for a row that comes or goes
Asked = Mapping[str, Requirement]
Prefer = Callable[[Requirement], Requirement]
Obstacles = Mapping[str, tuple[Obstacle, ...]]

# First the destinations and what leads to them, for other settings depend on those; export is
# switched on last.
_FIRST = ("collectors", "level", "categories", "changes", "logins")
_ORDER = (*_FIRST, *(name for name in SETTINGS if name not in (*_FIRST, "export")), "export")


class CorrectionPlan(Struct, frozen=True):
    """The steps of a correction, which setting asked for what, and what could not be done."""

    steps: tuple[EditStep, ...]
    touched: Mapping[Touched, tuple[str, ...]]
    obstacles: Obstacles

    def owners(self, step: EditStep) -> tuple[str, ...]:
        """Return the settings that a step is there for."""
        names: set[str] = set()
        for slot in step.slots:
            names.update(self.touched.get((step.table, step.key, slot), ()))
        if not names or step.makes or (step.edit.removes and not step.slots):
            names.update(self.touched.get((step.table, step.key, ""), ()))
        return tuple(name for name in SETTINGS if name in names)

    def stuck(self, setting: str) -> tuple[Obstacle, ...]:
        """Return why a setting could not be corrected although the platform can express it."""
        return tuple(o for o in self.obstacles.get(setting, ()) if not o.unable)


class _Draft(Struct, frozen=True):
    """The records that should be, which setting asked for what, and what could not be done."""

    state: StateAnswers
    touched: Mapping[Touched, tuple[str, ...]]
    obstacles: Obstacles


def make_plan(
    before: StateAnswers,
    asked: Asked,
    waived: Set[str],
    whole: Asked | None = None,
    prefer: Prefer = lambda asked: asked,
) -> CorrectionPlan:
    """Return the plan for one configuration; settings that are waived or in doubt are left alone.

    `whole`: all that the policy asks, if that is more than the correction is about; `prefer`: gives
    a requirement with what is to be written where it leaves that open. What cannot be corrected
    without making worse what is as asked is left as it is.
    """
    return _Planning(before, asked, waived, whole or asked, prefer).plan()


def undo(corrected: Records, original: Records) -> list[EditStep]:
    """Return the steps that bring a corrected configuration back to what it said."""
    same = [table for table in LAZY if not may_differ(original, corrected, table)]
    return _ordered(corrected, steps_between(corrected, original, same))


class _Planning:
    """One plan on its way."""

    def __init__(
        self, before: StateAnswers, asked: Asked, waived: Set[str], whole: Asked, prefer: Prefer
    ) -> None:
        self.before = before
        self.asked = asked
        self.waived = waived
        self.whole = whole
        self.prefer = prefer

    @cached_property
    def met(self) -> list[str]:
        """The settings that are as asked."""
        return [
            name
            for name, r in self.whole.items()
            if name not in self.waived and not r.problem and not self.before.findings(r)
        ]

    def plan(self) -> CorrectionPlan:
        wanted = dict(self.asked)
        left: dict[str, tuple[Obstacle, ...]] = {}
        draft = self._draft(wanted)
        while worse := self._worse(draft):
            name, narrowed, draft = self._without_clash(wanted, draft)
            clashes = (_clash(self.whole[name], self.whole[o]) for o in worse if o != name)
            left[name] = tuple(clashes)
            if narrowed is None:
                del wanted[name]
            else:
                wanted[name] = narrowed
        obstacles = dict(draft.obstacles)
        for name, clashes_of in left.items():
            obstacles[name] = (*obstacles.get(name, ()), *clashes_of)
        self._list_untouched(draft.state, obstacles)
        records = self.before.records
        mended = draft.state.records
        steps = [] if mended is records else _ordered(records, steps_between(records, mended))
        return CorrectionPlan(tuple(steps), draft.touched, obstacles)

    def _draft(self, asked: Asked) -> _Draft:
        """Return the records after each requested setting has been mended, one after the other,
        round by round until nothing changes: one that is mended may undo another.
        """
        draft = _Draft(self.before, {}, {})
        for _ in range(MOST_ROUNDS):
            after = self._round(draft, asked)
            if after.state is draft.state:
                return after
            draft = after
        return draft

    def _round(self, draft: _Draft, asked: Asked) -> _Draft:
        """Return a draft after each setting has been mended again."""
        touched = dict(draft.touched)
        obstacles: dict[str, tuple[Obstacle, ...]] = {}
        state = draft.state
        doubtful = _doubtful(state.records)
        is_new = _has_new(state)
        for name in _ORDER:
            requirement = asked.get(name)
            if requirement is None or requirement.problem or name in self.waived:
                continue
            # To write over a statement that nobody understood would be to guess.
            if name in doubtful:
                continue
            is_met = not state.judged(requirement)
            if is_met and not is_new:
                continue
            wanted = self.prefer(requirement)
            if is_met and not _says_what(wanted):
                continue
            mended, found = SETTINGS[name].mend(state.plain, wanted.needs)
            if is_met and _is_unsure(wanted) and (found or mended is not state.records):
                raise Undecided
            if found:
                obstacles[name] = tuple(found)
            if mended is state.records:
                continue
            for at in _differences(state.records, mended):
                touched[at] = tuple(dict.fromkeys((*touched.get(at, ()), name)))
            state = state.on(mended)
            doubtful = _doubtful(mended)
            is_new = _has_new(state)
        return _Draft(state, touched, obstacles)

    def _worse(self, draft: _Draft) -> list[str]:
        """Return the settings that were as asked, and are not so in a draft."""
        if draft.state is self.before:
            return []
        return [name for name in self.met if draft.state.findings(self.whole[name])]

    def _without_clash(
        self, wanted: Asked, draft: _Draft
    ) -> tuple[str, Requirement | None, _Draft]:
        """Return the requirement whose correction makes another worse, and the draft without it.

        Of the requirement, what of it can still be had.
        """
        changing = dict.fromkeys(name for names in draft.touched.values() for name in names)
        # Two requirements exclude each other here. The one to give up is the one without which the
        # fewest others get worse; a part of it is kept if that does no harm.
        fewest: tuple[int, str, Requirement | None, _Draft] | None = None
        for name in changing:
            for narrowed in (*_narrower(wanted[name]), None):
                others = {n: r for n, r in wanted.items() if n != name}
                tried = self._draft({**others, name: narrowed} if narrowed else others)
                worse = len(self._worse(tried))
                if fewest is None or worse < fewest[0]:
                    fewest = worse, name, narrowed, tried
                if not worse:
                    break
        if fewest is None:
            raise AssertionError("something became worse although nothing was changed")
        return fewest[1:]

    def _list_untouched(
        self, after: StateAnswers, obstacles: dict[str, tuple[Obstacle, ...]]
    ) -> None:
        """List what breaks as before, although nothing that is reported is in its way."""
        for name, requirement in self.asked.items():
            if name in self.waived or requirement.problem:
                continue
            had = {f.about for f in self.before.findings(requirement)}
            if not had:
                continue
            known = {o.about for o in obstacles.get(name, ())}
            for f in after.findings(requirement):
                if f.verdict == "breaks" and f.about in had and not known & {"", f.about}:
                    obstacles[name] = (*obstacles.get(name, ()), Obstacle("no-way", f.about))


def _has_new(state: StateAnswers) -> bool:
    """Whether a destination is new, or what gives to one: what the platform would take for it by
    itself may be as asked, and still not what is to be written.
    """
    for table, slot in (("destination", "destination.address"), ("give", "give.destination")):
        said = [row.get(slot) for row in state.records.rows(table).values()]
        if any(one is None or not one.lines for one in said):
            return True
    return False


def _says_what(requirement: Requirement) -> bool:
    """Whether the policy says what to write for what is new, or something is preferred, or may
    be.
    """
    needs = (need for need in requirement.needs.values() if isinstance(need, Need))
    return any(need.write or need.prefer or need.unsure for need in needs)


def _is_unsure(requirement: Requirement) -> bool:
    """Whether it is not known if anything is preferred."""
    needs = [need for need in requirement.needs.values() if isinstance(need, Need)]
    known = any(need.write or need.prefer for need in needs)
    return not known and any(need.unsure for need in needs)


def _clash(one: Requirement, other: Requirement) -> Obstacle:
    """Return why a setting is left as it is: to correct it would break another."""
    asks = f"'{one.rule}' asks {one.setting}: {one.text}"
    more = (("asks", asks), ("rule", other.rule), ("setting", other.setting))
    return Obstacle("clash", wanted=other.text, more=more)


def _narrower(requirement: Requirement) -> Iterator[Requirement]:
    """Yield the requirement without one of the names that it asks for, where it asks for
    several.
    """
    need = requirement.needs.get("")
    if isinstance(need, SetNeed) and len(need.wanted) > 1:
        for name in need.wanted:
            rest = tuple(other for other in need.wanted if other != name)
            fewer = SetNeed(includes=rest, never=need.never)
            yield replace(requirement, needs={"": fewer})


def _doubtful(records: Records) -> set[str]:
    """Return the settings that strange statements may bear on, those in rows that have gone
    aside.
    """
    there = (s for s in records.unparsed if s.row is None or s.row[1] in records.rows(s.row[0]))
    return {
        name for unparsed_line in there for name in bearing(records.dialect, unparsed_line.strange)
    }


def _differences(before: Records, after: Records) -> list[Touched]:
    """Return the values that one setting's correction changes."""
    out: list[Touched] = []
    for table in ("", *before.dialect.keys):
        if before.unchanged(table, after):
            continue
        old_rows = before.rows(table)
        new_rows = after.rows(table)
        for key in {**old_rows, **new_rows}:
            old = old_rows.get(key)
            new = new_rows.get(key)
            if old is new:
                continue
            # A row that comes or goes is a difference of its own, even if it says nothing.
            if (old is None) != (new is None):
                out.append((table, key, ""))
            was = old or {}
            now = new or {}
            out += [(table, key, slot) for slot in {**was, **now} if was.get(slot) != now.get(slot)]
    return out


def _ordered(before: Records, steps: list[EditStep]) -> list[EditStep]:
    """Return the steps in a safe order: additions before removals, export last.

    Where a platform is full, what goes makes room first.
    """

    def rank(step: EditStep) -> int:
        if step.table == "":
            return 4 if "export" in step.slots else 2
        return 3 if step.edit.removes else 1

    ordered = sorted(steps, key=rank)
    most = before.dialect.limits.get("destination")
    if most is None:
        return ordered
    rows = before.rows("destination")
    of_destinations = [s for s in ordered if s.table == "destination"]
    fresh = {s.key for s in of_destinations if not s.edit.removes and s.key not in rows}
    # So many must go before the new ones fit in; each more would only lengthen the gap.
    over = max(len(rows) + len(fresh) - most, 0)
    making_room = [s for s in of_destinations if s.edit.removes and s.key in rows][:over]
    return making_room + [s for s in ordered if s not in making_room]
