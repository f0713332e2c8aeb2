"""SARIF 2.1.0 (OASIS): a rule for each setting, a result for each verdict that is not as asked.

`breaks` is an error, `unknown` and `unable` are warnings, what is waived is a result that is
suppressed.
"""

from __future__ import annotations

from typing import Any, TextIO

from ivrel import __version__
from ivrel.core.settings import SETTINGS
from ivrel.core.vocabulary.verdict import DeviceResult, Verdict
from ivrel.output.machine.json import text
from ivrel.output.views.audit import AuditView

LEVELS = {
    "contradicted": "error",
    "breaks": "error",
    "unknown": "warning",
    "unable": "warning",
    "waived": "error",
}
SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json"


def write(out: TextIO, audit: AuditView) -> None:
    """Write one log with one run."""
    rules = [
        {
            "id": s.name,
            "shortDescription": {"text": s.meaning},
            "fullDescription": {"text": s.matters},
            "help": {"text": f"meets: {s.meets}\nbreaks: {s.breaks}"},
        }
        for s in SETTINGS.values()
    ]
    results: list[dict[str, Any]] = []
    notes: list[dict[str, Any]] = []
    for r in audit.results:
        if r.problem:
            notes.append({"level": "error", "message": {"text": f"{r.device}: {r.problem}"}})
        results += [_result(r, v) for v in r.verdicts if v.verdict != "meets"]
    invocation: dict[str, Any] = {"executionSuccessful": not notes}
    if notes:
        invocation["toolExecutionNotifications"] = notes
    run = {
        "tool": {"driver": {"name": "Ivrel", "semanticVersion": __version__, "rules": rules}},
        "invocations": [invocation],
        "columnKind": "unicodeCodePoints",
        "results": results,
    }
    out.write(text({"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}))


def _result(r: DeviceResult, v: Verdict) -> dict[str, Any]:
    device = {"name": r.device, "kind": "resource", "fullyQualifiedName": f"{r.site}/{r.device}"}
    locations: list[dict[str, Any]] = [
        {
            "physicalLocation": {
                "artifactLocation": {"uri": _uri(p.file)},
                "region": {"startLine": p.line},
            },
            "logicalLocations": [device],
        }
        for p in v.where
    ]
    out: dict[str, Any] = {
        "ruleId": v.setting,
        "ruleIndex": list(SETTINGS).index(v.setting),
        "level": LEVELS[v.verdict],
        "message": {"text": f"{r.device}: {r.problem or v.why}; asked by '{v.rule}': {v.wanted}"},
        "locations": locations or [{"logicalLocations": [device]}],
        "partialFingerprints": {
            "deviceAndSetting/v1": f"{r.device}/{v.setting}",
            "findings/v1": f"{r.device}/{v.setting}/{_key(v)}",
        },
        "properties": {
            "verdict": v.verdict,
            "kind": r.kind,
            "site": r.site,
            "platform": r.platform,
        },
    }
    if v.verdict == "waived":
        out["suppressions"] = [{"kind": "external", "justification": v.why}]
    return out


def _key(v: Verdict) -> str:
    """Return the key of a verdict's findings, which does not depend on their wording."""
    return ";".join(sorted(f"{told.kind} {told.about}".strip() for told in v.findings))


def _uri(file: str) -> str:
    from urllib.parse import quote

    return quote(file)
