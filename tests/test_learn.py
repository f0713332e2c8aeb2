"""A dialect learned from samples: what it reads is so, and what is not sure is told."""

from __future__ import annotations

import contextlib
import json
import os
import pty
import re
import subprocess
import sys
import time
from pathlib import Path

import pytest
import yaml
from conftest import TODAY, Run, tried
from hypothesis import given
from hypothesis import strategies as st
from learned import PLATFORMS
from learned_more import MORE
from msgspec.structs import replace

from ivrel.core import InputError, read_policy
from ivrel.core.authoring.check import check_dialect
from ivrel.core.authoring.learning.answers import UserAnswers, read_answers, write_answers
from ivrel.core.authoring.learning.changes import PastChange, from_changes
from ivrel.core.authoring.learning.cutting import Sample
from ivrel.core.authoring.learning.examples import examples_of
from ivrel.core.authoring.learning.learn import Learned, learn
from ivrel.core.authoring.learning.written import written
from ivrel.core.correcting import correct
from ivrel.core.correcting.changes import apply_change
from ivrel.core.dialects import Dialect
from ivrel.core.dialects.load import read_dialect
from ivrel.core.fleet import Device
from ivrel.core.reading.records import read_records
from ivrel.core.settings import Scope, read_settings
from ivrel.sources.dialects import Dialects
from ivrel.sources.workspace import WorkspaceFiles

COLLECTORS = ("198.51.100.21", "198.51.100.22")
SHIPPED = Dialects()
ROOT = Path(__file__).parent.parent / "src/ivrel"


def dialect_of(found: Learned, samples: list[Sample]) -> Dialect:
    """Return the dialect as its file says it, with its examples."""
    text = written(found)
    return read_dialect(text + "\n" + examples_of(found, read_dialect(text, "x"), samples), "x")


def said(dialect: Dialect, data: bytes, device: Device | None = None) -> dict[str, str]:
    facts = read_settings(Scope(device, read_records(dialect, data), {}))
    return {f"{f.setting} {f.key}".strip(): f.value for f in facts if not f.default}


@pytest.mark.parametrize("known", [COLLECTORS, ()])
@pytest.mark.parametrize("name", [*PLATFORMS, *MORE])
def test_made_up_platforms_are_learned(name: str, known: tuple[str, ...]) -> None:
    platform = {**PLATFORMS, **MORE}[name]
    samples = [Sample(f"{device}.conf", text.encode()) for device, text in platform.texts.items()]
    found = learn(name, samples, known)
    assert found.shape == platform.shape
    dialect = dialect_of(found, samples)
    for device, facts in platform.facts.items():
        read = said(dialect, platform.texts[device].encode())
        assert {key: read.get(key) for key in facts} == facts
    assert check_dialect(dialect) == []
    # Blocks of other parts are set aside as a whole, and not opened.
    assert "watchword" not in written(found)
    # Secrets stand near the export part, and nowhere in what is written.
    secrets = re.findall(r"\b\w*(?:c0ffee|deadbeef)\b|a\d+b\d+c", " ".join(platform.texts.values()))
    assert secrets or name in ("auk", "rail")
    assert not any(secret in written(found) for secret in secrets)


