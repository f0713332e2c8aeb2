"""JSON, for machines: one object each, its keys as documented in docs/formats.md."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any, TextIO

import msgspec

from ivrel.core.authoring.abilities import Ability, unsaid
from ivrel.core.correcting import MEANS, Correction
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging.remarks import Remark
from ivrel.core.policy import Policy, Requirement
from ivrel.core.reading.statements import Strange, Stray, Understood
from ivrel.core.settings import Fact
from ivrel.core.settings.bearing import bearing
from ivrel.core.text.bundle import Places
from ivrel.core.vocabulary.verdict import Verdict, totals

if TYPE_CHECKING:
    from ivrel.output.formats import Audit


def show(value: Any) -> None:
    """Prints one object on standard output."""
    sys.stdout.write(text(value))


def text(value: Any) -> str:
    """One object as indented JSON."""
    return msgspec.json.format(msgspec.json.encode(value), indent=2).decode() + "\n"


def write(out: TextIO, audit: Audit) -> None:
    """Writes an audit, each device in a line as it comes: nothing of a large fleet has to be kept."""
    encoder = msgspec.json.Encoder()
    sums = totals(())
    out.write(f'{{\n  "fleet": {msgspec.json.encode(audit.fleet).decode()},\n  "devices": [')
    for n, result in enumerate(audit.results):
        for verdict in result.verdicts:
            sums[verdict.verdict] += 1
        out.write(f"{',' if n else ''}\n    {encoder.encode(result).decode()}")
    whole = text(sums).rstrip("\n").replace("\n", "\n  ")
    out.write(f'\n  ],\n  "totals": {whole}\n}}\n')


def read(device: Device, facts: Iterable[Fact], strays: Iterable[Stray], places: Places) -> dict[str, Any]:
    """What was understood of a configuration."""
    return {
        "device": device.name,
        "platform": device.platform,
        "settings": [
            {
                "setting": fact.setting,
                "key": fact.key,
                "value": fact.value,
                "from": "default" if fact.default else "text",
                "where": [_place(places(line)) for line in sorted(set(fact.lines))],
            }
            for fact in facts
        ],
        "not_understood": [{**_place(places(s.line)), "text": s.text} for s in strays],
    }


def _place(place: tuple[str, int]) -> dict[str, Any]:
    return {"file": place[0], "line": place[1]}


def corrections(fleet: str, corrections: Iterable[Correction], unread: Sequence[tuple[str, str]]) -> dict[str, Any]:
    """Corrections: the changes and their reasons, the proof, what remains."""
    return {
        "fleet": fleet,
        "devices": [correction(c) for c in corrections],
        "not_readable": [{"device": name, "problem": problem} for name, problem in unread],
    }


def correction(c: Correction) -> dict[str, Any]:
    """The correction of one device."""
    return {
        "device": c.device,
        "platform": c.platform,
        "fingerprint": f"sha256:{c.fingerprint}",
        "proved": c.proved,
        "changes": [msgspec.to_builtins(change) for change in c.changes],
        "change": c.change,
        "backout": c.backout,
        "proof": [{"property": p.name, "means": MEANS[p.name], "holds": p.holds, "why": p.why} for p in c.proof],
        "remains": [msgspec.to_builtins(r) for r in c.remains],
    }


def fleet(name: str, rows: Iterable[tuple[Device, str | None]]) -> dict[str, Any]:
    """The devices of a fleet, and the files of their configurations."""
    return {
        "fleet": name,
        "devices": [
            {
                "device": d.name,
                "kind": d.kind,
                "site": d.site,
                "platform": d.platform,
                "groups": d.groups,
                "identity": d.identity,
                "rivals": d.rivals,
                "configuration": file,
            }
            for d, file in rows
        ],
    }


def policy(policy: Policy, found: Iterable[Remark]) -> dict[str, Any]:
    """The policy as a whole, and what to look at in it."""
    return {
        "policy": policy.name,
        "collectors": [{**msgspec.to_builtins(c), "reaches": sorted(c.reaches)} for c in policy.collectors.values()],
        "rules": [
            {
                "rule": rule.name,
                "file": rule.file,
                "line": rule.line,
                "where": {k: list(v) for k, v in rule.where.items()},
                "not": {k: list(v) for k, v in rule.but.items()},
                "require": {name: r.text for name, r in rule.require.items()},
            }
            for rule in policy.rules
        ],
        "sites": {name: msgspec.to_builtins(site) for name, site in policy.sites.items()},
        "waivers": [msgspec.to_builtins(w) for w in policy.waivers],
        "to_look_at": [msgspec.to_builtins(r) for r in found],
    }


def requirements(device: Device, policy: Policy, asked: Iterable[Requirement]) -> dict[str, Any]:
    """The policy as it holds for one device."""
    return {
        "device": device.name,
        "policy": policy.name,
        "requirements": [
            {"setting": r.setting, "wanted": r.text, "rule": r.rule, "file": r.file, "line": r.line} for r in asked
        ],
    }


def dialects(all_of: Iterable[Dialect]) -> dict[str, Any]:
    """The dialects that there are."""
    return {
        "dialects": [
            {"dialect": d.name, "shape": d.shape_name, "about": d.about, "file": d.file, "limits": dict(d.limits)}
            for d in all_of
        ]
    }


def explanation(
    device: Device, policy: Policy, verdicts: Iterable[Verdict], correction: Correction
) -> dict[str, Any]:
    """Verdicts with every rule that speaks of them, and the lines that would correct them."""
    return {
        "device": device.name,
        "verdicts": [
            {
                **msgspec.to_builtins(v),
                "rules": [
                    {
                        "rule": rule.name,
                        "line": rule.require[v.setting].line,
                        "asks": rule.require[v.setting].text,
                        "for_this_device": rule.holds_for(device),
                        "holds": rule.name == v.rule,
                    }
                    for rule in policy.rules
                    if v.setting in rule.require
                ],
                "correction": [msgspec.to_builtins(c) for c in correction.changes if v.setting in c.settings],
            }
            for v in verdicts
        ],
    }


def dialect(dialect: Dialect, rows: Iterable[Ability]) -> dict[str, Any]:
    """What a platform can say and what it cannot."""
    return {
        "dialect": dialect.name,
        "about": dialect.about,
        "shape": dialect.shape_name,
        "limits": dict(dialect.limits),
        "channels": list(dialect.channels),
        "can": [msgspec.to_builtins(row) for row in rows],
        "says_nothing_of": unsaid(dialect),
    }


def tried(
    dialect: Dialect, places: Places, rows: Iterable[tuple[int, str, object]], facts: Iterable[Fact]
) -> dict[str, Any]:
    """A text line by line, with what each was understood as."""
    lines = []
    for number, text, match in rows:
        one: dict[str, Any] = {**_place(places(number)), "text": text}
        if isinstance(match, Understood):
            one["values"] = dict((*match.named, *match.fields, *match.many))
        elif isinstance(match, Strange):
            one["not_understood"] = True
            one["may_bear_on"] = list(bearing(dialect, match))
        lines.append(one)
    return {
        "dialect": dialect.name,
        "lines": lines,
        "settings": [
            {"setting": f.setting, "key": f.key, "value": f.value, "from": "default" if f.default else "text"}
            for f in facts
        ],
    }
