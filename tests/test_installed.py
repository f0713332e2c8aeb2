"""What is installed on a device, what the real daemon has against a text, and texts that it carries out."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import pytest
from conftest import Run
from rsyslog_cases import RECORDED, RSYSLOG, compared, dialect_with
from rsyslog_corrections import corrected
from rsyslogd import PROGRAM, allowed
from test_rsyslog import facts

from ivrel.core.correcting.carried import departure_of
from ivrel.core.fleet import read_fleet
from ivrel.core.reading.records import read_records
from ivrel.core.settings import Scope
from ivrel.core.text.bundle import pack
from ivrel.core.vocabulary.errors import InputError
from ivrel.core.vocabulary.severity import selection_of
from ivrel.core.vocabulary.software import Software, read_versions
from ivrel.sources.carrying import may_run
from ivrel.sources.carrying.certificates import peers_in, places_in
from ivrel.sources.daemon import Complaint, DaemonCheck, placed_in

MUST = bool(os.environ.get("IVREL_SKIP_NOTHING"))
needs_namespaces = pytest.mark.skipif(
    not allowed() or not (MUST or PROGRAM), reason="no rsyslogd, or no right to make namespaces"
)
TLS = (
    "$DefaultNetstreamDriverCAFile /etc/ssl/ca.pem\n"
    '*.err action(type="omfwd" target="198.51.100.21" port="6514" protocol="tcp" streamdriver="gtls" '
    'streamdrivermode="1" streamdriverauthmode="x509/name" streamdriverpermittedpeers="log.example")\n'
)
STATUS = """Package: rsyslog-gnutls
Status: %s
Version: 8.2302.0-1

Package: rsyslog
Status: install ok installed
Priority: important
Version: 1:8.2302.0-1+x
"""
ERROR = {("198.51.100.21", 6514, "tls"): selection_of("all:through-error")}


def strange(text: bytes, software: Software) -> str:
    return " ".join(s.text for s in read_records(dialect_with(software), text).unparsed)


def test_what_needs_a_package_is_certain_only_where_somebody_says_what_is_installed() -> None:
    known, none = (Software(packages=some) for some in (("rsyslog-gnutls",), ()))
    assert compared(TLS.encode(), ERROR, software=known) == ("certain", "")
    assert "whether rsyslog-gnutls is installed" in strange(TLS.encode(), Software())
    assert not strange(TLS.encode(), none)
    lacks = read_records(dialect_with(none), TLS.encode()).rows("destination").values()
    assert [str(row["destination.lacks"].value) for row in lacks] == [
        "rsyslog-gnutls is not installed"
    ]
    for state, is_there in (("install ok installed", True), ("deinstall ok config-files", False)):
        data = pack(
            {"rsyslog.conf": TLS.encode(), "var/lib/dpkg/status": (STATUS % state).encode()}
        )
        assert not strange(data, Software())
        how, _ = compared(data, ERROR if is_there else {}, software=Software())
        assert how == "certain", state


def test_a_version_that_nobody_checked_makes_all_unknown() -> None:
    text = b"*.err @198.51.100.21\n"
    for said, told in (
        ("8.1901.0", "rsyslogd 8.1901"),
        ("8.2504..9.1", "rsyslogd 9.1"),
        ("8.2302", ""),
    ):
        found = strange(text, Software(read_versions(said)))
        assert (told in found) if told else not found


FLEET = """fleet: one
software: {{rsyslog: {{versions: 8.2102..8.2302, packages: [rsyslog-gnutls]}}}}
reach: [{{via: ssh, files: [{main}, '/srv/x/rsyslog.d/*.conf']}}]
devices:
  - {{device: a, kind: server, site: s, platform: rsyslog{more}}}