@pytest.mark.parametrize("name", ["dunlin", "knot", "curlew", "sanderling", "whimbrel", "stint"])
def test_learned_dialects_write_what_they_read(name: str) -> None:
    """A correction that is written in a learned dialect is proved, and can be taken back; what a
    statement leaves out is not among the words that take it away.
    """
    texts = MORE[name].texts
    samples = [Sample(f"{device}.conf", text.encode()) for device, text in texts.items()]
    defaults = {"export": "on", "level": "debug", "destination.level": "debug"}
    defaults |= {"destination.port": "514", "destination.transport": "udp"}
    slots = {slot for row in learn(name, samples).known for slot in row.slots}
    defaults = {slot: value for slot, value in defaults.items() if slot in slots}
    answers = UserAnswers(remove="unset", inside="change", defaults=defaults)
    dialect = dialect_of(learn(name, samples, answers=answers), samples)
    policy = read_policy(
        "policy: p\ncollectors: {a: {address: 198.51.100.21}, c: {address: 203.0.113.77}}\n"
        "rules: [{rule: r, require: {export: on, collectors: [a, c], level: {from: error}}}]\n",
        "policy.yaml",
    )
    for sample in samples:
        device = Device(sample.name, "router", "s", name)
        only = ("export", "collectors", "level")[not any("export" in slot for slot in slots) :]
        done = correct(device, dialect, sample.data, policy, TODAY, "x", only)
        assert done.changes and all(p.holds for p in done.proof), done.proof
        assert all(v.verdict == "meets" for v in done.after.verdicts if v.setting in only)
        after = apply_change(dialect, sample.data, done.change, "change")
        assert b"203.0.113.77" in after and after == done.corrected
        back = apply_change(dialect, after, done.backout, "back-out")
        assert said(dialect, back) == said(dialect, sample.data)


LISTS = {
    "paths": "sys.name = {n}\nlog.enabled = yes\nlog.targets = {t}\nlog.facility = 20\n",
    "sections": "[sys]\nname = {n}\n\n[log]\nenabled = yes\ntargets = {t}\nfacility = 20\n",
    "braces": 'unit "{n}" {{\n log {{ enabled yes; targets {t}; facility 20; }}\n}}\n',
    "brackets": 'unit "{n}" {{\n log {{ enabled yes; targets [ {t} ]; facility 20; }}\n}}\n',
    "blocks": "name {n}\nlog\n  enabled yes\n  targets ({t})\n  facility 20\n",
    "enclosed": "open sys\nname {n}\nshut\nopen log\nenabled yes\ntargets {t}\nfacility 20\nshut\n",
}


@pytest.mark.parametrize("name", LISTS)
def test_lists_are_learned_in_every_shape_of_words(name: str) -> None:
    some = {
        "198.51.100.21:514/udp{}198.51.100.22": ("198.51.100.21 udp 514", "198.51.100.22 no transport no port"),
        "[2001:db8::1]:601/tcp": ("2001:db8::1 tcp 601",),
        "198.51.100.21{}203.0.113.4:514": ("198.51.100.21 no transport no port", "203.0.113.4 no transport 514"),
    }  # fmt: skip
    between = " " if name == "brackets" else "," if name == "blocks" else ", "
    samples = [
        Sample(f"d{n}.conf", LISTS[name].format(n=f"d{n}", t=text.format(between)).encode())
        for n, text in enumerate(some)
    ]
    found = learn("ours", samples)
    dialect = dialect_of(found, samples)
    for sample, collectors in zip(samples, some.values(), strict=True):
        read = {k: v for k, v in said(dialect, sample.data).items() if k.startswith("collectors")}
        assert tuple(read.values()) == collectors
    assert check_dialect(dialect) == []
    # What divides a list only shows where there are two in one.
    with contextlib.suppress(InputError):
        single = learn("ours", samples[1:2])
        assert "series" not in single.options
        assert not any("targets" in one.template.keys for one in single.known)


KEYWORDS = {
    "transport": ("over", ("udp", "tcp", "tls")), "port": ("port", ("514", "601", "6514")),
    "level": ("severity", ("err", "info", "warning")), "facility": ("facility", ("local1", "local6")),
}  # fmt: skip
LINES = st.lists(
    st.fixed_dictionaries(
        {}, optional={key: st.sampled_from(some) for key, (_, some) in KEYWORDS.items()}
    ),
    min_size=2, max_size=5,
)  # fmt: skip


