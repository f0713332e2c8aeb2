"""Plans a correction: required settings, less the settings read, give the records that should be."""

from __future__ import annotations

from collections.abc import Mapping, Set

from msgspec import Struct

from ivrel.core.dialects.records import Key, Records
from ivrel.core.dialects.steps import Step, steps_between
from ivrel.core.policy import Requirement
from ivrel.core.settings import SETTINGS, Obstacle, Scope

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
        if not names or step.edit.removes:
            names += self.touched.get((step.table, step.key, ""), ())
        return tuple(name for name in SETTINGS if name in names)

    def stuck(self, setting: str) -> tuple[Obstacle, ...]:
        """Why a setting could not be corrected although the platform can express it."""
        return tuple(o for o in self.obstacles.get(setting, ()) if not o.unable)


def make_plan(scope: Scope, asked: Mapping[str, Requirement], waived: Set[str]) -> Plan:
    """The plan for one configuration; settings that are waived or in doubt are left alone."""
    doubtful = {name for stray in scope.records.strays for name in stray.bears_on}
    touched: dict[Touched, tuple[str, ...]] = {}
    obstacles: dict[str, tuple[Obstacle, ...]] = {}
    records = scope.records
    for name in _ORDER:
        if name not in asked or asked[name].problem or name in waived or name in doubtful:
            continue
        mended, found = SETTINGS[name].mend(scope.on(records), asked[name].needs)
        if found:
            obstacles[name] = tuple(found)
        for at in _differences(records, mended):
            touched[at] = (*touched.get(at, ()), name)
        records = mended
    return Plan(tuple(_ordered(scope.records, steps_between(scope.records, records))), touched, obstacles)


def undo(corrected: Records, original: Records) -> list[Step]:
    """The steps that bring a corrected configuration back to what it said."""
    corrected.load()
    original.load()
    return _ordered(corrected, steps_between(corrected, original))


def _differences(before: Records, after: Records) -> list[Touched]:
    out: list[Touched] = []
    for table in ("", *before.dialect.keys):
        if not after.loaded(table):
            continue
        old_rows, new_rows = before.rows(table), after.rows(table)
        if old_rows is new_rows:
            continue
        for key in {**old_rows, **new_rows}:
            old, new = old_rows.get(key), new_rows.get(key)
            if old is new:
                continue
            if (old is None) != (new is None):
                out.append((table, key, ""))
            if new is not None:
                out += [(table, key, s) for s in new if old is None or old.get(s) is not new[s]]
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
