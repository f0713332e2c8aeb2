"""What another policy would change: held against two audits and two corrections of their own."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from conftest import TODAY, Run

from ivrel.core.correcting import Corrector, correct, what_if
from ivrel.demo.workspace import policy_text
from ivrel.sources.workspace import WorkspaceFiles, policy_of

# Another policy, made by replacing a part of the example's.
OTHERS = {
    "a range": (
        "{from: warning, to: informational, write: informational}",
        "{from: error, to: notice}",
    ),
    "what to write": (", write: warning}", ", write: error}"),
    "a collector": ("address: 198.51.100.22, port: 601", "address: 198.51.100.29, port: 601"),
    "a rule less": ("      facility: local6\n", "      facility: any\n"),
    "a waiver that ran out": ("stamp, until: 2027-03-31", "stamp, until: 2026-03-31"),
    "a reason": ("firmware is due in the spring refit", "firmware is due"),
    "the rule's name alone": ("firewalls speak as local6", "firewalls use local6"),
}


@pytest.mark.deep
@pytest.mark.parametrize("name", OTHERS)
def test_what_differs_is_what_two_audits_and_corrections_say(
    name: str, workspace: WorkspaceFiles, tmp_path: Path
) -> None:
    old, new = OTHERS[name]
    assert old in policy_text()
    (tmp_path / "other.yaml").write_text(policy_text().replace(old, new))
    other = policy_of(tmp_path, "other.yaml")
    policies = workspace.policy, other
    correctors = Corrector(policies[0], TODAY), Corrector(policies[1], TODAY)
    changed = 0
    for device in workspace.fleet.devices:
        data, file = workspace.text(device)
        dialect = workspace.dialects[device.platform]
        found = what_if(device, dialect, data, correctors, file)
        now, then = (correct(device, dialect, data, p, TODAY, file) for p in policies)
        verdicts = [
            {v.setting: (v.verdict, v.wanted) for v in c.before.verdicts} for c in (now, then)
        ]
        # What a rule no longer asks has no verdict by the other policy.
        every = {**verdicts[0], **verdicts[1]}
        differing = {s for s in every if verdicts[0].get(s) != verdicts[1].get(s)}
        assert {s.setting for s in found.settings} == differing
        lines = [[(c.inside, c.line) for c in one.changes] for one in (now, then)]
        assert found.lines == tuple(map(len, lines))
        for mine, theirs, said in ((0, 1, found.dropped), (1, 0, found.added)):
            left = list(lines[mine])
            for at in lines[theirs]:
                if at in left:
                    left.remove(at)
            assert sorted((c.inside, c.line) for c in said) == sorted(left)
        changed += found.differs
    assert bool(changed) == (name not in ("a reason", "the rule's name alone"))


@pytest.mark.deep
def test_another_policy_is_compared_and_judged_by(
    example: Path, tmp_path: Path, ivrel: Run
) -> None:
    (tmp_path / "parts").mkdir()
    old, new = OTHERS["a range"]
    (tmp_path / "parts" / "all.yaml").write_text(policy_text().replace(old, new))
    other = tmp_path / "other.yaml"
    other.write_text("include: parts/all.yaml\npolicy: tighter\n")
    on = ("-w", example, "--today", TODAY.isoformat(), "--format", "json")
    compared = json.loads(ivrel("policy", "--compare", other, *on, code=1).stdout)
    audits = [
        json.loads(ivrel("audit", *on, *more, code=1).stdout) for more in ((), ("--policy", other))
    ]
    verdicts = [
        {(d["device"], v["setting"]): v["verdict"] for d in a["devices"] for v in d["verdicts"]}
        for a in audits
    ]
    told = {
        (d["device"], s["setting"]): (s["verdict"], s["would_be"])
        for d in compared["devices"]
        for s in d["settings"]
        if s["verdict"] != s["would_be"]
    }
    both = {at: (v, verdicts[1][at]) for at, v in verdicts[0].items()}
    assert told == {at: turn for at, turn in both.items() if turn[0] != turn[1]} != {}
    same = ivrel("policy", "--compare", example / "policy.yaml", "-w", example, code=0)
    assert "nothing would change on" in same.stdout
    table = ivrel("policy", "--compare", other, "-w", example, "--setting", "level", code=1).stdout
    assert "from warning to informational  from error to notice" in table
    told_next = " ".join(table.split())
    assert f"next ivrel correct -w {example} --policy {other} --setting level" in told_next


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("policy", "--compare", "gone.yaml"), "gone.yaml: no such file or directory"),
        (("audit", "--policy", "fleet.yaml"), "fleet.yaml:"),
        (("policy", "--site", "tarsk"), "give it with --compare OTHER"),
        (("policy", "tarsk-gw1", "tarsk-gw2"), "2 devices; expected one, or --compare OTHER"),
    ],
)
def test_a_call_that_is_wrong_is_told(
    words: tuple[str, ...], said: str, example: Path, ivrel: Run
) -> None:
    done = ivrel(*words, cwd=example, code=2)
    assert said in done.stderr and done.stderr.count("\n") <= 4