@given(LINES, st.permutations(list(KEYWORDS)), st.sets(st.sampled_from(list(KEYWORDS))))
@tried(150)
def test_whatever_words_are_left_out_nothing_wrong_is_read(
    lines: list[dict[str, str]], order: list[str], bare: set[str]
) -> None:
    """`bare`: what stands without a word of its own."""
    out = []
    for n, line in enumerate(lines):
        words = [f"  sink 198.51.100.{n + 1}"]
        for key in order:
            if key in line:
                words += [line[key]] if key in bare else [KEYWORDS[key][0], line[key]]
        out.append(" ".join(words))
    text = "name x\nlogs\n" + "\n".join(out) + "\n  sequence yes\n"
    sample = Sample("x.conf", text.encode())
    dialect = dialect_of(
        learn("ours", [sample], [f"198.51.100.{n + 1}" for n in range(9)]), [sample]
    )
    read = said(dialect, sample.data)
    for n, line in enumerate(lines):
        at = f"198.51.100.{n + 1}"
        level = {"err": "error", "info": "informational", "warning": "warning"}.get(
            line.get("level", "")
        )
        ways = f"{at} {line.get('transport', 'no transport')} {line.get('port', 'no port')}"
        assert read[f"collectors {at}"] == ways
        assert read.get(f"level {at}") == (f"through {level}" if level else None)
        assert read.get(f"facility {at}") == line.get("facility")


def of_platform(workspace: WorkspaceFiles, platform: str) -> tuple[list[Device], list[Sample]]:
    devices = [d for d in workspace.fleet.devices if d.platform == platform][:3]
    return devices, [Sample(f"{d.name}.conf", workspace.text(d)[0]) for d in devices]


def learned(
    workspace: WorkspaceFiles, samples: list[Sample], answers: UserAnswers | None = None
) -> Learned:
    collectors = [c.address for c in workspace.policy.collectors.values()]
    identities = [d.identity for d in workspace.fleet.devices if d.identity]
    return learn("ours", samples, collectors, identities, "", answers)


def as_written(platform: str) -> Dialect:
    """Return a shipped dialect without what no sample can tell: what holds where a text says
    nothing, and which categories of messages go by which plane.
    """
    text = (ROOT / "platforms" / f"{platform}.yaml").read_text()
    known = "defaults|defaults-when|categories|examples"
    plain = re.sub(rf"(?ms)^({known}):.*?(?=^\S|\Z)", "", text)
    assert plain != text
    return read_dialect(plain, f"{platform}.yaml")


@pytest.mark.parametrize(
    ("platform", "least"),
    [("quern", 1.0), ("skarn", 0.85), ("marl", 1.0), ("osier", 0.95), ("hollin", 0.95)],
)
def test_stand_ins_are_read_as_their_dialects_read_them(
    workspace: WorkspaceFiles, platform: str, least: float
) -> None:
    devices, samples = of_platform(workspace, platform)
    dialect = dialect_of(learned(workspace, samples), samples)
    assert check_dialect(dialect) == []
    right = number = 0
    for device, sample in zip(devices, samples, strict=True):
        shipped = said(as_written(platform), sample.data, device)
        read = said(dialect, sample.data, device)
        assert (
            read.items() <= shipped.items() | said(SHIPPED[platform], sample.data, device).items()
        )
        number += len(shipped)
        right += len(read.items() & shipped.items())
    assert right >= least * number


@pytest.mark.deep
@pytest.mark.parametrize("known", [True, False])
@pytest.mark.parametrize("platform", ["quern", "skarn", "marl", "osier", "hollin"])
def test_whatever_samples_there_are_nothing_wrong_is_learned(
    workspace: WorkspaceFiles, platform: str, known: bool
) -> None:
    """One, two, three or all of them, held against all; `known`: collectors and identities are."""
    devices = [d for d in workspace.fleet.devices if d.platform == platform]
    every = [Sample(f"{d.name}.conf", workspace.text(d)[0]) for d in devices]
    pairs = list(zip(devices, every, strict=True))
    plain = as_written(platform)
    shipped = [
        said(plain, sample.data, device).items()
        | said(SHIPPED[platform], sample.data, device).items()
        for device, sample in pairs
    ]
    for size in {1, 2, 3, len(every)}:
        for start in range(len(every) - size + 1):
            samples = every[start : start + size]
            try:
                found = learned(workspace, samples) if known else learn("ours", samples)
            except InputError:
                assert not known and size < len(every)  # that is no wrong answer
                continue
            dialect = read_dialect(written(found), "x")
            for (device, sample), facts in zip(pairs, shipped, strict=True):
                read = said(dialect, sample.data, device)
                # What these samples do not teach is told to be unknown, and is no other value.
                told = {
                    k: v
                    for k, v in read.items()
                    if not re.search("no (transport|port)|not said", v)
                }
                wrong = told.items() - facts
                assert not wrong, (samples[0].name, size, device.name, wrong)


