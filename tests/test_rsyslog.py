"""rsyslog: what is computed from a configuration against what a real rsyslogd sends."""

import shutil
import subprocess
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from random import Random

import pytest
from conftest import TODAY, Run
from generated import BASES, device
from rsyslogd import COLLECTORS, arrivals, needs_rsyslogd, valid

from ivrel.core import correct
from ivrel.core.bundle import pack, parts
from ivrel.core.dialects.records import read_records
from ivrel.core.mistakes import Unreadable
from ivrel.core.policy import read_policy
from ivrel.core.settings import Scope, read_settings
from ivrel.core.settings.sending import sendings
from ivrel.sources.dialects import Dialects

A, B = COLLECTORS
RSYSLOG = Dialects()["rsyslog"]


def to(address: str, more: str = "") -> str:
    return f'action(type="omfwd" target="{address}" port="514"{more})'


# Rules in both styles, with all that decides what leaves.
KNOWN = (
    f"*.info;mail.none;authpriv.none @{A}:514\n*.=debug;kern.!=debug @{B}:514",
    f"mail,news.*;user.err;kern.!warning @{A}:514\n& @{B}:514\n& stop\n*.err @{A}:514",
    f"*.*;*.!err;kern.alert @{A}:514\n*.none;mail.!none @{B}:514",
    f"*.err;auth.!=crit ~\n*.notice @{A}:514\n*.6;security.none @{B}:514",
    f"if not $syslogseverity > 4 then {to(A)}\nif not ($syslogseverity > 4) then {to(B)}",
    f"if $syslogfacility >= 16 or $syslogseverity < 1 and $syslogfacility == 3 then {to(A)}\n"
    f"if $syslogfacility >= 16 or ($syslogseverity < 1 and $syslogfacility == 3) then {to(B)}",
    f'if $syslogfacility-text == ["mail", "news"] then {{\n {to(A)}\n stop\n}} else {to(B)}\n{to(B)}',
    f'if $syslogseverity-text == "error" or $syslogfacility-text == "audit" then @{A}:514\n& stop\n*.* @{B}:514',
    f"if prifilt(\"160.info;*.emerg\") then {to(A)}\nif $pri-text == 'kern.err' or $pri < 3 then {to(B)}",
    f':syslogseverity-text, isequal, "err" @{A}:514\n:syslogfacility-text, !startswith, "local" stop\n*.* @{B}:514',
    f"if $syslogseverity+1 <= 3 then {{\n *.crit;kern.none {to(A)}\n}}\n*.=warning {{ {to(B)} stop }}\n*.warn {to(A)}",
    f"*.err continue\n& @{A}:514\n# *.* @{A}:514\n*.alert;\\\n  local7.* @{B}:514 # as agreed",
    f'set $!x = "1";\nif $syslogseverity <= "3" then {to(A)}\nif $syslogseverity <> 3 then {to(B)}',
    f"*.=info /var/log/all\n& stop\n*.=notice;*.=info {to(A)}\nif 1 then {to(B)}",
)

SPARE = ' action.execOnlyWhenPreviousIsSuspended="on"'

# What hangs on more than facility and severity: bounds, and the daemon stays within them.
DOUBTFUL = (
    f':msg, contains, "p1" ~\n*.err @{A}:514',
    f'if $msg contains "p1" and $syslogseverity < 4 then {to(A)}\n*.* @{B}:514',
    f'ruleset(name="r") {{\n {to(A)}\n *.=crit stop\n}}\n*.err call r\n*.warning @{B}:514',
    f"*.=err {to(A, SPARE)}\n*.* @{B}:514",
    f'if re_match($msg, "p[0-4]") then stop\n*.* @{A}:514',
)

SPREAD = {
    "rsyslog.conf": f"$IncludeConfig /etc/rsyslog.d/*.conf\n*.warning @{A}:514\n",
    "rsyslog.d/10-mail.conf": 'include(file="/etc/rsyslog.d/more/x.inc")\nmail.* stop\n',
    "rsyslog.d/20-b.conf": f"*.notice @{B}:514\n",
    "rsyslog.d/more/x.inc": f"mail.=err @{B}:514\n",
}


