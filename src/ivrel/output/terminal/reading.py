"""Readings on a terminal: what was understood of one configuration, or of several."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from ivrel.core.settings import SETTINGS, Fact
from ivrel.core.settings.reading import DeviceReading
from ivrel.core.text.bundle import Places
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.audit import runs
from ivrel.output.terminal.screen import Cell, line, quoted, shown, table
from ivrel.output.views.folding import Folded, folded, grouped, named
from ivrel.output.views.reading import ReadingsView, ReadingView

VALUES_SHOWN = 6  # values of a setting that are told, unless all are asked for


def draw_reading(screen: Console, view: ReadingView) -> None:
    """Draw what was understood: each setting, its value, who says so, the lines."""
    device = view.reading.device
    file = view.reading.file
    places = view.reading.places
    line(screen, (device.name, "bold"), (f"  {device.platform}, {file}", "dim"))
    screen.print()
    grid = table("setting", "of", "value", "said by", "lines")
    last = ""
    for fact in view.reading.facts:
        value = Cell(fact.value)
        if fact.note:
            value.append(f"  {fact.note}", "dim")
        origin = said_by(fact)
        lines = _cited(fact.lines, file, places)
        first = view.reading.text_of(fact.lines[0], fact.setting) if fact.lines else ""
        more = len(set(fact.lines)) > 1
        cited = Cell.assemble(
            (lines, "dim"), "  ", (first, "italic"), (" …" if more else "", "dim")
        )
        grid.add_row(
            Cell("" if fact.setting == last else fact.setting), fact.key, value, origin, cited
        )
        last = fact.setting
    shown(screen, grid)
    if view.reading.unparsed:
        screen.print()
        line(screen, ("not understood", "yellow"), "  what depends on these lines is unknown")
        shown(
            screen,
            quoted(
                [
                    (
                        "{}:{}".format(*places(s.line)),
                        s.text or "not shown: it may concern something else",
                    )
                    for s in view.reading.unparsed
                ]
            ),
            2,
        )


def said_by(fact: Fact) -> Cell:
    """Return who says a fact, and whether that is in doubt."""
    if not fact.default:
        return Cell("the text, in doubt", "yellow") if fact.doubt else Cell("the text")
    if fact.doubt:
        return Cell(f"unknown: {fact.doubt}", "yellow")
    return Cell("the platform", "yellow")


def _cited(lines: Sequence[int], file: str, places: Places) -> str:
    """Return the numbers of lines, behind the name of their file where a configuration has
    several.
    """
    by_file: dict[str, list[int]] = {}
    for at in sorted(set(lines)):
        name, number = places(at)
        by_file.setdefault(name.removeprefix(file).lstrip("/"), []).append(number)
    return ", ".join(
        f"{name}:{runs(found)}" if name else runs(found) for name, found in by_file.items()
    )


def draw_readings(screen: Console, view: ReadingsView) -> None:
    """Draw what several configurations say: each value once, with the devices that say it."""
    number = len(view.readings)
    line(screen, (view.fleet, "bold"), f"  {counted(number, 'configuration')} read")
    if view.by:
        by = view.by
        for group, readings in grouped(view.readings, lambda r: str(getattr(r.device, by))).items():
            screen.print()
            line(screen, (group, "bold"), f"  {counted(len(readings), 'device')}")
            _values(screen, readings, view.every)
    else:
        screen.print()
        _values(screen, view.readings, view.every)
    unparsed = [(r.device.name, r) for r in view.readings if r.unparsed]
    if unparsed:
        screen.print()
        lines = sum(len(r.unparsed) for _, r in unparsed)
        devices = [name for name, _ in unparsed]
        line(screen, (f"{counted(lines, 'line')} not understood", "yellow"), f"  {named(devices)}")
    for name, problem in view.unread:
        line(screen, (f"{name}: not readable  ", "yellow"), problem)


def _values(screen: Console, readings: Sequence[DeviceReading], every: bool) -> None:
    """A row for each value of each setting, the most frequent first."""
    said: dict[str, list[tuple[str, Fact]]] = {}
    for reading in readings:
        by_setting: dict[str, list[Fact]] = {}
        for fact in reading.facts:
            by_setting.setdefault(fact.setting, []).append(fact)
        for name, facts in by_setting.items():
            text = SETTINGS[name].say(facts)
            default = all(fact.default for fact in facts)
            whole = Fact(name, "", "", text, (), default)
            said.setdefault(name, []).append((reading.device.name, whole))
    grid = table("setting", "value", "said by", "devices", "which")
    grid.columns[2].min_width = len("the platform")  # alike in every group
    grid.columns[3].justify = "right"
    for name in (name for name in SETTINGS if name in said):
        alike: list[Folded[Fact]] = folded(said[name], lambda f: (f.value, f.default))
        for n, one in enumerate(alike if every else alike[:VALUES_SHOWN]):
            origin = Cell("the platform", "yellow") if one.item.default else Cell("the text")
            grid.add_row(
                "" if n else name,
                Cell(one.item.value),
                origin,
                f"{len(one.devices):,}",
                Cell(named(one.devices, 3), "dim"),
            )
        if not every and len(alike) > VALUES_SHOWN:
            grid.add_row(
                "",
                Cell(f"and {len(alike) - VALUES_SHOWN} more values; --all shows them", "dim"),
            )
    shown(screen, grid)
