"""The formats of an audit, each read back by a reader that others wrote and held against the
JSON.
"""

from __future__ import annotations

import csv
import gzip
import io
import json
import lzma
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import jsonschema
import pysarif
import pytest
import zstandard
from conftest import Run
from junitparser import Error, Failure, JUnitXml, Skipped
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from ivrel.core.settings import SETTINGS
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.packed import unpacked

TEXT = {
    "type": "object",
    "required": ["text"],
    "properties": {"text": {"type": "string", "minLength": 1}},
}
# What SARIF 2.1.0 asks of the parts that are written (sections 3.13, 3.14, 3.18, 3.19, 3.20, 3.27
# to 3.30, 3.35, 3.49).
SARIF: dict[str, Any] = {
    "type": "object",
    "required": ["version", "runs"],
    "additionalProperties": False,
    "properties": {
        "$schema": {"type": "string", "format": "uri"},
        "version": {"const": "2.1.0"},
        "runs": {
            "type": "array",
            "items": {
                "type": "object",
                "required": ["tool"],
                "additionalProperties": False,
                "properties": {
                    "tool": {
                        "required": ["driver"],
                        "properties": {
                            "driver": {
                                "required": ["name"],
                                "properties": {
                                    "semanticVersion": {"pattern": r"^\d+\.\d+\.\d+"},
                                    "rules": {
                                        "uniqueItems": True,
                                        "items": {
                                            "required": ["id"],
                                            "properties": {
                                                "shortDescription": TEXT,
                                                "fullDescription": TEXT,
                                                "help": TEXT,
                                            },
                                        },
                                    },
                                },
                            }
                        },
                    },
                    "columnKind": {"enum": ["utf16CodeUnits", "unicodeCodePoints"]},
                    "invocations": {
                        "items": {
                            "required": ["executionSuccessful"],
                            "properties": {
                                "executionSuccessful": {"type": "boolean"},
                                "toolExecutionNotifications": {"items": {"required": ["message"]}},
                            },
                        }
                    },
                    "results": {
                        "items": {
                            "required": ["message"],
                            "additionalProperties": False,
                            "properties": {
                                "ruleId": {"type": "string"},
                                "ruleIndex": {"type": "integer", "minimum": 0},
                                "level": {"enum": ["none", "note", "warning", "error"]},
                                "message": TEXT,
                                "locations": {
                                    "items": {
                                        "properties": {
                                            "physicalLocation": {
                                                "required": ["artifactLocation"],
                                                "properties": {
                                                    "artifactLocation": {
                                                        "properties": {
                                                            "uri": {"format": "uri-reference"}
                                                        }
                                                    },
                                                    "region": {
                                                        "properties": {
                                                            "startLine": {
                                                                "type": "integer",
                                                                "minimum": 1,
                                                            }
                                                        }
                                                    },
                                                },
                                            },
                                            "logicalLocations": {
                                                "items": {
                                                    "properties": {"name": {"type": "string"}}
                                                }
                                            },
                                        }
                                    }
                                },
                                "partialFingerprints": {"additionalProperties": {"type": "string"}},
                                "suppressions": {
                                    "items": {
                                        "required": ["kind"],
                                        "properties": {
                                            "kind": {"enum": ["inSource", "external"]},
                                        },
                                    }
                                },
                                "properties": {"type": "object"},
                            },
                        }
                    },
                },
            },
        },
    },
}


@pytest.fixture(scope="module")
def audits(ivrel: Run, example: Path) -> dict[str, str]:
    names = ("json", "jsonl", "csv", "md", "sarif", "junit", "openmetrics")
    call = ("audit", "-w", example, "--today", "2026-11-23", "--format")
    return {name: ivrel(*call, name, code=1).stdout for name in names}


@pytest.fixture(scope="module")
def verdicts(audits: dict[str, str]) -> dict[tuple[str, str], dict[str, Any]]:
    devices = json.loads(audits["json"])["devices"]
    return {(d["device"], v["setting"]): {**d, **v} for d in devices for v in d["verdicts"]}


def test_lines_of_json_are_the_devices_of_the_json(audits: dict[str, str]) -> None:
    assert [json.loads(line) for line in audits["jsonl"].splitlines()] == json.loads(
        audits["json"]
    )["devices"]


def test_csv_has_a_row_a_verdict(
    audits: dict[str, str], verdicts: dict[tuple[str, str], dict[str, Any]]
) -> None:
    rows = list(csv.DictReader(io.StringIO(audits["csv"], newline=""), strict=True))
    assert len(rows) == len(verdicts)
    for row in rows:
        v = verdicts[row["device"], row["setting"]]
        fields = ("kind", "site", "platform", "verdict", "found", "wanted", "rule", "why")
        assert all(row[name] == v[name] for name in fields)
        assert row["where"].split() == [f"{p['file']}:{p['line']}" for p in v["where"]]


