"""What the user says that templates mean."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ivrel.core.authoring.learning.answers import NOTHING
from ivrel.core.authoring.learning.meaning import Meaning, Table
from ivrel.core.authoring.learning.templates import NAME, Keys, Template
from ivrel.core.dialects.slots import SLOTS, table_of
from ivrel.core.vocabulary.errors import InputError
from ivrel.core.vocabulary.wording import not_one_of

ASIDE = Meaning(why="it bears on nothing, as the user says")


def answered(
    template: Template, tables: Mapping[Keys, Table], means: Mapping[str, str]
) -> Meaning | None:
    """Return the meaning that the user gave a template, or None. InputError if it cannot be."""
    said = means.get(template.named)
    if said is None:
        return None
    if said == NOTHING:
        return ASIDE
    slots = said.split()
    width = {len(one.values) for one in template.said}
    for slot in slots:
        if slot != "-" and slot not in SLOTS:
            raise InputError(f"means: '{template.named}': slot {not_one_of(slot, SLOTS)}")
    if width != {len(slots)}:
        raise InputError(
            f"means: '{template.named}': expected {' or '.join(map(str, sorted(width)))} slots, "
            f"one for each value, not {len(slots)}"
        )
    names = _names(template, tables.get(template.row), slots)
    columns = {n: slot for n, slot in enumerate(slots) if slot != "-"}
    return Meaning(names, columns, "as the user says")


def _names(template: Template, table: Table | None, slots: Sequence[str]) -> dict[int, str]:
    """Return the slots of the names in a template; InputError if they do not fit its values."""
    at = [n for n, word in enumerate(template.keys) if word == NAME]
    if not at:
        return {}
    said = {table_of(slot) for slot in slots} - {""}
    # A way of messages has a row for itself, and one for each collector that it gives to.
    gives = table is not None and table.name == "feed" and said == {"give"}
    of_rows = said if table is None or gives else {table.name}
    if len(of_rows) != 1:
        raise InputError(f"means: '{template.named}': it is not clear what its rows are")
    (name,) = of_rows
    if said - of_rows:
        raise InputError(f"means: '{template.named}': its rows are of '{name}', as others of them")
    names = _NAMES.get(name, ())
    if len(names) != len(at):
        raise InputError(
            f"means: '{template.named}': names in its rows: {len(at)}; "
            f"in those of '{name}': {len(names)}"
        )
    return dict(zip(at, names, strict=True))


# The fields by which the rows of each table are distinguished, where they have names.
_NAMES = {
    "destination": ("destination.name",), "pick": ("pick.id",), "feed": ("feed.name",),
    "give": ("give.feed",), "take": ("take.feed", "take.category"), "server": ("server.id",),
    "resolver": ("resolver.id",), "mute": ("mute.id",), "gate": ("gate.id",),
    "interface": ("interface.name",),
}  # fmt: skip
