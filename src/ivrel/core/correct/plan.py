"""Plans a correction: required settings, less the settings read, give the records that should be."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Set

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.dialects.matching import Key
from ivrel.core.dialects.records import Records
from ivrel.core.dialects.steps import Step, steps_between
from ivrel.core.policy import Requirement
from ivrel.core.settings import SETTINGS, Finding, Obstacle, Scope
from ivrel.core.settings.need import SetNeed

Touched = tuple[str, Key, str]  # table, key, slot; slot '' for a row that comes or goes

# First the destinations and what leads to them, for other settings hang on those; export is switched on last.
_FIRST = ("collectors", "level", "categories", "changes", "logins")
_ORDER = (*_FIRST, *(name for name in SETTINGS if name not in (*_FIRST, "export")), "export")


class Plan(Struct, frozen=True):
    """The steps of a correction, which setting asked for what, and what could not be done."""

    steps: tuple[Step, ...]
    touched: Mapping[Touched, tuple[str, ...]]
    obstacles: Mapping[str, tuple[Obstacle, ...]]

    def owners(self, step: Step) -> tuple[str, ...]:
        """The settings that a step is there for."""
        names = [n for slot in step.slots for n in self.touched.get((step.table, step.key, slot), ())]
        if not names or (step.edit.removes and not step.slots):
            names += self.touched.get((step.table, step.key, ""), ())
        return tuple(name for name in SETTINGS if name in names)

    def stuck(self, setting: str) -> tuple[Obstacle, ...]:
        """Why a setting could not be corrected although the platform can express it."""
        return tuple(o for o in self.obstacles.get(setting, ()) if not o.unable)


class _Draft(Struct, frozen=True):
    """The records that should be, which setting asked for what, and what could not be done."""

    records: Records
    touched: Mapping[Touched, tuple[str, ...]]
    obstacles: Mapping[str, tuple[Obstacle, ...]]


def findings_of(scope: Scope, requirement: Requirement) -> list[Finding]:
    """What is not as asked; a line that is not understood may be about it, and then nothing is sure."""
    if any(requirement.setting in stray.bears_on for stray in scope.records.strays):
        return [Finding("a line is not understood", (), "unknown")]
    return [] if requirement.problem else SETTINGS[requirement.setting].judge(scope, requirement.needs)


def make_plan(
    scope: Scope, asked: Mapping[str, Requirement], waived: Set[str], whole: Mapping[str, Requirement] | None = None
) -> Plan:
    """The plan for one configuration; settings that are waived or in doubt are left alone.

    `whole`: all that the policy asks, if that is more than the correction is about. What cannot be corrected without
    making worse what is as asked is left as it is.
    """
    whole = whole or asked
    met = {name for name, r in whole.items() if name not in waived and not r.problem and not findings_of(scope, r)}
    wanted = dict(asked)
    left: dict[str, tuple[Obstacle, ...]] = {}
    draft = _draft(scope, wanted, waived)
    while worse := _worse(scope.on(draft.records), whole, met):
        name, narrowed, draft = _without_clash(scope, wanted, waived, whole, met, draft)
        left[name] = tuple(_clash(whole[name], whole[other]) for other in worse if other != name)
        if narrowed is None:
            del wanted[name]
        else:
            wanted[name] = narrowed
    obstacles = {**draft.obstacles}
    for name, clashes in left.items():
        obstacles[name] = (*obstacles.get(name, ()), *clashes)
    _list_untouched(scope, scope.on(draft.records), asked, waived, obstacles)
    steps = _ordered(scope.records, steps_between(scope.records, draft.records))
    return Plan(tuple(steps), draft.touched, obstacles)


def _clash(one: Requirement, other: Requirement) -> Obstacle:
    """Why a setting is left as it is: to correct it would break another."""
    asks = f"'{one.rule}' asks {one.setting}: {one.text}"
    return Obstacle(f"{asks}; to correct that would break what '{other.rule}' asks of {other.setting}: {other.text}")


def _worse(after: Scope, whole: Mapping[str, Requirement], met: Set[str]) -> list[str]:
    return [name for name in whole if name in met and findings_of(after, whole[name])]


def _without_clash(
    scope: Scope,
    wanted: Mapping[str, Requirement],
    waived: Set[str],
    whole: Mapping[str, Requirement],
    met: Set[str],
    draft: _Draft,
) -> tuple[str, Requirement | None, _Draft]:
    """The requirement whose correction makes another worse, what of it can still be had, and the draft without it."""
    changing = dict.fromkeys(name for names in draft.touched.values() for name in names)
    fewest: tuple[int, str, Requirement | None, _Draft] | None = None
    for name in changing:
        for narrowed in (*_narrower(wanted[name]), None):
            others = {n: r for n, r in wanted.items() if n != name}
            tried = _draft(scope, {**others, name: narrowed} if narrowed else others, waived)
            worse = len(_worse(scope.on(tried.records), whole, met))
            if fewest is None or worse < fewest[0]:
                fewest = worse, name, narrowed, tried
            if not worse:
                break
    if fewest is None:
        raise AssertionError("something became worse although nothing was changed")
    return fewest[1:]


def _narrower(requirement: Requirement) -> Iterator[Requirement]:
    """The requirement without one of the names that it asks for, where it asks for several."""
    need = requirement.needs.get("")
    if isinstance(need, SetNeed) and len(need.wanted) > 1:
        for name in need.wanted:
            rest = tuple(other for other in need.wanted if other != name)
            yield replace(requirement, needs={"": SetNeed(includes=rest, never=need.never)})


def _list_untouched(
    before: Scope,
    after: Scope,
    asked: Mapping[str, Requirement],
    waived: Set[str],
    obstacles: dict[str, tuple[Obstacle, ...]],
) -> None:
    """Lists what no setting knew how to correct: it breaks as before, and nothing that is told stands in its way."""
    for name, requirement in asked.items():
        if name in waived or requirement.problem:
            continue
        had = {f.about for f in findings_of(before, requirement)}
        known = {o.about for o in obstacles.get(name, ())}
        for finding in findings_of(after, requirement):
            if finding.verdict == "breaks" and finding.about in had and not known & {"", finding.about}:
                no_way = Obstacle("no way to correct this was found", about=finding.about)
                obstacles[name] = (*obstacles.get(name, ()), no_way)


def _draft(scope: Scope, asked: Mapping[str, Requirement], waived: Set[str]) -> _Draft:
    touched: dict[Touched, tuple[str, ...]] = {}
    obstacles: dict[str, tuple[Obstacle, ...]] = {}
    records = scope.records
    for name in _ORDER:
        if name not in asked or asked[name].problem or name in waived or name in _doubtful(records):
            continue
        mended, found = SETTINGS[name].mend(scope.on(records), asked[name].needs)
        if found:
            obstacles[name] = tuple(found)
        for at in _differences(records, mended):
            touched[at] = (*touched.get(at, ()), name)
        records = mended
    return _Draft(records, touched, obstacles)


def _doubtful(records: Records) -> set[str]:
    """The settings that statements may bear on which are not understood, and stand in no row that has gone."""
    there = (s for s in records.strays if s.row is None or s.row[1] in records.rows(s.row[0]))
    return {name for stray in there for name in stray.bears_on}


def undo(corrected: Records, original: Records) -> list[Step]:
    """The steps that bring a corrected configuration back to what it said."""
    return _ordered(corrected, steps_between(corrected, original))


def _differences(before: Records, after: Records) -> list[Touched]:
    """What one setting's correction changes, value by value."""
    out: list[Touched] = []
    for table in ("", *before.dialect.keys):
        if before.unchanged(table, after):
            continue
        old_rows, new_rows = before.rows(table), after.rows(table)
        for key in {**old_rows, **new_rows}:
            old, new = old_rows.get(key), new_rows.get(key)
            if old is new:
                continue
            if (old is None) != (new is None):
                out.append((table, key, ""))
            slots = {**(old or {}), **(new or {})}
            out += [(table, key, s) for s in slots if (old or {}).get(s) != (new or {}).get(s)]
    return out


def _ordered(before: Records, steps: list[Step]) -> list[Step]:
    """Additions before removals, export last; where the platform is full, destinations go before they come."""

    def rank(step: Step) -> int:
        if step.table == "":
            return 4 if "export" in step.slots else 2
        return 3 if step.edit.removes else 1

    ordered = sorted(steps, key=rank)
    most = before.dialect.limits.get("destination")
    if most is not None:
        rows = before.rows("destination")
        fresh = {s.key for s in steps if s.table == "destination" and not s.edit.removes and s.key not in rows}
        over = len(rows) + len(fresh) - most
        leaving = [s for s in ordered if s.table == "destination" and s.edit.removes and s.key in rows]
        early = leaving[: max(over, 0)]
        ordered = early + [s for s in ordered if s not in early]
    return ordered
