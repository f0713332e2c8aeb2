"""rsyslog: what is computed from a configuration against what a real rsyslogd sends."""

import os
import re
import shutil
from pathlib import Path

import pytest
from conftest import Run, tried
from generated import BASES
from hypothesis import given
from hypothesis import strategies as st
from rsyslog_cases import (
    MAIN,
    RSYSLOG,
    Case,
    OtherVersion,
    cases,
    compared,
    other_versions,
    selections,
)
from rsyslog_corrections import corrected, failing, files_of
from rsyslog_texts import COLLECTORS, generated
from rsyslogd import Seen, observe, observe_calmly, possible

from ivrel.core.correcting.changes import apply_change
from ivrel.core.reading.records import read_records
from ivrel.core.settings import Scope, read_settings
from ivrel.core.settings.relevance import bearing
from ivrel.core.shapes.rsyslog.flow.whole import read_model
from ivrel.core.shapes.rsyslog.syntax.scanner import Scanner
from ivrel.core.shapes.rsyslog.syntax.script import read_script
from ivrel.core.shapes.rsyslog.syntax.source import read_source
from ivrel.core.text.bundle import pack
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.software import Software, version_text

A, B = COLLECTORS
CASES = list(cases())
_MUST = bool(
    os.environ.get("IVREL_SKIP_NOTHING")
)  # where these tests have to run, what is missing fails
needs_rsyslogd = pytest.mark.skipif(
    not _MUST and not (possible() and shutil.which("patch")),
    reason="no rsyslogd, no patch, or neither namespaces nor root here (apt-get install rsyslog patch)",
)


@pytest.mark.parametrize("case", CASES, ids=[f"{c.topic}: {c.why}" for c in CASES])
def test_cases_are_read_as_the_daemon_carried_them_out(case: Case) -> None:
    if (
        case.enter
    ):  # what comes in by another input: where that goes is no destination of the host's own
        assert {str(end[0]) for end in case.sends}.isdisjoint(facts(case.data, "collectors"))
        return
    assert compared(case.data, case.sends, starts=case.starts)[0] == case.read


@pytest.mark.parametrize(
    "other", list(other_versions()), ids=lambda o: version_text(o.software.versions[0])
)
def test_what_versions_do_differently_is_read_so_or_left_open(other: OtherVersion) -> None:
    """Of a device that tells its version, and of one that does not."""
    wrong = []
    for case in (case for case in CASES if not case.enter):
        sends, starts = other.does(case)
        for software in (other.software, Software(packages=other.software.packages)):
            how, why = compared(case.data, sends, starts=starts, software=software)
            wrong += [(case.topic, case.why, why)] if how == "wrong" else []
    assert len(other.sends) > 10 and wrong == []


@pytest.mark.deep
@needs_rsyslogd
def test_the_daemon_carries_cases_out_as_recorded() -> None:
    found = observe_calmly(
        [case.order for case in CASES], lambda n, s: selections(s) == CASES[n].sends
    )
    seen = [(c, s) for c, s in zip(CASES, found, strict=True) if s is not None]
    assert len(seen) > len(CASES) // 2
    assert [(c.topic, c.why, s) for c, s in seen if selections(s) != c.sends] == []
    assert [c.why for c, s in seen if s.starts != c.starts] == []


@pytest.mark.deep
@needs_rsyslogd
def test_what_a_real_rsyslogd_sends_is_what_was_computed() -> None:
    texts = [generated(seed) for seed in range(24)]
    orders = [{"files": {MAIN: text}} for text in texts]
    seen = observe_calmly(
        orders, lambda n, s: compared(texts[n].encode(), selections(s))[0] == "certain"
    )
    for text, now in zip(texts, seen, strict=True):
        assert now is not None and compared(text.encode(), selections(now)) == ("certain", ""), text


def facts(data: bytes, setting: str) -> dict[str, str]:
    """What a configuration says of a setting, by destination or part."""
    found = read_settings(Scope(None, read_records(RSYSLOG, data), {}))
    return {f.key: f.value for f in found if f.setting == setting}