def defaults_of(platform: str) -> dict[str, str]:
    """Return what a shipped dialect says of what texts leave out, as a user would answer."""
    text = (ROOT / "platforms" / f"{platform}.yaml").read_text()
    said = yaml.safe_load(text)["defaults"]
    return {slot: {True: "on", False: "off"}.get(v, str(v)) for slot, v in said.items()}


PLANES = UserAnswers(
    remove="drop", inside="alter", defaults=defaults_of("hollin"), channels=("keeper", "transit"),
    categories={"keeper": ("system", "change", "login"), "transit": ("traffic", "threat")},
    means={"record * to": "give.destination", "record hold": "memory.size memory.level"},
)  # fmt: skip


@pytest.mark.parametrize(
    ("platform", "answers"),
    [(name, UserAnswers(defaults=defaults_of(name))) for name in ("quern", "skarn", "marl")]
    + [("hollin", PLANES)],
)
def test_with_answers_everything_is_read(
    workspace: WorkspaceFiles, platform: str, answers: UserAnswers
) -> None:
    devices, samples = of_platform(workspace, platform)
    dialect = dialect_of(learned(workspace, samples, answers), samples)
    for device, sample in zip(devices, samples, strict=True):
        read = said(dialect, sample.data, device)
        for key, value in said(SHIPPED[platform], sample.data, device).items():
            # Rules that say nothing of records show no word for it.
            no_word = platform == "skarn" and key.startswith("rules")
            assert no_word or read.get(key) == value, (key, value)


# Of each platform: the word that removes, the block that a change stands in, and how many
# collectors it holds.
WAYS = {
    "quern": ("strike", "?", "4"), "skarn": ("forget", "?", "8"), "marl": ("without", "?", "2"),
    "osier": ("drop", "alter", "8"), "hollin": ("drop", "alter", "6"),
}  # fmt: skip


@pytest.mark.parametrize("platform", WAYS)
def test_with_answers_corrections_are_those_of_the_shipped_dialect(
    workspace: WorkspaceFiles, platform: str
) -> None:
    devices, samples = of_platform(workspace, platform)
    remove, inside, most = WAYS[platform]
    answers = replace(
        PLANES if platform == "hollin" else UserAnswers(),
        about="as it is", remove=remove, inside=inside, defaults=defaults_of(platform),
        most={"destination": most},
    )  # fmt: skip
    dialect = dialect_of(learned(workspace, samples, answers), samples)
    only = ("export", "collectors", "level", "facility", "stamp", "source", "categories", "format")
    lines = 0
    for device, sample in zip(devices, samples, strict=True):
        right, found = (
            correct(device, one, sample.data, workspace.policy, TODAY, "x", only)
            for one in (SHIPPED[platform], dialect)
        )
        assert (found.change, found.backout) == (right.change, right.backout)
        assert found.proved == right.proved
        lines += len(right.changes)
    assert lines >= 3


def test_as_long_as_nobody_knows_the_word_that_removes_nothing_is_proved_that_needs_it(
    workspace: WorkspaceFiles,
) -> None:
    devices, samples = of_platform(workspace, "quern")
    answers = UserAnswers("routers", defaults=defaults_of("quern"), most={"destination": "4"})
    dialect = dialect_of(learned(workspace, samples, answers), samples)
    needed = set()
    for device, sample in zip(devices, samples, strict=True):
        right, found = (
            correct(device, one, sample.data, workspace.policy, TODAY, "x")
            for one in (SHIPPED["quern"], dialect)
        )
        removes = "strike" in right.change + right.backout
        if found.change:
            needed.add(removes)
            assert found.proved != removes
            why = next((p.why for p in found.proof if not p.holds), "")
            assert ("which word takes a statement away" in why) == removes
    assert needed == {True, False}


