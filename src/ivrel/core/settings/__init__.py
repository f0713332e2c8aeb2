"""The settings: one file each, and this table.

The order is that of columns, of findings and of corrections.
"""

from collections.abc import Mapping

from ivrel.core.policy.need import Needs
from ivrel.core.settings import (
    categories,
    changes,
    clock,
    collectors,
    console,
    debug_stamp,
    delivery,
    export,
    facility,
    file,
    filters,
    format,
    level,
    logins,
    memory,
    numbering,
    origin,
    rate,
    resolver,
    rules,
    sessions,
    source,
    stamp,
    trust,
)
from ivrel.core.settings.contract import Fact, Finding, Obstacle, Setting, SharedRequirements
from ivrel.core.settings.scope import Destination, Scope

SETTINGS: Mapping[str, Setting] = {
    setting.name: setting
    for setting in (
        export.SETTING,
        collectors.SETTING,
        level.SETTING,
        facility.SETTING,
        format.SETTING,
        stamp.SETTING,
        source.SETTING,
        trust.SETTING,
        clock.SETTING,
        origin.SETTING,
        numbering.SETTING,
        categories.SETTING,
        rules.SETTING,
        filters.SETTING,
        changes.SETTING,
        logins.SETTING,
        rate.SETTING,
        delivery.SETTING,
        resolver.SETTING,
        console.SETTING,
        sessions.SETTING,
        memory.SETTING,
        file.SETTING,
        debug_stamp.SETTING,
    )
}

__all__ = [
    "SETTINGS",
    "Destination",
    "Fact",
    "Finding",
    "Needs",
    "Obstacle",
    "Scope",
    "Setting",
    "SharedRequirements",
]


def read_settings(scope: Scope) -> list[Fact]:
    """Return everything that a configuration says about every setting, in the order of the
    table.
    """
    return [fact for setting in SETTINGS.values() for fact in setting.facts(scope)]