# Corrections.

# Receivers do not unpack what is compressed, and cannot tell what is in it.
PACKED = re.compile(r"compression\.mode|ziplevel|@\([^)]*z", re.I)
WORTH = [
    c
    for c in CASES
    if c.read != "unknown"
    and not (c.enter or PACKED.search(c.files[MAIN]))
    and c.topic not in ("tls", "limits", "refused")
]


@pytest.mark.deep
@needs_rsyslogd
def test_corrected_configurations_are_taken_and_do_what_was_asked() -> None:
    texts: list[dict[str, str]] = [dict(case.files) for case in WORTH[:: 2 if _MUST else 6]]
    texts += [{MAIN: BASES["rsyslog"]}, files_of(BASES["rsyslog.folder"].encode())]
    texts += [{MAIN: generated(seed)} for seed in range(50, 70)]
    done = [(files, corrected(files[MAIN] if len(files) == 1 else files)) for files in texts]
    done = [(files, c) for files, c in done if c.changes]
    assert len(done) > len(texts) * 3 // 4
    # What is not proved is said so, and is not written as if it were.
    proved = [(files, c) for files, c in done if c.proved]
    assert len(done) - len(proved) <= len(done) // 50
    done = proved
    befores = observe([{"files": files} for files, _ in done])

    def good(n: int, after: Seen) -> bool:
        before = befores[n]
        return before is None or not failing(*done[n], before, after)

    afters = observe_calmly([{"files": files_of(c.corrected)} for _, c in done], good)
    # What is left open is told; of most, all is as asked.
    assert (
        sum(all(v.verdict == "meets" for v in c.after.verdicts) for _, c in done)
        > len(done) * 3 // 4
    )
    watched = [
        (*one, old, new) for one, old, new in zip(done, befores, afters, strict=True) if old and new
    ]
    assert len(watched) > len(done) // 2
    told = [why for files, c, old, new in watched if (why := failing(files, c, old, new))]
    assert told == []


WITH_QUEUE = "$ActionQueueType LinkedList # waits\n$ActionResumeRetryCount -1\n*.info @@198.51.100.22:10514 # b\n"
KEEPS = [
    # Where an action stands, it is changed; what the policy does not speak of stays.
    (WITH_QUEUE, "{collectors: [b]}", ["*.info @@198.51.100.22:601 # b", "$ActionQueueType LinkedList # waits"], ["continue"]),
    (
        '*.info action(type="omfwd" target="203.0.113.9" port="601" protocol="tcp"\n  queue.type="LinkedList"\n  action.resumeRetryCount="-1" ratelimit.interval="5")\n',
        "{collectors: {exactly: [b]}}",
        ['target="198.51.100.22"', 'queue.type="LinkedList"', 'action.resumeRetryCount="-1"', 'ratelimit.interval="5"'],
        [],
    ),
    ('template(name="own" type="string" string="<%PRI%>%msg%")\n*.info @203.0.113.9:514;own\n', "{collectors: {exactly: [a]}}", ["*.info @198.51.100.21:514;own"], []),
    # Nothing is left within a condition, and no block is left empty.
    ("if $syslogseverity < 3\n   or $syslogfacility == 2 then @203.0.113.9:514\n", "{collectors: {exactly: [a]}}", ["#off# if $syslogseverity < 3\n#off#    or"], ["\n#off#    or $syslogfacility == 2 then @203.0.113.9:514\n   or"]),
    ("*.err {\n  @203.0.113.9:514\n  /var/log/x\n}\n*.* @198.51.100.21\n", "{collectors: {exactly: [a]}}", ["#off#   @203.0.113.9:514\n  /var/log/x"], ["continue"]),
    ("if 1 then {\n  @203.0.113.9:514\n} else {\n  /var/log/x\n}\n*.* @198.51.100.21\n", "{collectors: {exactly: [a]}}", ["\n  continue\n} else {"], []),
    ("mail.* /var/log/m\n& @203.0.113.9:514\n& stop\n*.* @198.51.100.21\n", "{collectors: {exactly: [a]}}", ["& continue\n& stop"], []),
    ("*.* @203.0.113.9:514 # the \\\n old one\n*.* @198.51.100.21\n", "{collectors: {exactly: [a]}}", ["#off#  old one"], []),
    # What is new comes behind rules that drop messages for their text, and before all others.
    (':msg, contains, "noise" stop\n*.* /var/log/all\n', "{collectors: [a]}", [':msg, contains, "noise" stop\n# export settings: begin'], []),
    ("mail.* stop\n*.* /var/log/all\n", "{collectors: [a], level: {from: notice}}", ["# export settings: end\nmail.* stop"], []),
    ("$RuleSet rr\nlocal0.* /var/log/x\n$DefaultRuleset rr\n", "{collectors: [a], level: {from: error}}", [], []),
    ("*.err {\n  $ActionQueueType LinkedList\n  @203.0.113.9:514\n}\nmail.* {\n  /var/log/m\n}\n", "{collectors: {exactly: [a]}, level: {from: notice}}", ["#off# }\nmail.* {\n  /var/log/m\n}"], []),
    ("*.* /var/log/all", "{collectors: [a]}", ["# export settings: end\n*.* /var/log/all"], ["all\n"]),
    ('module(load="builtin:omfwd" template="RSYSLOG_ForwardFormat")\n*.* /x\n', "{collectors: [b], format: rfc3164}", ['template="RSYSLOG_TraditionalForwardFormat"'], []),
]  # fmt: skip