def bounds(files: dict[str, str]) -> dict[str, tuple[set[int], set[int]]]:
    """What is computed to leave for each collector: surely, and at most."""
    data = pack({n: t.encode() for n, t in files.items()}) if len(files) > 1 else files["rsyslog.conf"].encode()
    records = read_records(RSYSLOG, data)
    scope = Scope(None, records, {})
    doubtful = {s.text.startswith("select") for s in records.strays}
    out = {}
    for d in scope.destinations:
        most = sendings(scope, d)[""].bits
        whole = {pri for pri in range(192) if most >> pri & 1}
        out[str(d.endpoint[0])] = (
            set() if True in doubtful and d.row.get("destination.selection") is None else whole,
            whole,
        )
    return out


def files_of(data: bytes) -> dict[str, str]:
    return {part.name or "rsyslog.conf": part.data.decode() for part in parts(data)}


def holds(files: dict[str, str]) -> str:
    said, (got, _) = bounds(files), arrivals(files, "rsyslog.conf")
    for address in COLLECTORS:
        sure, most = said.get(address, (set(), set()))
        if not sure <= got[address] <= most:
            return f"{files}: {address} lost {sorted(sure - got[address])}, more {sorted(got[address] - most)}"
    return ""


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
        return ";".join(f"{dice.choice(facilities)}.{dice.choice(words)}" for _ in range(dice.randint(1, 4)))

    def condition(deep: int) -> str:
        if deep == 0 or dice.random() < 0.3:
            if dice.random() < 0.3:
                return f'prifilt("{selector()}")'
            return dice.choice(terms).format(dice.choice(("==", "!=", "<", ">", "<=", ">=")), dice.randint(0, 23))
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


@needs_rsyslogd
@pytest.mark.parametrize("kind", ["known", "doubtful", "spread", "generated"])
def test_what_a_real_rsyslogd_sends_is_what_was_computed(kind: str) -> None:
    cases = {
        "known": [{"rsyslog.conf": text + "\n"} for text in KNOWN],
        "doubtful": [{"rsyslog.conf": text + "\n"} for text in DOUBTFUL],
        "spread": [SPREAD],
        "generated": [{"rsyslog.conf": generated(seed)} for seed in range(24)],
    }[kind]
    with ThreadPoolExecutor(6) as pool:
        assert [told for told in pool.map(holds, cases) if told] == []
    if kind != "doubtful":
        for files in cases:
            text = (
                pack({n: t.encode() for n, t in files.items()}) if len(files) > 1 else files["rsyslog.conf"].encode()
            )
            assert read_records(RSYSLOG, text).strays == ()


POLICY = read_policy(
    f"policy: p\ncollectors:\n  a: {{address: {A}, format: rfc5424}}\n  b: {{address: {B}, format: rfc3164}}\n"
    "rules:\n  - rule: r\n    require:\n      collectors: {exactly: [a, b]}\n      level: {from: error, to: notice}\n"
    "      format: expected\n      stamp: {kind: calendar, zone: shown}\n",
    "policy.yaml",
)


