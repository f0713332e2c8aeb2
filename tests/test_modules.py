"""Documents of the open models, held against the texts of the modules themselves.

The texts come out of packages (see .ci/run) and are not part of this project; yanglint of libyang
reads them. Of ietf-syslog no text is at hand: `modules/ietf-syslog.yang` is a stand-in of the same
tree.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from pathlib import Path

import pytest
from conftest import TODAY

from ivrel.core import Device, correct, read_policy
from ivrel.core.fleet import read_fleet
from ivrel.demo.workspace import configurations, fleet_text, policy_text
from ivrel.sources.dialects import Dialects

TEXTS = os.environ.get("IVREL_MODULES", "")
READY = bool(TEXTS and shutil.which("yanglint"))
pytestmark = pytest.mark.skipif(
    not READY and not os.environ.get("IVREL_SKIP_NOTHING"),
    reason="needs yanglint, and the module texts in $IVREL_MODULES",
)
MODULES = {
    "openconfig": [
        *(
            "openconfig-vlan-types",
            "openconfig-if-types",
            "openconfig-if-aggregate",
            "iana-if-type",
        ),
        *(
            "openconfig-interfaces",
            "openconfig-if-ip",
            "openconfig-system-logging",
            "openconfig-system",
        ),
    ],
    "ietf-syslog": ["iana-if-type", "ietf-interfaces", "ietf-ip", "ietf-system", "ietf-syslog"],
}
DIALECTS = Dialects()
POLICY = read_policy(policy_text(), "policy.yaml")
DEVICES = {
    d.name: d for d in read_fleet(fleet_text(), "fleet.yaml").devices if d.platform in MODULES
}


@pytest.fixture(scope="module")
def texts(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """The folder of each model's modules."""
    out = {}
    for model in MODULES:
        folder = out[model] = tmp_path_factory.mktemp(model)
        for path in sorted(Path(TEXTS).rglob("*.yang")):
            name = path.name.partition("@")[0].removesuffix(".yang")
            if ("yuma" in str(path)) == (model == "ietf-syslog") and "nmda" not in str(path):
                # The patterns of OpenConfig are POSIX's, with anchors that RFC 7950 section 9.4.5
                # does not know.
                text = re.sub(
                    r"""(pattern\s+['"]|\+\s*['"])\^(.*)\$(['"];)""", r"\1\2\3", path.read_text()
                )
                text = re.sub(r"""(pattern\s+['"])\^""", r"\1", text)
                (folder / f"{name}.yang").write_text(re.sub(r"""\$(['"];)""", r"\1", text))
    shutil.copy(Path(__file__).parent / "modules" / "ietf-syslog.yang", out["ietf-syslog"])
    return out


def wrong(
    texts: dict[str, Path], model: str, document: bytes, folder: Path, kind: str = "config"
) -> str:
    """What yanglint finds wrong with a document; the elements around the data are taken off
    first.
    """
    if document.lstrip().startswith(b"<"):
        inner = re.sub(
            rb"^\s*<(config|data|rpc-reply|nc:config)\b[^>]*>|</(config|data|rpc-reply|nc:config)>\s*$",
            b"",
            document,
        )
        if kind == "edit":
            # The prefixes that the element around the data declares are still needed.
            declared = b" ".join(re.findall(rb'xmlns:\w+="[^"]*"', document.partition(b">")[0]))
            inner = re.sub(rb"<[\w:]+", rb"\g<0> " + declared, inner, count=1)
        file = folder / "document.xml"
        file.write_bytes(inner)
    else:
        file = folder / "document.json"
        file.write_bytes(document)
    names = [str(texts[model] / f"{name}.yang") for name in (*MODULES[model], "ietf-netconf")]
    command = ["yanglint", "-p", str(texts[model]), "-t", kind, *names, str(file)]
    done = subprocess.run(command, capture_output=True, text=True, timeout=60)
    return "\n".join(
        line for line in (done.stdout + done.stderr).splitlines() if "warn" not in line
    )


@pytest.mark.parametrize("name", sorted(DEVICES))
def test_the_example_and_its_corrections_are_valid(
    texts: dict[str, Path], name: str, tmp_path: Path
) -> None:
    device = DEVICES[name]
    data = configurations()[name][""].encode()
    assert wrong(texts, device.platform, data, tmp_path) == ""
    done = correct(device, DIALECTS[device.platform], data, POLICY, TODAY, "x")
    assert done.changes and done.proved
    assert wrong(texts, device.platform, done.corrected, tmp_path) == ""
    for payload in (done.change, done.backout):
        if payload.lstrip().startswith("<"):
            assert wrong(texts, device.platform, payload.encode(), tmp_path, "edit") == ""


@pytest.mark.parametrize("model", sorted(MODULES))
def test_the_examples_of_the_dialects_are_valid(
    texts: dict[str, Path], model: str, tmp_path: Path
) -> None:
    for example in DIALECTS[model].examples:
        document = example.text.encode()
        document = re.sub(rb"^\s*<rpc-reply[^>]*><data>|</data></rpc-reply>\s*$", b"", document)
        assert wrong(texts, model, document, tmp_path) == ""


def test_what_is_wrong_is_found(texts: dict[str, Path], tmp_path: Path) -> None:
    console = b'{"selectors": {"selector": [{"facility": "ALL", "severity": "DEBUG"}]}}'
    said = b'{"openconfig-system:system": {"logging": {%s}}}' % (b'"console": ' + console)
    assert "ALL" in wrong(texts, "openconfig", said, tmp_path)


def test_the_place_of_an_entry_is_written_as_the_standard_has_it(
    texts: dict[str, Path], tmp_path: Path
) -> None:
    """RFC 7950 section 7.8.6: the keys of the entry that it comes in front of, with prefixes."""
    selectors = "".join(
        f"<s:facility-list><s:facility>{f}</s:facility><s:severity>{s}</s:severity></s:facility-list>"
        for f, s in (
            ("all", "debug"),
            ("s:auth", "error"),
            ("s:kern", "debug"),
            ("s:cron", "error"),
        )
    )
    text = f"""<data xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">
<s:syslog xmlns:s="urn:ietf:params:xml:ns:yang:ietf-syslog"><s:actions><s:remote><s:destination>
<s:name>a</s:name><s:udp><s:address>198.51.100.21</s:address></s:udp>
<s:filter>{selectors}</s:filter></s:destination></s:remote></s:actions></s:syslog></data>"""
    policy = read_policy(
        "policy: p\ncollectors: {a: {address: 198.51.100.21}}\n"
        "rules: [{rule: r, require: {level: {to: warning}}}]\n",
        "policy.yaml",
    )
    here = Device("x1", "router", "main", "ietf-syslog", (), "192.0.2.9")
    done = correct(here, DIALECTS["ietf-syslog"], text.encode(), policy, TODAY, "x")
    assert done.proved and "[e:facility='e:auth'][e:severity='error']" in done.backout
    assert wrong(texts, "ietf-syslog", done.backout.encode(), tmp_path, "edit") == ""
    aside = done.backout.replace('insert="before"', 'insert="aside"').encode()
    assert "aside" in wrong(texts, "ietf-syslog", aside, tmp_path, "edit")