@pytest.mark.parametrize(
    ("texts", "told"),
    [
        ([""], "the samples look like none of the shapes"),
        (["Dear all,\nthe ferry sails at noon.\n"], "the samples look like none of the shapes"),
        (["a {\n b { c 1; }\n d 2;\n}\n"], "no part of the samples looks like export"),
        (["log\n  loudness warning\n  horn critical\n"], "nothing that the samples say of export is understood"),
        ([PLATFORMS["gull"].texts["quay-r1"], PLATFORMS["auk"].texts["sluice-1"]], "the samples look different, 1 like blocks and 1 like sections"),
        (['<a b="1"/>'], "no part of the samples looks like export"),
        (["<a><b></a>"], "not XML"),
        (['<a b="1"><level>warning</level></a>'], "values stand between elements and in attributes"),
        (['{"a": '], "not JSON"),
        (['{"a": {"level": "warning"}}', '<a b="1"/>'], "some are XML, some are JSON"),
        (['<a b="1"/>', '<c b="1"/>'], "the samples look different: a and c"),
    ],
)  # fmt: skip
def test_what_teaches_nothing_is_told(texts: list[str], told: str) -> None:
    with pytest.raises(InputError, match=re.escape(told)):
        learn("x", [Sample(f"{n}", text.encode()) for n, text in enumerate(texts)])


def test_what_is_not_sure_is_told_and_has_no_pattern() -> None:
    text = PLATFORMS["gull"].texts["quay-r1"]
    more = "  a{b} 5\n  herald bell twice\n  mood 7\n  sequence-numbers x\n  rate 5\n  limit 6\n"
    odd = text.replace("  screen off\n", f"  screen off\n{more}")
    found = learn("x", [Sample("quay-r1.conf", odd.encode())], COLLECTORS)
    doubts = {row.template.front[0]: row.meaning.doubt for row in found.doubtful}
    # Of two that look alike, one says something else; which, nobody knows.
    assert doubts.keys() == {"a{b}", "herald", "mood", "sequence-numbers", "rate", "limit"}
    assert all(doubts.values()) and doubts["limit"] == "so does another statement look: rate"
    page = written(found)
    assert "#   logs mood 7   (quay-r1.conf:" in page and "{mood" not in page
    assert "#     perhaps numbering: its values fit\n" not in page
    assert "#     perhaps rate: its words tell of it, and its values fit\n" in page
    unparsed = read_records(read_dialect(page, "x"), odd.encode()).unparsed
    assert [unparsed_line.line for unparsed_line in unparsed] == [
        n for n, line in enumerate(odd.splitlines(), 1) if f"{line}\n" in more
    ]


def long_text(text: str, kind: str) -> str:
    """Return a text with some thousand routes, which concern nobody."""
    if kind == "json":
        routes = [{"name": f"r{n}", "via": "192.0.2.1", "cost": n} for n in range(20_000)]
        return json.dumps({**json.loads(text), "routes": routes}, indent=2)
    if kind == "xml":
        one = "<route><name>r{}</name>\n<via>192.0.2.1</via>\n<cost>1</cost>\n</route>\n"
        routes_of = "".join(one.format(n) for n in range(25_000))
        return text.replace("</station>", f"<routes>{routes_of}</routes></station>")
    return text + "".join(f"route {n}\n  via 192.0.2.9\n  cost {n}\n" for n in range(33_000))


@pytest.mark.deep
@pytest.mark.parametrize(
    ("text", "kind"),
    [
        (PLATFORMS["gull"].texts["quay-r1"], "blocks"),
        (MORE["dunlin"].texts["buoy-1"], "json"),
        (MORE["knot"].texts["pier-1"], "xml"),
    ],
)
def test_a_long_sample_takes_no_long_time(text: str, kind: str) -> None:
    long = long_text(text, kind)
    assert long.count("\n") > 99_000
    begun = time.process_time()
    learn("x", [Sample("r", long.encode())])
    taken = time.process_time() - begun
    begun = time.process_time()
    for _ in range(100):
        learn("x", [Sample("r", text.encode())])
    # 100,000 lines take less than as many in short samples do.
    assert taken < 10_000 / len(text.splitlines()) * (time.process_time() - begun)


