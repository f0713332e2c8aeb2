"""Texts of rsyslog that a dice throws."""

from __future__ import annotations

from random import Random

COLLECTORS = ("198.51.100.21", "198.51.100.22")


def to(address: str, more: str = "") -> str:
    """An action that forwards."""
    return f'action(type="omfwd" target="{address}" port="514"{more})'


def generated(seed: int) -> str:
    """A configuration of some rules, each of any kind."""
    dice = Random(seed)
    facilities = ("kern", "mail", "auth", "cron", "local0", "local7", "*", "*", "*", "user,daemon")
    words = (
        "emerg",
        "crit",
        "err",
        "warning",
        "notice",
        "info",
        "debug",
        "*",
        "none",
        "=err",
        "!=err",
        "!warning",
        "=info",
    )
    terms = ("$syslogseverity {} {}", "$syslogfacility {} {}", "$pri {} {}")

    def selector() -> str:
        return ";".join(
            f"{dice.choice(facilities)}.{dice.choice(words)}" for _ in range(dice.randint(1, 4))
        )

    def condition(deep: int) -> str:
        if deep == 0 or dice.random() < 0.3:
            if dice.random() < 0.3:
                return f'prifilt("{selector()}")'
            return dice.choice(terms).format(
                dice.choice(("==", "!=", "<", ">", "<=", ">=")), dice.randint(0, 23)
            )
        left, right = condition(deep - 1), condition(deep - 1)
        joined = f"{left} {dice.choice(('and', 'or'))} {right}"
        return dice.choice((joined, f"({joined})", f"not ({joined})"))

    rules = []
    for _ in range(dice.randint(2, 6)):
        where = dice.choice(COLLECTORS)
        act = dice.choice((to(where), to(where), "stop", f"@{where}:514"))
        if dice.random() < 0.5:
            rules.append(f"{selector()} {act}")
        elif act[0] == "@" or dice.random() < 0.5:
            rules.append(f"if {condition(2)} then {act}")
        else:
            rules.append(f"if {condition(2)} then {{\n  {act}\n}} else {{\n  {to(where)}\n}}")
    return "\n".join(rules) + "\n"