def whole_and_sent(data: bytes) -> str:
    """Whether the daemon takes a corrected text, and sends what the policy asks for; '' if so."""
    done = correct(device(RSYSLOG), RSYSLOG, data, POLICY, TODAY, "x1")
    files = files_of(done.corrected)
    with tempfile.TemporaryDirectory() as name:
        for file, text in files.items():
            (Path(name) / file).parent.mkdir(exist_ok=True)
            (Path(name) / file).write_text(text.replace("/etc/", f"{name}/").replace("/var/log/", f"{name}/"))
        told = valid(Path(name) / "rsyslog.conf")
        if told or not done.proved:
            return f"{told}{done.proof}{files}"
        # The change is a diff that others' tools read, and the back-out brings every byte back.
        for old, change, new in ((data, done.change, done.corrected), (done.corrected, done.backout, data)):
            tree = Path(name) / "tree"
            shutil.rmtree(tree, ignore_errors=True)
            for file, text in files_of(old).items():
                (tree / file).parent.mkdir(parents=True, exist_ok=True)
                (tree / file).write_text(text)
            call = ["patch", "-p0", "-s", "-d", str(tree), *(["rsyslog.conf"] if b"\x1c" not in data else [])]
            subprocess.run(call, input=change, text=True, check=True, capture_output=True)
            now = {p.relative_to(tree).as_posix(): p.read_text() for p in tree.rglob("*") if p.is_file()}
            assert now == files_of(new)
    got, starts = arrivals(files, "rsyslog.conf")
    wanted = {pri for pri in range(192) if pri % 8 <= 3}, {pri for pri in range(192) if pri % 8 <= 5}
    wrong = [a for a in COLLECTORS if not wanted[0] <= got[a] <= wanted[1]]
    formed = starts[A] == {"1"} and all(stamp.startswith("2026-") for stamp in starts[B])
    return "" if formed and not wrong else f"{wrong} {starts} {files}"


@needs_rsyslogd
def test_corrected_configurations_are_taken_and_do_what_was_asked() -> None:
    own = [BASES["rsyslog"], BASES["rsyslog.folder"], *(f"{text}\n" for text in KNOWN[:8])]
    cases = [*(text.encode() for text in own), *(generated(seed).encode() for seed in range(50, 60))]
    cases.append(pack({name: text.encode() for name, text in SPREAD.items()}))
    with ThreadPoolExecutor(6) as pool:
        assert [told for told in pool.map(whole_and_sent, cases) if told] == []


DEEP = "if $syslogseverity < 5 then {\n" * 400 + f"@{A}:514\n" + "}\n" * 400
STRANGE = [
    (
        {"rsyslog.conf": "$IncludeConfig /etc/a.conf\n*.* /x\n", "a.conf": 'include(file="/etc/rsyslog.conf")\n'},
        "includes itself",
    ),
    ({"rsyslog.conf": f'include(file="/etc/gone.conf")\n*.* @{A}:514\n', "a.conf": ""}, "no such file"),
    ({"rsyslog.conf": f"$IncludeConfig /etc/rsyslog.d/*.conf\n*.* @{A}:514\n"}, "its folder is not here"),
    ({"rsyslog.conf": f"*.* @{A}:514\n*.loud @{B}:514\n"}, "select depends on *.loud"),
    ({"rsyslog.conf": f"*.* @{A}:514;odd\n"}, "form depends on template odd"),
    ({"rsyslog.conf": f"*.* @{A}:514\nfor all my friends\n"}, "for all my friends"),
    ({"rsyslog.conf": f"*.* @{A}:514\n{DEEP}"}, "if $syslogseverity < 5 then {"),
    ({"rsyslog.conf": f"if {'(' * 5000}1{')' * 5000} then @{A}:514\n*.* /x\n"}, "if (((("),
    ({"rsyslog.conf": f"*.info @{A}:514\nif $syslogseverity == {'9' * 9000} then @{B}:514\n*.* /x\n"}, None),
    ({"rsyslog.conf": "$DefaultRuleset other\n*.* @" + A + "\n"}, "$DefaultRuleset other"),
]


@pytest.mark.parametrize(("files", "told"), STRANGE, ids=[str(told) for _, told in STRANGE])
def test_what_cannot_be_worked_out_is_told_not_guessed(files: dict[str, str], told: str | None) -> None:
    whole = {n: t.encode() for n, t in files.items()}
    read = read_records(RSYSLOG, pack(whole) if len(files) > 1 else whole["rsyslog.conf"])
    strays = [s for s in read.strays if told and told in s.text]
    assert bool(strays) == bool(told), read.strays
    assert all(set(s.bears_on) & {"level", "stamp"} for s in strays)


