"""The chain of a category: what takes it, where that gives to, and which link is missing first."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.policy.need import Need
from ivrel.core.reading.records import Records
from ivrel.core.settings.contract import Obstacle
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.sending import gives_to, levels_of, sendings
from ivrel.core.vocabulary.sourced import lines_of_rows

# The slots that chains are made of.
CHAIN = ("take.feed", "take.category", "take.level", "give.feed", "give.destination")


class MissingLink(Struct, frozen=True):
    """A link that a chain lacks, in words, and the lines of what leads nowhere."""

    why: str
    lines: tuple[int, ...] = ()


def first_gap(scope: Scope, channel: str) -> MissingLink | None:
    """Return the first link that is missing between a channel and a collector that is asked for.

    None if none is.
    """
    records = scope.records
    if not scope.judged:
        return MissingLink("no collector that is asked for is set")
    if any(sendings(scope, d)[channel] for d in scope.judged):
        return None
    taking = channel_feeds(records, channel)
    if not taking:
        return MissingLink(f"no feed takes {channel}")
    known = {d.ref: d for d in scope.destinations}
    # The way is followed from the channel on, so that the first missing link is told and not one
    # behind it.
    for feed in taking:
        gives = [
            row
            for row in records.rows("give").values()
            if str(records.get("give.feed", row).value) == feed
        ]
        lines = lines_of_rows(gives)
        if not gives:
            return MissingLink(f"{_way(feed, channel)} gives to nothing")
        for row in gives:
            ref = records.get("give.destination", row).value
            if not isinstance(ref, str | int) or ref not in known:
                return MissingLink(
                    f"{_way(feed, channel)} gives to '{ref}', which is not set", lines
                )
        aimed = sorted({str(records.get("give.destination", row).value) for row in gives})
        if not any(feed in gives_to(scope, d) for d in scope.judged):
            what = f"{', '.join(aimed)}, which is no collector asked for"
            return MissingLink(f"{_way(feed, channel)} gives to {what}", lines)
    # All links are there: what is left is that no severity passes.
    levels = [s for d in scope.judged for _, s in levels_of(scope, d, channel)]
    lines = tuple(line for s in levels for line in s.lines)
    return MissingLink(f"{channel} is taken at no severity", lines)


def channel_feeds(records: Records, channel: str) -> list[str]:
    """Return the feeds that take a channel.

    Where feeds are the channels themselves, that one, if it gives at all.
    """
    if records.dialect.has("take.category"):
        return sorted(str(feed) for feed, category in records.rows("take") if category == channel)
    return [channel]


def _way(feed: str, channel: str) -> str:
    return feed if feed == channel else f"feed {feed} takes {channel}, but"


def bring(scope: Scope, channels: Iterable[str]) -> tuple[Records, list[Obstacle]]:
    """Return the records with each of these channels brought to a collector asked for: that is all
    a category needs.
    """
    # That module mends levels, and asks this one for the chain: imported above, each would need the
    # other first.
    from ivrel.core.settings.selecting import mend_channel

    records = scope.records
    obstacles: list[Obstacle] = []
    anything = Need(least="emergency", order=("none", "emergency"))
    # One destination is enough, and rather one that is a right collector.
    first = sorted(scope.judged, key=lambda d: not d.right)[:1]
    for channel in channels:
        if not any(sendings(scope.on(records), d)[channel] for d in scope.judged):
            for d in first:
                records, found = mend_channel(scope.on(records), d, channel, anything)
                obstacles += [replace(o, about="") for o in found]
    return records, obstacles