def test_the_command_writes_what_can_be_used_at_once(ivrel: Run, tmp_path: Path) -> None:
    samples = tmp_path / "saved"
    samples.mkdir()
    for name, text in PLATFORMS["gull"].texts.items():
        (samples / f"{name}.conf").write_text(text)
    # The fleet names this platform, and another that nobody has learned yet.
    fleet = "  - {device: %s, kind: router, site: s, platform: %s, identity: 192.0.2.%d}\n"
    devices = fleet % ("quay-r1", "gull", 101) + fleet % ("x", "unheard", 7)
    (tmp_path / "fleet.yaml").write_text(f"fleet: f\ndevices:\n{devices}")
    (tmp_path / "answers.yaml").write_text(
        "about: harbour routers\nremove: unsay\ndefaults: {export: on, stamp.kind: none}\n"
    )
    done = ivrel(
        "dialect", "learn", "gull", samples, "--answers", "answers.yaml", cwd=tmp_path, code=0
    )
    assert "blocks: lines are moved in below others" in done.stdout
    assert "whether a severity is a threshold" in done.stdout and "which word" not in done.stdout
    ivrel("dialect", "check", "gull", cwd=tmp_path, code=0)
    cover = ivrel("dialect", "cover", "gull", *sorted(samples.iterdir()), cwd=tmp_path, code=0)
    assert "(100.0%)" in cover.stdout
    shown = ivrel("dialect", "show", "gull", cwd=tmp_path, code=0).stdout
    assert "harbour routers" in shown
    text = (tmp_path / "dialects" / "gull.yaml").read_text()
    assert "c0ffee" not in text and "harbour514" not in text
    # The same, with a change in the place of the answer.
    before = samples / "quay-r3.conf"
    (tmp_path / "after").write_text(before.read_text().replace("  sequence enabled\n", ""))
    (tmp_path / "typed").write_text("logs\n  unsay sequence enabled\n")
    second = ("dialect", "learn", "second", samples, "--change", before, "after", "typed")
    assert "which word" not in ivrel(*second, cwd=tmp_path, code=0).stdout
    assert 'change: {remove: "unsay"}' in (tmp_path / "dialects" / "second.yaml").read_text()
    again = ivrel("dialect", "learn", "gull", samples, cwd=tmp_path, code=2)
    assert "is already there; it is not written over" in again.stderr
    for words, told in (
        ([samples, "--shape", "tree"], "not XML"),
        ([samples, "--shape", "paths"], "no part of the samples looks like export"),
        ([tmp_path / "gone"], "gone: no such file"),
        ([samples, "--answers", "gone.yaml"], "gone.yaml: no such file"),
        ([tmp_path / "answers.yaml"], "no part of the samples looks like export"),
    ):
        bad = ivrel("dialect", "learn", "other", *words, cwd=tmp_path, code=2)
        assert told in bad.stderr and bad.stderr.count("\n") == 1
    assert not (tmp_path / "dialects" / "other.yaml").exists()


@pytest.mark.parametrize("platform", ["quern", "skarn", "marl", "hollin"])
def test_a_change_tells_how_statements_are_taken_away(
    workspace: WorkspaceFiles, platform: str
) -> None:
    """Changes that the shipped dialects write, with their words for removal."""
    devices, samples = of_platform(workspace, platform)
    shipped = SHIPPED[platform]
    changes = []
    for device, sample in zip(devices, samples, strict=True):
        # What the learned dialect does not know, it takes for something that stands beside all else.
        only = ("collectors", "stamp", "clock") if platform == "hollin" else ()
        done = correct(device, shipped, sample.data, workspace.policy, TODAY, "x", only)
        if done.change:
            changes.append(PastChange("typed", sample.data, done.corrected, done.change))
            changes.append(PastChange("back", done.corrected, sample.data, done.backout))
    found = from_changes(learned(workspace, samples), changes)
    assert found.remove == shipped.shape.remove and changes
    if platform == "hollin":
        assert found.inside == "alter"
    # What is known already is only held against the change.
    wrong = learned(workspace, samples, UserAnswers(remove="wipe"))
    with pytest.raises(InputError, match=r"typed and back.*the text before does not become"):
        from_changes(wrong, changes)


