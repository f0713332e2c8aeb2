"""JUnit XML: a suite for each device, a case for each setting."""

from __future__ import annotations

import re
from typing import TextIO

from lxml import etree

from ivrel.output.views.audit import AuditView

# What XML 1.0 cannot hold (section 2.2).
_NO_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def write(out: TextIO, audit: AuditView) -> None:
    """Write one document.

    `breaks` and `unable` are failures, `unknown` is an error, `waived` is skipped.
    """
    root = etree.Element("testsuites", name=_clean(audit.fleet))
    for r in audit.results:
        counts = {
            "tests": len(r.verdicts),
            "failures": r.count("contradicted") + r.count("breaks") + r.count("unable"),
            "errors": r.count("unknown"),
            "skipped": r.count("waived"),
        }
        named = {"name": _clean(r.device), "hostname": _clean(r.device)}
        suite = etree.SubElement(
            root, "testsuite", named | {name: str(n) for name, n in counts.items()}
        )
        for v in r.verdicts:
            case = etree.SubElement(suite, "testcase", classname=_clean(r.device), name=v.setting)
            if v.verdict == "meets":
                continue
            kind = {"unknown": "error", "waived": "skipped"}.get(v.verdict, "failure")
            why = _clean(r.problem or v.why)
            told = etree.SubElement(
                case, kind, {"message": why} | ({} if kind == "skipped" else {"type": v.verdict})
            )
            lines = [f"{p.file}:{p.line}" for p in v.where]
            told.text = _clean("\n".join([f"asked by '{v.rule}': {v.wanted}", *lines]))
    out.write('<?xml version="1.0" encoding="UTF-8"?>\n')
    out.write(etree.tostring(root, pretty_print=True, encoding="unicode"))


def _clean(text: str) -> str:
    return _NO_XML.sub("\ufffd", text)
