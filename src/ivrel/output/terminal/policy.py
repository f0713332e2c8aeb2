"""The policy on a terminal: as a whole, and as it holds for one device."""

from __future__ import annotations

from collections.abc import Callable

from rich.console import Console

from ivrel.core.policy import Collector
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.screen import Cell, line, quoted, shown, table
from ivrel.output.views.policy import PolicyView, RequirementsView


def draw_policy(screen: Console, view: PolicyView) -> None:
    """Draw the policy: collectors, rules with how many devices each is about, waivers, remarks."""
    policy = view.policy
    found = view.remarks
    look = (f", {counted(len(found), 'thing')} to look at below", "yellow") if found else ("", "")
    line(screen, (policy.name, "bold"), f"  {policy.file} has no mistakes", look)
    screen.print()
    # What few policies have takes no room in others.
    extra: dict[str, Callable[[Collector], str]] = {
        "path": lambda c: c.path or "",
        "forwards to": lambda c: ", ".join(c.forwards),
    }
    extra = {
        name: get for name, get in extra.items() if any(get(c) for c in policy.collectors.values())
    }
    grid = table("collector", "address", "port", "transport", "format", "site", *extra)
    for c in policy.collectors.values():
        more = [get(c) or "-" for get in extra.values()]
        grid.add_row(
            c.name, c.address, str(c.port), c.transport, c.format or "-", c.site or "-", *more
        )
    shown(screen, grid)
    screen.print()
    grid = table("rule", "line", "about", "devices", "asks")
    for rule, number in zip(policy.rules, view.matches or [-1] * len(policy.rules), strict=True):
        asks = "\n".join(f"{name}: {r.text}" for name, r in rule.require.items())
        devices = Cell(str(number) if number >= 0 else "-", "" if number else "yellow")
        grid.add_row(
            Cell(rule.name),
            Cell(str(rule.line), "dim"),
            Cell(rule.about),
            devices,
            Cell(asks),
        )
    shown(screen, grid)
    if policy.waivers:
        screen.print()
        grid = table("waiver for", "setting", "until", "because", "who")
        for w in policy.waivers:
            until = (
                Cell(str(w.until))
                if view.today <= w.until
                else Cell(f"{w.until} (ran out)", "yellow")
            )
            grid.add_row(
                Cell(w.device),
                Cell(w.setting),
                until,
                Cell(w.because),
                Cell(w.who or "-"),
            )
        shown(screen, grid)
    if found:
        screen.print()
        line(screen, ("to look at", "yellow"))
        shown(screen, quoted([(f"{r.file}:{r.line}", r.text) for r in found]), 2)


def draw_requirements(screen: Console, view: RequirementsView) -> None:
    """Draw what the policy asks of one device, and which rule of it does."""
    device = view.device
    line(
        screen,
        (device.name, "bold"),
        (f"  {device.kind} at {device.site}, {device.platform}", "dim"),
    )
    screen.print()
    grid = table("setting", "asked for", "by the rule", "in")
    for r in view.asked:
        grid.add_row(r.setting, Cell(r.text), Cell(r.rule), Cell(f"{r.file}:{r.line}", "dim"))
    shown(screen, grid)