@pytest.mark.parametrize(("text", "require", "holds", "lacks"), KEEPS)
def test_corrections_keep_what_they_are_not_about(
    text: str, require: str, holds: list[str], lacks: list[str]
) -> None:
    done = corrected(text, require)
    now = files_of(done.corrected)[MAIN]
    assert done.proved, done.proof
    assert [part for part in holds if part not in now] == [] and [
        part for part in lacks if part in now
    ] == [], now
    assert apply_change(RSYSLOG, done.corrected, done.backout, "backout") == text.encode()


@pytest.mark.parametrize(
    ("text", "is_lost"),
    [
        ('*.err @203.0.113.9\nif $programname == "sshd" then @198.51.100.21\n', "through error left before"),
        ('mail.err @203.0.113.9\nif $programname == "sshd" then @198.51.100.21\n', "mail: through error left before"),
        ("*.err @203.0.113.9\n", ""),
        ("*.info @203.0.113.9\n*.err @198.51.100.21\n", ""),
        ('*.err @198.51.100.21\nif $programname == "sshd" then @203.0.113.9\n', ""),
    ],
)  # fmt: skip
def test_what_is_asked_to_leave_is_not_lost_with_a_stranger(text: str, is_lost: str) -> None:
    done = corrected(text, "{collectors: {exactly: [a]}, level: {from: error}}")
    kept = next(p for p in done.proof if p.name == "nothing lost")
    assert (kept.holds, done.proved) == (not is_lost, not is_lost), done.proof
    assert is_lost in kept.why


FOLDER = {MAIN: "$IncludeConfig /etc/rsyslog.d/*.conf\n*.* /var/log/all", "rsyslog.d/05-noise.conf": ':msg, contains, "noise" stop\n', "rsyslog.d/50-x.conf": "*.err @203.0.113.9:514"}  # fmt: skip
ELSEWHERE = {
    MAIN: "$IncludeConfig /opt/more/*.conf\n*.* /var/log/all\n",
    "opt/more/x.conf": "mail.* /var/log/m\n",
}