def test_markdown_tells_what_is_not_as_asked(
    audits: dict[str, str], verdicts: dict[tuple[str, str], dict[str, Any]]
) -> None:
    rows: Counter[tuple[str, str, str]] = Counter()
    device = ""
    for line in audits["md"].splitlines():
        if line.startswith("## "):
            device = line[3:]
        cells = [cell.strip() for cell in line.split("|")]
        if len(cells) > 3 and cells[1] in SETTINGS:
            rows[device, cells[1], cells[2]] += 1
            # A device that is not as asked is told with all that does not meet, what is waived
            # among it.
    bad = {d for (d, _), v in verdicts.items() if v["verdict"] not in ("meets", "waived")}
    told = {
        (d, s, v["verdict"])
        for (d, s), v in verdicts.items()
        if d in bad and v["verdict"] != "meets"
    }
    assert rows == Counter(told)


def lost(a: Any, b: Any, at: str = "") -> Iterator[str]:
    """What of one JSON value another one does not have."""
    if isinstance(a, dict) and isinstance(b, dict):
        for key in a:
            yield from lost(a[key], b.get(key), f"{at}/{key}")
    elif isinstance(a, list) and isinstance(b, list) and len(a) == len(b):
        for x, y in zip(a, b, strict=True):
            yield from lost(x, y, f"{at}/*")
    elif a != b:
        yield at


def test_sarif_keeps_its_rules(
    audits: dict[str, str], verdicts: dict[tuple[str, str], dict[str, Any]]
) -> None:
    log = json.loads(audits["sarif"])
    jsonschema.validate(log, SARIF)
    # A reader made from the standard's own schema knows all that is written, but for what is open
    # by definition.
    known = pysarif.save_to_dict(pysarif.load_from_json(audits["sarif"]))
    unknown = set(lost(log, known))
    assert "/$schema" in unknown and all(
        key == "/$schema" or "/properties/" in key for key in unknown
    )
    run = log["runs"][0]
    assert [rule["id"] for rule in run["tool"]["driver"]["rules"]] == list(SETTINGS)
    found = {}
    for result in run["results"]:
        assert run["tool"]["driver"]["rules"][result["ruleIndex"]]["id"] == result["ruleId"]
        device = result["locations"][0]["logicalLocations"][0]["name"]
        v = verdicts[device, result["ruleId"]]
        places = [
            loc["physicalLocation"] for loc in result["locations"] if "physicalLocation" in loc
        ]
        assert [(p["artifactLocation"]["uri"], p["region"]["startLine"]) for p in places] == [
            (p["file"], p["line"]) for p in v["where"]
        ]
        assert ("suppressions" in result) == (v["verdict"] == "waived") and v["why"] in result[
            "message"
        ]["text"]
        found[device, result["ruleId"]] = result["properties"]["verdict"]
    assert found == {at: v["verdict"] for at, v in verdicts.items() if v["verdict"] != "meets"}


def test_junit_has_a_case_a_verdict(
    audits: dict[str, str], verdicts: dict[tuple[str, str], dict[str, Any]], tmp_path: Path
) -> None:
    (tmp_path / "j.xml").write_text(audits["junit"])
    kinds = {"breaks": Failure, "unable": Failure, "unknown": Error, "waived": Skipped}
    seen = set()
    for suite in JUnitXml.fromfile(str(tmp_path / "j.xml")):
        cases = list(suite)
        assert suite.tests == len(cases)
        for case in cases:
            v = verdicts[case.classname, case.name]
            assert [type(r) for r in case.result] == (
                [] if v["verdict"] == "meets" else [kinds[v["verdict"]]]
            )
            assert all(r.message == v["why"] for r in case.result)
            seen.add((case.classname, case.name))
        assert suite.failures == sum(
            1 for c in cases if any(isinstance(r, Failure) for r in c.result)
        )
    assert seen == set(verdicts)


def test_openmetrics_count_what_the_json_counts(
    audits: dict[str, str], verdicts: dict[tuple[str, str], dict[str, Any]]
) -> None:
    read: Any = text_string_to_metric_families
    families = {f.name: f for f in read(audits["openmetrics"])}
    assert families.keys() == {"ivrel_verdicts", "ivrel_devices"}
    counted = Counter((s, v["verdict"]) for (_, s), v in verdicts.items())
    for sample in families["ivrel_verdicts"].samples:
        assert sample.value == counted[sample.labels["setting"], sample.labels["verdict"]]
    assert sum(s.value for s in families["ivrel_verdicts"].samples) == len(verdicts)
    assert sum(s.value for s in families["ivrel_devices"].samples) == len({d for d, _ in verdicts})