def test_a_change_that_does_not_fit_is_refused(ivrel: Run, tmp_path: Path) -> None:
    (tmp_path / "gw").mkdir()
    (tmp_path / "gw" / "rsyslog.conf").write_text("*.* @198.51.100.21\n")
    good = "--- rsyslog.conf\n+++ rsyslog.conf\n@@ -1 +1 @@\n-*.* @198.51.100.21\n+*.* @198.51.100.22\n"
    for change, expected in (
        ("*.info @198.51.100.21\n", ":1:1: expected a unified diff: '---', '+++' and '@@' lines\n"),
        (good.replace("-*.*", "-*.=err"), ":3:1: the lines to change are not in rsyslog.conf\n"),
        (good.replace("rsyslog.conf", "gone.conf"), ":3:1: there is no file gone.conf\n"),
        (good.rsplit("\n", 2)[0] + "\n", ":5:1: the hunk is shorter than it says\n"),
    ):
        (tmp_path / "c.txt").write_text(change)
        done = ivrel(
            "dialect", "apply", "rsyslog", tmp_path / "gw", tmp_path / "c.txt", "-o", tmp_path / "new", code=2
        )
        assert done.stderr == f"ivrel: {tmp_path / 'c.txt'}{expected}" and not (tmp_path / "new").exists()
    (tmp_path / "c.txt").write_text(good)
    ivrel("dialect", "apply", "rsyslog", tmp_path / "gw", tmp_path / "c.txt", code=2)
    ivrel("dialect", "apply", "rsyslog", tmp_path / "gw", tmp_path / "c.txt", "-o", tmp_path / "new", code=0)
    assert (tmp_path / "new" / "rsyslog.conf").read_text() == "*.* @198.51.100.22\n"
    # What a change takes away goes; whatever else lies in the folder stays.
    (tmp_path / "new" / "letter.txt").write_text("keep me")
    (tmp_path / "gw" / "rsyslog.d").mkdir()
    for folder in ("gw", "new"):
        (tmp_path / folder / "rsyslog.d").mkdir(exist_ok=True)
        (tmp_path / folder / "rsyslog.d" / "x.conf").write_text("*.* /x\n")
    (tmp_path / "c.txt").write_text("--- rsyslog.d/x.conf\n+++ /dev/null\n@@ -1 +0,0 @@\n-*.* /x\n")
    ivrel("dialect", "apply", "rsyslog", tmp_path / "gw", tmp_path / "c.txt", "-o", tmp_path / "new", code=0)
    left = sorted(p.relative_to(tmp_path / "new").as_posix() for p in (tmp_path / "new").rglob("*") if p.is_file())
    assert left == ["letter.txt", "rsyslog.conf"]


@pytest.mark.parametrize(
    ("rules", "said"),
    [
        ("*.emerg :omusrmsg:*\n*.* /x\n", {"sessions": "emergency", "file level": "debug"}),
        ("mail.* ~\n*.crit :omusrmsg:*\n", {"sessions": "critical"}),
        (
            "kern.err;*.alert /dev/console\n*.info;mail.none /x\nmail.warning /y\n",
            {"console": "error", "file level": "warning"},
        ),
        ("*.info;mail.none /x\n", {"file level": "none"}),
        ('*.=err /x\nif $msg contains "x" then :omusrmsg:root\n', {"file level": "none", "sessions": "debug"}),
        (
            'module(load="imuxsock" SysSock.RateLimit.Interval="5" SysSock.RateLimit.Burst="100")\n*.* /x\n',
            {"rate": "20"},
        ),
        (
            "$SystemLogRateLimitInterval 0\n$SystemLogRateLimitBurst 100\n$LocalHostName gw\n*.* /x\n",
            {"rate": "none"},
        ),
    ],
)
def test_what_stays_on_the_device_is_never_told_to_be_less_than_it_may_be(rules: str, said: dict[str, str]) -> None:
    facts = read_settings(Scope(None, read_records(RSYSLOG, rules.encode()), {}))
    found = {f"{f.setting} {f.key}".strip(): f.value for f in facts}
    assert said.items() <= found.items()


def test_a_folder_needs_its_main_file() -> None:
    with pytest.raises(Unreadable, match=r"no rsyslog.conf among its files"):
        read_records(RSYSLOG, pack({"rsyslog.d/a.conf": b"*.* @198.51.100.21\n"}))