def test_new_actions_get_a_file_of_their_own_where_the_text_includes_one() -> None:
    done = corrected(FOLDER, "{collectors: {exactly: [a, b]}}")
    now = files_of(done.corrected)
    assert (
        done.proved and f"{A}" in now["rsyslog.d/05-noise.export.conf"] + now["rsyslog.d/50-x.conf"]
    )
    assert apply_change(RSYSLOG, done.corrected, done.backout, "b") == pack(
        {n: t.encode() for n, t in FOLDER.items()}
    )
    # Nobody else's file is written over, whatever it is called.
    named = {
        **FOLDER,
        "rsyslog.d/00-export.conf": "local7.* /var/log/other\n",
        "rsyslog.d/05-noise.export.conf": "*.* /x\n",
    }
    done = corrected(named, "{collectors: {exactly: [a, b]}}")
    assert done.proved and {n: files_of(done.corrected)[n] for n in list(named)[3:]} == dict(
        list(named.items())[3:]
    )
    # Never outside of the folder of the configuration.
    assert set(files_of(corrected(ELSEWHERE, "{collectors: [a]}").corrected)) == set(ELSEWHERE)


TLS = "  t: {address: 198.51.100.23, port: 6514, transport: tls%s}\n"
CA = 'global(defaultNetstreamDriverCAFile="/etc/ssl/ca.pem")\n'


def test_tls_needs_trusted_certificates_and_a_name() -> None:
    ask = "{collectors: [t], trust: {verify: on}}"
    for text, certificate, missing in (
        (
            "*.* @203.0.113.9:514\n",
            ", certificate: log.example",
            "a file of the certificates that are trusted",
        ),
        (f"{CA}*.* @203.0.113.9:514\n", "", "say `certificate: NAME` in the policy"),
    ):
        done = corrected(text, ask, TLS % certificate)
        assert not done.changes and any(missing in r.why for r in done.remains)
    done = corrected(f"{CA}*.* @203.0.113.9:514\n", ask, TLS % ", names: log.example")
    assert done.proved and 'streamdriverpermittedpeers="log.example"' in done.change
    # A certificate of somebody else, and a clear mistake in what is there.
    other = f'{CA}*.* action(type="omfwd" target="198.51.100.23" port="6514" protocol="tcp" streamDriver="gtls" streamDriverMode="1" streamDriverAuthMode="x509/name" streamDriverPermittedPeers="log.test")\n'  # fmt: skip
    done = corrected(other, ask, TLS % ", certificate: log.example")
    assert (
        "expects a certificate of log.test, not of log.example" in done.before.verdicts[-1].why
        and done.proved
    )
    bare = other.replace(' streamDriverPermittedPeers="log.test"', ' action.resumeRetryCount="9"')
    done = corrected(bare, ask, TLS % ", certificate: log.example")
    why = done.before.verdicts[0].why
    assert (
        "no permitted peer is named, so that nobody is" in why
        and done.proved
        and 'RetryCount="9"' in done.change
    )


JUDGED = [
    (":msg, contains, \"x\" stop\n*.notice @198.51.100.21\n", "{level: {to: notice}}", "meets", [1, 2]),
    (":msg, contains, \"x\" stop\n*.notice @198.51.100.21\n", "{level: {from: error}}", "unknown", [1, 2]),
    (":msg, contains, \"x\" stop\n*.err @198.51.100.21\n", "{level: {from: notice}}", "breaks", [1, 2]),
    ("if $msg contains 'x' and $syslogseverity < 4 then @198.51.100.21\n*.debug @198.51.100.21\n", "{level: {to: notice}}", "breaks", [2]),
    ("*.err @198.51.100.21;gone\n", "{collectors: [a]}", "breaks", [1]),
    ("*.err @198.51.100.21 # a\n", "{collectors: [a]}", "breaks", [1]),
    ("*.err @198.51.100.21\n*.err {\n}\n", "{collectors: [a]}", "unknown", [3]),
    ('module(load="omrelp")\n*.err action(type="omrelp" target="198.51.100.21")\n', "{collectors: [a]}", "unable", [2]),
    ('module(load="omrelp")\n*.err action(type="omrelp" target="203.0.113.9")\n*.notice @198.51.100.21\n', "{level: {to: notice}}", "meets", [2, 3]),
    ('ruleset(name="in") {\n  @203.0.113.9\n}\ninput(type="imudp" port="514" ruleset="in")\n*.err @198.51.100.21\n', "{collectors: {exactly: [a]}}", "meets", [5]),
    ("$SystemLogRateLimitInterval 10\n*.err @198.51.100.21\n", "{rate: {at-least: 20}}", "meets", [1]),
    ('module(load="imuxsock")\n*.err action(type="omfwd" target="198.51.100.21" ratelimit.interval="10")\n*.err action(type="omfwd" target="198.51.100.22" ratelimit.interval="1" ratelimit.burst="30")\n', "{rate: {at-least: 20}}", "meets", [2]),
    ("*.err\t@198.51.100.21:514\t# \\\r\n goes on\r\nif $syslogseverity < 3 \\\r\n  and 1 then stop\r\n", "{level: {from: error, to: error}}", "meets", [1]),
    ('module(load="imjournal")\n*.err @198.51.100.21\n', "{rate: {at-least: 50}}", "unable", [1]),
    ('*.err action(type="omfwd" target="198.51.100.21" queue.type="Direct" queue.size="500")\n', "{delivery: {queue: {at-least: 1}}}", "unable", []),
    ('*.err action(type="omfwd" target="198.51.100.21" queue.type="LinkedList" queue.size="2k")\n', "{delivery: {queue: {at-least: 2048}}}", "meets", [1]),
]  # fmt: skip