def test_texts_come_compressed_and_by_standard_input(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    plain = (example / "configs" / "tarsk-fw2.conf").read_bytes()
    packed = {
        "gz": gzip.compress(plain),
        "xz": lzma.compress(plain),
        "zst": zstandard.compress(plain),
    }
    wanted = ivrel("read", "-w", example, "tarsk-fw2", code=0).stdout.splitlines()[1:]
    for ending, data in packed.items():
        file = tmp_path / f"t.{ending}"
        file.write_bytes(data)
        assert (
            ivrel("read", "-w", example, "tarsk-fw2", "--text", file, code=0).stdout.splitlines()[
                1:
            ]
            == wanted
        )
        # Wherever it is cut, it is damaged, and that is one clear line.
        for cut in range(8, len(data), 97):
            with pytest.raises(Unreadable, match=r"damaged (gzip|xz|zstd) file"):
                unpacked(data[:cut], "t")
        file.write_bytes(data[:-9])
        done = ivrel("audit", "-w", example, "tarsk-fw2", "--text", file, code=2)
        assert done.stderr.startswith(f"ivrel: {file}: damaged ") and done.stderr.count("\n") == 1
    by_input = ivrel(
        "read", "-w", example, "tarsk-fw2", "--text", "-", code=0, input=plain.decode()
    )
    assert by_input.stdout.splitlines()[1:] == wanted
    many = ivrel("audit", "-w", example, "--text", "-", code=2, input="")
    assert many.stderr == "ivrel: --text gives the configuration of one device, and 40 are chosen\n"


def test_a_fleet_is_counted_by_groups(
    ivrel: Run, example: Path, verdicts: dict[tuple[str, str], dict[str, Any]]
) -> None:
    call = (
        "audit",
        "-w",
        example,
        "--today",
        "2026-11-23",
        "--setting",
        "level",
        "--setting",
        "source",
    )
    table = ivrel(*call, "--by", "platform", code=1).stdout
    rows = {line.split()[0]: line.split()[1:] for line in table.split("\n\n")[1].splitlines()[1:]}
    for platform, cells in rows.items():
        bad = Counter(
            s
            for (_, s), v in verdicts.items()
            if v["platform"] == platform and v["verdict"] not in ("meets", "waived")
        )
        assert cells[0] == str(
            len({d for (d, _), v in verdicts.items() if v["platform"] == platform})
        )
        assert [cell.replace("·", "0") for cell in cells[2:]] == [
            str(bad[s]) for s in ("level", "source")
        ]
    # Many settings stand on steps, each above the last digit of its numbers; a long name stands
    # above its own.
    wide = ivrel(
        "audit", "-w", example, "--by", "rule", "--today", "2026-11-23", "--width", "110", code=1
    ).stdout
    steps = wide.split("\n\n")[1].splitlines()
    at = {
        step.strip(" │┐"): step.rindex("┐") if "┐" in step else step.index(step.strip(" │"))
        for step in steps[:24]
    }
    numbers = steps[steps.index("refitted firewalls tell of everything they stop") + 1]
    marked = {name for name, column in at.items() if numbers.ljust(110)[column] not in " │"}
    assert list(at) == list(SETTINGS) and marked == {"categories", "rules"}
    # Where there is no room for all, the columns stand in several pieces, and no line is longer
    # than asked.
    slim = ivrel(
        "audit", "-w", example, "--by", "site", "--today", "2026-11-23", "--width", "60", code=1
    ).stdout
    pieces = [piece.splitlines() for piece in slim.split("\n\n")[1:3]]
    told = [line.strip(" │┐") for lines in pieces for line in lines if line.startswith(" ")]
    assert told == list(SETTINGS) and max(map(len, slim.splitlines())) <= 60
    sums = Counter(
        row.split()[0] for lines in pieces for row in lines if not row.startswith((" ", "site"))
    )
    assert set(sums.values()) == {len(pieces)} and len(sums) == len(
        {v["site"] for v in verdicts.values()}
    )
    # What is found on several devices is told once, with the devices.
    why = "beacon-a: not set, so messages leave from whatever interface is nearest"
    devices = [d for (d, s), v in verdicts.items() if s == "source" and v["why"] == why]
    assert table.count(why) == 1 and f"{len(devices)} devices  " in table and len(devices) > 1
    assert all(device in table for device in devices)
