"""JUnit XML: a suite for each device, a case for each setting."""

from __future__ import annotations

from typing import TextIO

from lxml import etree

from ivrel.output.escaping import for_xml
from ivrel.output.views.audit import AuditView


def write(out: TextIO, audit: AuditView) -> None:
    """Write one document.

    `breaks` and `unable` are failures, `unknown` is an error, `waived` is skipped.
    """
    root = etree.Element("testsuites", name=for_xml(audit.fleet))
    for r in audit.results:
        counts = {
            "tests": len(r.verdicts),
            "failures": r.count("contradicted") + r.count("breaks") + r.count("unable"),
            "errors": r.count("unknown"),
            "skipped": r.count("waived"),
        }
        named = {"name": for_xml(r.device), "hostname": for_xml(r.device)}
        suite = etree.SubElement(
            root, "testsuite", named | {name: str(n) for name, n in counts.items()}
        )
        for v in r.verdicts:
            case = etree.SubElement(suite, "testcase", classname=for_xml(r.device), name=v.setting)
            if v.verdict == "meets":
                continue
            kind = {"unknown": "error", "waived": "skipped"}.get(v.verdict, "failure")
            why = for_xml(r.problem or v.why)
            told = etree.SubElement(
                case, kind, {"message": why} | ({} if kind == "skipped" else {"type": v.verdict})
            )
            lines = [f"{p.file}:{p.line}" for p in v.where]
            told.text = for_xml("\n".join([f"asked by '{v.rule}': {v.wanted}", *lines]))
    out.write('<?xml version="1.0" encoding="UTF-8"?>\n')
    out.write(etree.tostring(root, pretty_print=True, encoding="unicode"))