"""


@pytest.mark.parametrize(
    ("more", "packages", "versions"),
    [
        ("", ("rsyslog-gnutls",), ((8, 2102), (8, 2302))),
        (", packages: []", (), ((8, 2102), (8, 2302))),
        (", versions: 8.2504, packages: rsyslog-relp", ("rsyslog-relp",), ((8, 2504), (8, 2504))),
    ],
)
def test_a_fleet_says_what_is_installed(more: str, packages: object, versions: object) -> None:
    (device,) = read_fleet(
        FLEET.format(main="/srv/x/rsyslog.conf", more=more), "fleet.yaml"
    ).devices
    assert (device.software.packages, device.software.versions) == (packages, versions)
    assert device.software.folder == "/srv/x"
    row = "device,kind,site,platform,versions,packages\nx,server,s,rsyslog,8.2302,none\n"
    (other,) = read_fleet(row, "fleet.csv").devices
    assert other.software == Software(read_versions("8.2302"), ())


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("8.2102..8.2302", "newest", "'newest' is no version; expected one as 8.2302"),
        ("8.2102..8.2302", "8.2302..8.2102", "ends before it begins"),
        ("[rsyslog-gnutls]", "['a b']", "no name of a package"),
        ("{{rsyslog: {{", "{{quern: {{", "platform 'quern' is not"),
    ],
)
def test_what_a_fleet_cannot_mean_is_refused_with_its_line(old: str, new: str, told: str) -> None:
    text = FLEET.replace(old, new).format(main="/srv/x/rsyslog.conf", more="")
    with pytest.raises(InputError) as problem:
        read_fleet(text, "fleet.yaml")
    assert told in str(problem.value) and "fleet.yaml:2:" in str(problem.value)


def test_includes_are_found_from_the_folder_of_the_main_file() -> None:
    files = {
        "rsyslog.conf": b"$IncludeConfig /srv/x/rsyslog.d/*.conf\n",
        "rsyslog.d/a.conf": b"*.* @198.51.100.21\n",
    }
    there = dialect_with(Software(folder="/srv/x"))
    assert [d.label for d in Scope(None, read_records(there, pack(files)), {}).destinations] == [
        "198.51.100.21"
    ]
    # Elsewhere nobody knows what is in it.
    assert "lies outside /etc" in strange(pack(files), Software())


TOLD = """rsyslogd: version 8.2302.0, config validation run (level 1), master config /tmp/q/rsyslog.conf
rsyslogd: unknown priority name "foo" [v8.2302.0]
rsyslogd: error during parsing file /tmp/q/rsyslog.conf, on or before line 3: parameter 'x' not known -- typo in config file? [v8.2302.0 try https://www.rsyslog.com/e/2207 ]
rsyslogd:  Could not find template 0 'NOSUCH' - action disabled [v8.2302.0 try https://www.rsyslog.com/e/3003 ]
rsyslogd: error during parsing file /tmp/q/d/a.conf, on or before line 6: errors occurred in file '/tmp/q/d/a.conf' around line 6 [v8.2302.0 try https://www.rsyslog.com/e/2207 ]
rsyslogd: End of config validation run. Bye.
"""


def test_complaints_of_the_daemon_get_their_places() -> None:
    found = placed_in(TOLD, "/tmp/q/", "/etc/")
    assert [(one.file, one.line) for one in found] == [
        ("/etc/rsyslog.conf", 3), ("/etc/rsyslog.conf", 3), ("/etc/d/a.conf", 6), ("/etc/d/a.conf", 6),
    ]  # fmt: skip
    assert found[-1] == Complaint("errors occurred in file '/etc/d/a.conf'", "/etc/d/a.conf", 6)


STRANGER = "*.err @198.51.100.23\n"
ONE = "{collectors: {exactly: [b]}}"
B = 'target="198.51.100.22" port="601" protocol="tcp"'


@pytest.mark.skipif(not MUST and not PROGRAM, reason="no rsyslogd")
@pytest.mark.parametrize(
    ("text", "against"),
    [
        # It moves down, and is no fault of the correction.
        (f'*.* action(type="omfile" file="/var/log/x" nosuch="1")\n{STRANGER}', ""),
        (f"{STRANGER}*.foo /var/log/x\n", ""),
        # What is to send must be taken, whether or not that was so before.
        (f'*.err action(type="omfwd" {B} nosuch="1")\n{STRANGER}', "parameter 'nosuch' not known"),
        (f':nosuch, contains, "x" @@198.51.100.22:601\n\n{STRANGER}', "invalid property 'nosuch'"),
    ],
)
def test_the_daemon_has_to_take_what_sends(text: str, against: str) -> None:
    done = DaemonCheck().checked(corrected(text, ONE), RSYSLOG, text.encode(), RECORDED)
    (taken,) = (p for p in done.proof if p.name == "taken")
    assert done.changes and taken.holds == (not against) and against in taken.why
    # A daemon of another version has no say.
    other = Software(read_versions("8.1"))
    again = DaemonCheck().checked(corrected(text, ONE), RSYSLOG, text.encode(), other)
    assert [p.name for p in again.proof if p.name == "taken"] == []


@pytest.mark.parametrize("require", ["{collectors: {exactly: [b]}, level: {from: error}}", ONE])
@pytest.mark.parametrize("order", [1, -1])
def test_a_new_collector_gets_no_filter_of_a_stranger(require: str, order: int) -> None:
    lines = [STRANGER, 'if $programname == "sshd" then @198.51.100.24\n'][::order]
    done = corrected("".join(lines), require)
    assert done.proved and facts(done.corrected, "level") == {"198.51.100.22": "through error"}
    (gone,) = done.no_longer_sent
    assert gone.words == (
        "warning, notice, informational, debug (to 198.51.100.24, as far as a filter let them through)"
    )
    alone = corrected(
        lines[order == 1], require.replace("{from: error}", "{from: error, to: error}")
    )
    asked = "level" in require
    assert (
        alone.proved
        and (facts(alone.corrected, "level") == {"198.51.100.22": "through error"}) == asked
    )
    assert bool(alone.no_longer_sent) == asked  # the same filter lets the same through
    # Another filter with the same bounds is no heir of it.
    other = corrected(f'{lines[order == 1]}:msg, contains, "x" @@198.51.100.22:601\n', ONE)
    assert [gone.destination for gone in other.no_longer_sent] == ["198.51.100.24"]


def test_what_was_computed_is_held_against_what_came() -> None:
    scope = Scope(
        None,
        read_records(RSYSLOG, b'*.err @198.51.100.21\n:msg, contains, "x" @198.51.100.22\n'),
        {},
    )
    all_, error, none = map(selection_of, ("all:through-debug", "all:through-error", "all:none"))
    one, two, other = ((f"198.51.100.{n}", 514, "udp") for n in (21, 22, 23))
    assert departure_of(scope, {one: error, two: none}) == ""
    assert departure_of(scope, {one: error, two: all_}) == ""
    assert departure_of(scope, {two: all_}) == "198.51.100.21 did not get through error"
    assert "besides" in departure_of(scope, {one: all_})
    assert "198.51.100.23 514 udp got messages, too" in departure_of(
        scope, {one: error, other: error}
    )


@needs_namespaces
def test_corrections_are_carried_out_by_the_daemon_itself(example: Path, ivrel: Run) -> None:
    words = ("correct", "-w", example, "--format", "json")
    done = ivrel(*words, "--carry-out")
    proofs = [d["proof"] for d in json.loads(done.stdout)["devices"] if d["changes"]]
    found = [p for proof in proofs for p in proof if p["property"] == "carried out"]
    assert len(found) > 2 and all(p["holds"] for p in found), found
    assert all(re.fullmatch(r"rsyslogd 8\.\d+\.\d+", p["by"]) for p in found)
    wrong = ivrel("correct", "-w", example, "--undo", "--carry-out")
    assert wrong.returncode == 2 and "leave it out" in wrong.stderr


def test_what_runs_programs_is_not_carried_out() -> None:
    for text in (
        b'*.* action(type="omprog" binary="/bin/true")\n',
        b"*.* ^/bin/true;x\n",
        b"*.*^/bin/x\n",
    ):
        assert not may_run(text)
    assert may_run(b"*.* @198.51.100.21 # 2^3\n")
    assert peers_in('streamdriverpermittedpeers=["a.test", "*.b.test"]\n$ActionSendStreamDriverPermittedPeer c.test') == [
        "a.test", "any.b.test", "c.test",
    ]  # fmt: skip
    assert dict(places_in(TLS)) == {"authority": "/etc/ssl/ca.pem"}
