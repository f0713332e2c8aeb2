"""The settings: one file each, and this table. The order is that of columns, of findings and of corrections."""

from collections.abc import Mapping

from ivrel.core.settings import collectors, export, facility, format, level, source, stamp
from ivrel.core.settings.base import Collector, Destination, Fact, Finding, Needs, Obstacle, Scope, Setting

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
    )
}

__all__ = [
    "SETTINGS",
    "Collector",
    "Destination",
    "Fact",
    "Finding",
    "Needs",
    "Obstacle",
    "Scope",
    "Setting",
]


def read_settings(scope: Scope) -> list[Fact]:
    """Everything that a configuration says about every setting, in the order of the table."""
    return [fact for setting in SETTINGS.values() for fact in setting.facts(scope)]
