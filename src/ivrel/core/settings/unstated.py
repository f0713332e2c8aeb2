"""Values that neither the text nor the dialect states: what holds there, nobody has said.

A platform has a default for everything that a text can leave out. Where its dialect does not state
it, a verdict that depends on it is `unknown`. A slot that may be left unset, so that nothing holds,
is named under `unset` in the dialect.
"""

from __future__ import annotations

from collections.abc import Iterator

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import SLOTS, slot_of, table_of
from ivrel.core.policy.need import Needs
from ivrel.core.settings.contract import Finding, Setting
from ivrel.core.settings.scope import Scope
from ivrel.core.vocabulary.sourced import Row
from ivrel.core.vocabulary.values import NUMBER, PORT, RATE

# Rows of these tables say all that they mean; of the rest, other rules tell.
_WITH_DEFAULTS = ("", "destination", "feed", "take", "gate")
# Both of these cut what leaves, so that each must be known.
_CUT_IN_TURN = ("level",)


def lacks_default(dialect: Dialect, slot: str) -> bool:
    """Whether a text may leave a slot out, and the dialect does not state what holds then."""
    return (
        may_lack_default(slot)
        and dialect.has(slot)
        and slot not in dialect.defaults
        and slot not in dialect.conditional
        and slot not in dialect.unset
        and slot not in dialect.keys.get(table_of(slot), ())
        and slot not in _always_said(dialect)
    )


def may_lack_default(slot: str) -> bool:
    """Whether every platform has a default for a slot, if a text may leave it out."""
    kind = SLOTS[slot].type
    # A traffic rule says what it does, and names and addresses are set or not.
    return (
        slot != "gate.action"
        and table_of(slot) in _WITH_DEFAULTS
        and bool(kind.choices or kind in (NUMBER, PORT, RATE))
        and not SLOTS[slot].many
    )


def _always_said(dialect: Dialect) -> frozenset[str]:
    """Return the slots that every statement of a row says, so that no row lacks them."""

    def find() -> frozenset[str]:
        out: set[str] = set()
        for table, keys in dialect.keys.items():
            own = [p for p in dialect.patterns if p.table == table and not p.is_negation]
            making = [p for p in own if set(p.slots) > set(keys)] or own
            if len(making) == 1:
                out.update(slot for slot in making[0].must if slot not in keys)
        return frozenset(out)

    return dialect.once("always said", find)


def unstated(setting: Setting, scope: Scope, needs: Needs | None = None) -> list[str]:
    """Return the slots of a setting that decide it here and that nobody states, in their order.

    `needs`: what is asked for; all parts of the setting, if it is not given.
    """
    dialect = scope.records.dialect
    at = "lacking defaults", setting.name
    slots = dialect.once(at, lambda: [s for s in setting.slots if lacks_default(dialect, s)])
    return [slot for slot in slots if _is_open(setting, slot, scope, needs)]


def _is_open(setting: Setting, slot: str, scope: Scope, needs: Needs | None) -> bool:
    """Whether a slot without a default decides something that the text leaves out."""
    field = SLOTS[slot].field
    part = field.removeprefix(f"{setting.name}-") if field != setting.name else ""
    if needs is not None and part and "" not in needs and part not in needs:
        return False
    if part and setting.name == "stamp" and part != "kind" and _has_no_calendar(scope):
        return False
    rows = list(_rows(slot, scope))
    if not table_of(slot):
        if scope.records.get(slot).value is not None:
            return False
        narrower = [s for t in ("destination", "feed") if (s := slot_of(field, t))]
        said = [s for s in narrower if scope.records.dialect.has(s)]
        if said and field not in _CUT_IN_TURN:
            return any(row.get(s) is None for s in said for row in _rows(s, scope))
        return True
    wide = slot_of(field, "")
    if wide is not None and field not in _CUT_IN_TURN:
        value = scope.records.get(wide).value
        if value is not None:
            return False
    return any(row.get(slot) is None and scope.records.takes_effect(slot, row) for row in rows)


def _has_no_calendar(scope: Scope) -> bool:
    """Whether no stamp is known to be a calendar's, which alone has parts."""
    kinds = [scope.records.get("stamp.kind").value]
    kinds += [scope.records.get("destination.stamp-kind", d.row).value for d in scope.judged]
    return not any(kind == "calendar" for kind in kinds)


def _rows(slot: str, scope: Scope) -> Iterator[Row]:
    """Yield the rows where a slot matters."""
    table = table_of(slot)
    records = scope.records
    if table == "destination":
        for d in scope.judged:
            # Without TLS, there is nothing to verify.
            if slot != "destination.verify" or d.endpoint[2] == "tls":
                yield d.row
    elif table == "feed":
        for name in scope.feeds(scope.judged):
            yield records.rows("feed").get((name,), {})
    elif table:
        yield from records.rows(table).values()


def judged(setting: Setting, scope: Scope, needs: Needs) -> list[Finding]:
    """Return the findings about a setting; a value that nothing states is unknown."""
    open_slots = unstated(setting, scope, needs)
    if not open_slots:
        return setting.judge(scope, needs)
    dialect = scope.records.dialect.name
    return [
        Finding("no-default", slot, found=dialect, more=(("slot", slot),), judged="unknown")
        for slot in open_slots
    ]
