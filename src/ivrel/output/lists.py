"""Small tables on a terminal: the fleet, a reading, the policy, the dialects."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device, Fleet
from ivrel.core.judging.remarks import Remark
from ivrel.core.policy import Policy, Requirement
from ivrel.core.policy.collector import Collector
from ivrel.core.reading.statements import Stray
from ivrel.core.settings import Fact
from ivrel.core.text.bundle import Places
from ivrel.output.audit import runs
from ivrel.output.screen import Text, console, count, line, next_commands, quoted, shown, table


def show_fleet(fleet: Fleet, rows: Sequence[tuple[Device, str | None]], width: int, where: str) -> None:
    """The devices, and whether each one's configuration is found."""
    screen = console(width)
    line(screen, (fleet.name, "bold"), f"  {count(len(rows), 'device')}")
    screen.print()
    grid = table("device", "kind", "site", "platform", "groups", "identity", "configuration")
    for d, file in rows:
        found = Text(file) if file else Text("not found", "yellow")
        identity = Text(d.identity or "-")
        if d.rivals:
            identity.append(f" (also {d.rivals[0]}{' …' if len(d.rivals) > 1 else ''})", "yellow")
        grid.add_row(d.name, d.kind, d.site, d.platform, ", ".join(d.groups), identity, found)
    shown(screen, grid)
    next_commands(screen, [f"ivrel audit{where}"])


def show_reading(
    device: Device,
    facts: Sequence[Fact],
    strays: Sequence[Stray],
    file: str,
    places: Places,
    text_of: Callable[[int, str], str],
    width: int,
    where: str,
) -> None:
    """What was understood of a configuration: each setting, its value, who says so, the lines."""
    screen = console(width)
    line(screen, (device.name, "bold"), (f"  {device.platform}, {file}", "dim"))
    screen.print()
    grid = table("setting", "of", "value", "said by", "lines")
    last = ""
    for fact in facts:
        value = Text(fact.value)
        if fact.note:
            value.append(f"  {fact.note}", "dim")
        origin = Text("the platform", "yellow") if fact.default else Text("the text")
        lines = _cited(fact.lines, file, places)
        first = text_of(fact.lines[0], fact.setting) if fact.lines else ""
        more = len(set(fact.lines)) > 1
        cited = Text.assemble((lines, "dim"), "  ", (first, "italic"), (" …" if more else "", "dim"))
        grid.add_row(Text("" if fact.setting == last else fact.setting), fact.key, value, origin, cited)
        last = fact.setting
    shown(screen, grid)
    if strays:
        screen.print()
        line(screen, ("not understood", "yellow"), "  what depends on these lines is unknown")
        shown(
            screen,
            quoted(
                [
                    ("{}:{}".format(*places(s.line)), s.text or "not shown: it may concern something else")
                    for s in strays
                ]
            ),
            2,
        )
    next_commands(screen, [f"ivrel explain{where} {device.name}"])


def _cited(lines: Sequence[int], file: str, places: Places) -> str:
    """The numbers of lines, behind the name of their file where a configuration has several."""
    by_file: dict[str, list[int]] = {}
    for at in sorted(set(lines)):
        name, number = places(at)
        by_file.setdefault(name.removeprefix(file).lstrip("/"), []).append(number)
    return ", ".join(f"{name}:{runs(found)}" if name else runs(found) for name, found in by_file.items())


def show_policy(
    policy: Policy,
    matches: Sequence[int] | None,
    found: Sequence[Remark],
    today: date,
    width: int,
    where: str,
    first: str,
) -> None:
    """The policy as a whole: collectors, rules with how many devices each is about, waivers; what to look at."""
    screen = console(width)
    look = (f", {count(len(found), 'thing')} to look at below", "yellow") if found else ("", "")
    line(screen, (policy.name, "bold"), f"  {policy.file} has no mistakes", look)
    screen.print()
    # What few policies have takes no room in others.
    extra: dict[str, Callable[[Collector], str]] = {
        "path": lambda c: c.path or "",
        "forwards to": lambda c: ", ".join(c.forwards),
    }
    extra = {name: get for name, get in extra.items() if any(get(c) for c in policy.collectors.values())}
    grid = table("collector", "address", "port", "transport", "format", "site", *extra)
    for c in policy.collectors.values():
        more = [get(c) or "-" for get in extra.values()]
        grid.add_row(c.name, c.address, str(c.port), c.transport, c.format or "-", c.site or "-", *more)
    shown(screen, grid)
    screen.print()
    grid = table("rule", "line", "about", "devices", "asks")
    for rule, number in zip(policy.rules, matches or [-1] * len(policy.rules), strict=True):
        asks = "\n".join(f"{name}: {r.text}" for name, r in rule.require.items())
        devices = Text(str(number) if number >= 0 else "-", "" if number else "yellow")
        grid.add_row(Text(rule.name), Text(str(rule.line), "dim"), Text(rule.about), devices, Text(asks))
    shown(screen, grid)
    if policy.waivers:
        screen.print()
        grid = table("waiver for", "setting", "until", "because", "who")
        for w in policy.waivers:
            until = Text(str(w.until)) if today <= w.until else Text(f"{w.until} (ran out)", "yellow")
            grid.add_row(Text(w.device), Text(w.setting), until, Text(w.because), Text(w.who or "-"))
        shown(screen, grid)
    if found:
        screen.print()
        line(screen, ("to look at", "yellow"))
        shown(screen, quoted([(f"{r.file}:{r.line}", r.text) for r in found]), 2)
    next_commands(
        screen, [f"ivrel policy{where} {first}", f"ivrel audit{where}"] if first else [f"ivrel fleet{where}"]
    )


def show_requirements(device: Device, policy: Policy, asked: Sequence[Requirement], width: int, where: str) -> None:
    """What the policy asks of one device, and which rule of it does."""
    screen = console(width)
    line(screen, (device.name, "bold"), (f"  {device.kind} at {device.site}, {device.platform}", "dim"))
    screen.print()
    grid = table("setting", "asked for", "by the rule", "in")
    for r in asked:
        grid.add_row(r.setting, Text(r.text), Text(r.rule), Text(f"{r.file}:{r.line}", "dim"))
    shown(screen, grid)
    next_commands(screen, [f"ivrel explain{where} {device.name}"])


def show_dialects(dialects: Sequence[Dialect], width: int) -> None:
    """The dialects that there are."""
    screen = console(width)
    grid = table("dialect", "shape", "about", "file")
    for d in dialects:
        grid.add_row(d.name, d.shape_name, Text(d.about), Text(d.file, "dim"))
    shown(screen, grid)
