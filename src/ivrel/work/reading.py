"""What is understood of configurations, without a policy."""

from __future__ import annotations

from collections.abc import Collection

from ivrel.core.fleet import Device
from ivrel.core.reading import read_records
from ivrel.core.settings import Scope
from ivrel.core.settings.reading import DeviceReading
from ivrel.core.settings.relevance import facts_in_doubt
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.lines import Lines
from ivrel.sources.workspace import WorkspaceFiles


def reading_of(
    files: WorkspaceFiles, device: Device, settings: Collection[str] = ()
) -> DeviceReading:
    """Return the reading of a device's configuration; `settings`: only about these.

    Raise Unreadable if it cannot be read.
    """
    data, file = files.text(device)
    dialect = files.dialects.of(device)
    try:
        records = read_records(dialect, data)
    except Unreadable as problem:
        raise Unreadable(f"{file}: {problem}") from None
    # The policy is not needed: it only names the collectors.
    collectors = files.policy.collectors if files.has_policy else {}
    facts = facts_in_doubt(Scope(device, records, collectors))
    return DeviceReading(
        device=device,
        facts=tuple(fact for fact in facts if not settings or fact.setting in settings),
        unparsed=records.unparsed,
        file=file,
        places=records.place(file),
        text_of=Lines(dialect, data).text,
    )