@pytest.mark.parametrize(("text", "require", "verdict", "lines"), JUDGED)
def test_verdicts_are_no_surer_than_what_the_text_says(
    text: str, require: str, verdict: str, lines: list[int]
) -> None:
    done = corrected(text, require)
    assert [(v.verdict, [p.line for p in v.where]) for v in done.before.verdicts] == [
        (verdict, lines)
    ], done.before
    # A second run has nothing to add, and what cannot be known is not touched.
    assert verdict != "unknown" or not done.changes
    assert not done.changes or done.proved or verdict == "breaks"


DEEP = "if $syslogseverity < 5 then {\n" * 400 + f"@{A}:514\n" + "}\n" * 400
STRANGE = [
    ({MAIN: "$IncludeConfig /etc/a.conf\n*.* /x\n", "a.conf": 'include(file="/etc/rsyslog.conf")\n'}, "includes itself"),
    ({MAIN: f'include(file="/etc/gone.conf")\n*.* @{A}:514\n', "a.conf": ""}, "no such file"),
    ({MAIN: f"$IncludeConfig /etc/rsyslog.d/*.conf\n*.* @{A}:514\n"}, "its folder is not here"),
    ({MAIN: f"*.* @{A}:514\nif $x == y then stop\n"}, "rsyslogd takes nothing from this line on"),
    ({MAIN: f"*.* @{A}:514\n{DEEP}"}, "nested deeper than 100"),
    ({MAIN: f"*.* @{A}:514\nif {'(' * 5000}1{')' * 5000} then @{A}:514\n*.* /x\n"}, "nested deeper than 100"),
    ({MAIN: f"*.info @{A}:514\nif $syslogseverity == {'9' * 9000} then @{B}:514\n*.* /x\n"}, None),
    ({MAIN: f"*.* @{A}:514\n*.* action(type=`echo $X`)\n"}, "action(type=`echo $X`)"),
    ({MAIN: f"*.* @{A}:514\ncall_indirect $msg;\n"}, None),
]  # fmt: skip


@pytest.mark.parametrize(("files", "told"), STRANGE, ids=[str(told) for _, told in STRANGE])
def test_what_cannot_be_worked_out_is_told_not_guessed(
    files: dict[str, str], told: str | None
) -> None:
    whole = {n: t.encode() for n, t in files.items()}
    read = read_records(RSYSLOG, pack(whole) if len(files) > 1 else whole[MAIN])
    unparsed = [s for s in read.unparsed if told and told in s.text]
    assert bool(unparsed) == bool(told), read.unparsed
    assert all(set(bearing(RSYSLOG, s.strange)) & {"level", "stamp"} for s in unparsed)