def test_a_change_that_takes_nothing_away_teaches_nothing(workspace: WorkspaceFiles) -> None:
    _, samples = of_platform(workspace, "quern")
    before = samples[0].data
    after = before.replace(b"facility local4", b"facility local5")
    change = PastChange("typed", before, after, "events\n    facility local5\n")
    assert before != after and from_changes(learned(workspace, samples), [change]) == UserAnswers()


def test_more_samples_propose_what_is_new_and_change_nothing(ivrel: Run, tmp_path: Path) -> None:
    texts = PLATFORMS["gull"].texts
    (tmp_path / "one.conf").write_text(texts["quay-r1"].replace("  screen off\n", ""))
    (tmp_path / "two.conf").write_text(texts["quay-r2"])
    ivrel("dialect", "learn", "gull", "one.conf", cwd=tmp_path, code=0)
    path = tmp_path / "dialects" / "gull.yaml"
    before = path.read_text()
    done = ivrel("dialect", "learn", "gull", "--more", "two.conf", cwd=tmp_path, code=0)
    assert "nothing that stood is changed" in done.stdout
    after = path.read_text()
    added = after.removeprefix(before.rstrip())
    assert after.startswith(before.rstrip()) and all(
        line.startswith("#") for line in added.split("\n") if line
    )
    assert '#     - {in: "logs", says: "screen {console}"}   # ' in added
    assert (
        "#     destination.level: {warning: warn}   # a word that engineers use for it (two.conf:"
        in added
    )
    # What was proposed is all that it lacked: in its place, everything is understood.
    whole = after.replace(
        "statements:\n", 'statements:\n  - {in: "logs", says: "screen {console}"}\n', 1
    )
    whole = whole.replace("{informational: info}", "{informational: info, warning: warn}")
    whole = whole.replace("spelling:\n", "spelling:\n  console: {none: off}\n", 1)
    path.write_text(whole)
    ivrel("dialect", "cover", "gull", "one.conf", "two.conf", cwd=tmp_path, code=0)
    done = ivrel("dialect", "learn", "gull", "--more", "two.conf", cwd=tmp_path, code=0)
    assert "nothing that gull does not know already" in done.stdout and path.read_text() == whole
    for words, told in (
        (["marl"], "'marl' is not a dialect of this workspace"),
        (["gull", "--shape", "blocks"], "--more keeps the dialect as it is"),
    ):
        assert (
            told
            in ivrel("dialect", "learn", *words, "--more", "two.conf", cwd=tmp_path, code=2).stderr
        )


def asked(folder: Path, answers: str, code: int = 0) -> str:
    """Run `learn --ask` on a terminal of its own, with these lines typed; return what it shows."""
    main, side = pty.openpty()
    program = str(Path(sys.executable).parent / "ivrel")
    words = [program, "dialect", "learn", "gull", "one.conf", "--ask"]
    process = subprocess.Popen(words, stdin=side, stdout=side, stderr=side, cwd=folder)
    os.close(side)
    os.write(main, answers.encode())
    shown = b""
    with contextlib.suppress(OSError):  # how a terminal ends
        while piece := os.read(main, 65536):
            shown += piece
    assert process.wait(60) == code and b"Traceback" not in shown, shown.decode()
    return shown.decode().replace("\r\n", "\n")