PIECES = st.sampled_from((
    "*.err ", "@198.51.100.21:514\n", "if $syslogseverity < 4 ", "then ", "{\n", "}\n", "else ", "action(", 'type="omfwd" ',
    'target="198.51.100.22"', ")\n", '"', "'", "`", "\\\n", "# x\n", "/*", "*/", "& ", "stop\n", "$IncludeConfig /etc/x\n",
    "template(", "ruleset(", 'name="r"', "call rr\n", "set $.x = ", "3;\n", "not ", "(", "[", "]", ":msg, contains, ", "\n",
    "foreach ", "$RuleSet rr\n", ",", "~\n", "\t", "é", "\udc80",
))  # fmt: skip


@given(pieces=st.lists(PIECES, max_size=60), times=st.integers(1, 40))
@tried(200)
def test_reading_takes_no_more_steps_than_there_are_characters(
    pieces: list[str], times: int
) -> None:
    text = "".join(pieces) * times
    source = read_source(MAIN, 1, text)
    steps = []

    class Counted(Scanner):
        def _one(self):  # type: ignore[no-untyped-def]
            steps.append(1)
            return super()._one()

    script = read_script(source, lambda *_: (), Counted)
    assert len(steps) <= len(source.text) + 2
    # What is read stands where it says that it does.
    for s in script.statements:
        assert 0 <= s.start < s.stop <= len(text) and 1 <= s.line <= text.count("\n") + 1
    model = read_model(text.encode("utf-8", "surrogateescape"))
    assert all(1 <= doubt.line <= text.count("\n") + 1 for doubt in model.doubts)


@pytest.mark.deep
def test_a_change_that_does_not_fit_is_refused(ivrel: Run, tmp_path: Path) -> None:
    apply = "dialect", "apply", "rsyslog", tmp_path / "gw", tmp_path / "c.txt"
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
        done = ivrel(*apply, "-o", tmp_path / "new", code=2)
        assert (
            done.stderr == f"ivrel: {tmp_path / 'c.txt'}{expected}"
            and not (tmp_path / "new").exists()
        )
    (tmp_path / "c.txt").write_text(good)
    ivrel(*apply, code=2)
    ivrel(*apply, "-o", tmp_path / "new", code=0)
    assert (tmp_path / "new" / "rsyslog.conf").read_text() == "*.* @198.51.100.22\n"
    # What a change takes away goes; whatever else lies in the folder stays.
    (tmp_path / "new" / "letter.txt").write_text("keep me")
    (tmp_path / "gw" / "rsyslog.d").mkdir()
    for folder in ("gw", "new"):
        (tmp_path / folder / "rsyslog.d").mkdir(exist_ok=True)
        (tmp_path / folder / "rsyslog.d" / "x.conf").write_text("*.* /x\n")
    (tmp_path / "c.txt").write_text("--- rsyslog.d/x.conf\n+++ /dev/null\n@@ -1 +0,0 @@\n-*.* /x\n")
    ivrel(*apply, "-o", tmp_path / "new", code=0)
    left = sorted(
        p.relative_to(tmp_path / "new").as_posix()
        for p in (tmp_path / "new").rglob("*")
        if p.is_file()
    )
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
        (
            '*.=err /x\nif $msg contains "x" then :omusrmsg:root\n',
            {"file level": "none", "sessions": "debug"},
        ),
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
def test_what_stays_on_the_device_is_never_told_to_be_less_than_it_may_be(
    rules: str, said: dict[str, str]
) -> None:
    facts = read_settings(Scope(None, read_records(RSYSLOG, rules.encode()), {}))
    found = {f"{f.setting} {f.key}".strip(): f.value for f in facts}
    assert said.items() <= found.items()


def test_a_folder_needs_its_main_file() -> None:
    with pytest.raises(Unreadable, match=r"no rsyslog.conf among its files"):
        read_records(RSYSLOG, pack({"rsyslog.d/a.conf": b"*.* @198.51.100.21\n"}))