def test_doubts_become_questions(ivrel: Run, tmp_path: Path) -> None:
    text = PLATFORMS["gull"].texts["quay-r1"]
    more = "  ceiling 300\n  herald bell\n"
    (tmp_path / "one.conf").write_text(text.replace("  screen off\n", f"  screen off\n{more}"))
    # One of the choices that its values fit; then nothing that matters; then it is left.
    shown = asked(tmp_path, "rate\n9\nnothing\nq\n")
    assert "one.conf:22  logs ceiling 300\n  what does this say?\n    1  file.size: " in shown
    assert "'9' is not an answer to that" in shown and "which word takes a statement away?" in shown
    path = tmp_path / "dialects" / "gull.yaml"
    page = path.read_text()
    assert '- {in: "logs", says: "ceiling {rate}"}   # as the user says' in page
    assert 'aside:\n  - {in: "logs", starts: ["herald"]}' in page
    ivrel("dialect", "check", "gull", cwd=tmp_path, code=0)
    # It is taken up where it was left: what was answered is not asked again.
    shown = asked(tmp_path, "unsay\n\n2\nwrong\nq\n")
    assert "ceiling" not in shown and "which word" in shown
    page = path.read_text()
    assert (
        'change: {remove: "unsay"}' in page
        and "ceiling {rate}" in page
        and "export: off" not in page
    )
    # What somebody changed in between is not written over.
    path.write_text(page + "# mine\n")
    assert "was changed since it was asked about" in asked(tmp_path, "q\n", code=2)
    assert path.read_text().endswith("# mine\n")
    done = ivrel("dialect", "learn", "other", "one.conf", "--ask", cwd=tmp_path, code=2)
    assert "--ask asks on a terminal, and this is none" in done.stderr


PRINTABLE = st.text(min_size=1, max_size=9).filter(str.isprintable)


@tried(100)
@given(
    st.dictionaries(
        PRINTABLE,
        PRINTABLE,
        max_size=4,
    ),
    st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=9),
)
def test_answers_are_kept_as_they_were_given(means: dict[str, str], word: str) -> None:
    answers = UserAnswers(
        word, word, word, {"export": "on"}, {"server": "4"}, (word,), {word: (word, "x")}, means
    )
    assert read_answers(write_answers(answers), "x") == answers


ROWS_OF_TWO_NAMES = "\n".join(
    [
        "events",
        "  collector alpha",
        "    address 198.51.100.10",
        "    transport udp",
        *(
            f"  feed {feed}\n    collector alpha\n    category {category}\n      level {level}"
            for feed, category, level in [
                ("one", "zap", "warning"), ("one", "zip", "error"),
                ("two", "zap", "notice"), ("two", "zip", "info"),
            ]
        ),
    ]
)  # fmt: skip


@pytest.mark.parametrize(
    ("slots", "said"),
    [
        ("take.level", ""),
        ("pick.severity", "names in its rows: 2; in those of 'pick': 1"),
        ("destination.level", "names in its rows: 2; in those of 'destination': 1"),
        ("show.level", "names in its rows: 2; in those of 'show': 0"),
        ("level", "it is not clear what its rows are"),
        ("pick.severity take.level", "expected 1 slots, one for each value, not 2"),
    ],
)
def test_an_answer_fits_the_rows_it_is_about(
    ivrel: Run, tmp_path: Path, slots: str, said: str
) -> None:
    for name in ("a.conf", "b.conf"):
        (tmp_path / name).write_text(ROWS_OF_TWO_NAMES)
    words = "events feed * category * level"
    (tmp_path / "told.yaml").write_text(
        f'means: {{"{words}": "{slots}", "no such words": "level"}}'
    )
    call = ("dialect", "learn", "ours", "a.conf", "b.conf", "--answers", "told.yaml")
    done = ivrel(*call, cwd=tmp_path, code=2 if said else 0)
    if said:
        assert f"means: '{words}': {said}" in done.stderr
        assert not (tmp_path / "dialects").exists()
    else:
        assert (
            "not used   the answer to 'no such words': no statement has these words" in done.stdout
        )
        text = (tmp_path / "dialects" / "ours.yaml").read_text()
        assert 'in: "events / feed {take.feed} / category {take.category}"' in text
        assert "channels: [zap, zip]" in text
