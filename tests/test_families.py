"""Values of one address family: sources said of each, and words for addresses of each."""

from __future__ import annotations

import pytest
from conftest import TODAY, tried
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core import InputError, correct, read_dialect, read_policy, read_records
from ivrel.core.correcting.changes import apply_change
from ivrel.core.dialects import Dialect
from ivrel.core.fleet import Device
from ivrel.core.settings import Scope, read_settings

DEVICE = Device("x", "router", "s", "tern", (), "192.0.2.9")
RULES = "rules: [{rule: r, require: {collectors: [%s], source: identity, facility: local4}}]\n"
COLLECTORS = {"a": "198.51.100.21", "b": "2001:db8::21"}


def dialect(sources: str) -> Dialect:
    """A platform that has a word of its own for IPv6, and these statements for the source."""
    return read_dialect(
        f"""dialect: tern
about: a made-up platform
shape: blocks
change: {{remove: unset}}
rows: {{destination: {{key: [address]}}, interface: {{key: [name]}}}}
defaults: {{export: on, destination.port: 514, destination.transport: udp, level: debug, destination.facility: user}}
statements:
  - {{in: report, says: "to {{inet destination.address}} [as {{destination.facility}}]"}}
  - {{in: report, says: "to6 {{inet6 destination.address}} [as {{destination.facility}}]"}}
  - {{in: "port {{interface.name}}", says: "holds {{interface.address}}"}}
{sources}
""",
        "tern.yaml",
    )


BOTH = """  - {in: report, says: "from {source.inet-interface}"}
  - {in: report, says: "from6 {source.inet6-interface}"}"""
WIDE = '  - {in: report, says: "from-all {source.interface}"}\n' + BOTH
ADDRESSES = """  - {in: report, says: "from {source.inet-address}"}
  - {in: report, says: "from6 {source.inet6-address}"}"""
PORTS = (
    "port own\n    holds 192.0.2.9/32\n    holds 2001:db8:9::9/128\n"
    "port other\n    holds 203.0.113.1/30\n    holds 2001:db8:7::1/64\n"
)


def policy(names: list[str]) -> str:
    listed = ", ".join(f"{name}: {{address: '{COLLECTORS[name]}'}}" for name in COLLECTORS)
    return f"policy: p\ncollectors: {{{listed}}}\n" + RULES % ", ".join(names)


@pytest.mark.parametrize("sources", [BOTH, WIDE, ADDRESSES])
@given(
    wanted=st.sampled_from((["a"], ["b"], ["a", "b"])),
    there=st.sets(st.sampled_from(("to 198.51.100.21", "to6 2001:db8::21 as local2", "to6 2001:db8::99"))),
    said=st.sets(st.sampled_from(("from", "from6", "from-all"))),
    by=st.sampled_from(("own", "other")),
)  # fmt: skip
@tried(80)
def test_each_family_has_its_source_and_its_words(
    sources: str, wanted: list[str], there: set[str], said: set[str], by: str
) -> None:
    tern = dialect(sources)
    addresses = {"own": ("192.0.2.9", "2001:db8:9::9"), "other": ("203.0.113.1", "2001:db8:7::1")}
    words = {
        "from": addresses[by][0] if sources == ADDRESSES else by,
        "from6": addresses[by][1] if sources == ADDRESSES else by,
        "from-all": "other",
    }
    lines = [
        *sorted(there),
        *(f"{w} {words[w]}" for w in sorted(said) if w != "from-all" or sources == WIDE),
    ]
    text = PORTS + "report\n" + "".join(f"    {line}\n" for line in lines)
    done = correct(DEVICE, tern, text.encode(), read_policy(policy(wanted), "p.yaml"), TODAY, "x")
    assert all(p.holds for p in done.proof), (text, done.change, done.proof)
    assert all(v.verdict == "meets" for v in done.after.verdicts), (text, done.change)
    after = done.corrected.decode().split("report\n")[1].split("\n")
    said_after = {line.split()[0]: line.split()[1] for line in after if line.strip()}
    # Each address stands behind the word for its family, and leaves from the device's own face.
    assert ("to" in said_after) == ("a" in wanted) and ("to6" in said_after) == ("b" in wanted)
    for family, name in (("from", "a"), ("from6", "b")):
        if name in wanted:
            source = said_after.get(family, said_after.get("from-all"))
            assert source in ("own", "192.0.2.9", "2001:db8:9::9"), (text, done.change)
    if done.changes:
        back = apply_change(tern, done.corrected, done.backout, "back-out")
        read = [
            sorted(map(str, read_settings(Scope(DEVICE, read_records(tern, data), {}))))
            for data in (back, text.encode())
        ]
        assert [f.split("lines=")[0] for f in read[0]] == [f.split("lines=")[0] for f in read[1]]


FOUR, SIX = "to 198.51.100.21\n", "to6 2001:db8::21\n"


@pytest.mark.parametrize(
    ("sources", "lines", "source", "why", "change"),
    [
        (BOTH, f"{FOUR}{SIX}from own\n", "identity", "IPv6: not set", "from6 own"),
        (WIDE, f"{FOUR}{SIX}from-all own\n", "identity", "", ""),
        # What is said of a family holds for it, whatever is said of both.
        (WIDE, f"{FOUR}from own\nfrom-all other\n", "identity", "", ""),
        (WIDE, f"{FOUR}{SIX}from own\nfrom-all other\n", "identity", "leaves from other", "from-all own"),
        (WIDE, f"{FOUR}{SIX}from four\nfrom-all six\n", "[four, six]", "", ""),
        # Nothing leaves by IPv6.
        (BOTH, f"{FOUR}from own\nfrom6 other\n", "identity", "", ""),
        # An interface needs an address of its family alone.
        (BOTH, f"{FOUR}{SIX}from four\nfrom6 six\n", "[four, six]", "", ""),
        (BOTH, f"{FOUR}{SIX}from four\nfrom6 four\n", "[four, six]", "four has no IPv6", "from6 six"),
        # A name may stand for either.
        (BOTH, "to logs.example.net\nfrom own\n", "identity", "IPv6: not set", "from6 own"),
        # An address behind the word of the other family is not understood.
        (BOTH, "to 2001:db8::21\nfrom own\n", "identity", "not understood", ""),
        (BOTH, "to6 198.51.100.21\nfrom own\n", "identity", "not understood", ""),
    ],
)  # fmt: skip
def test_what_is_said_of_one_family(
    sources: str, lines: str, source: str, why: str, change: str
) -> None:
    ports = f"{PORTS}port four\n    holds 192.0.2.44/32\nport six\n    holds 2001:db8:6::6/64\n"
    text = f"{ports}report\n" + "".join(f"    {line}\n" for line in lines.splitlines())
    said = policy(["a", "b"]).replace("source: identity", f"source: {source}")
    if "logs.example.net" in lines:
        said = said.replace("collectors: [a, b], ", "")  # all destinations are judged then
    done = correct(
        DEVICE, dialect(sources), text.encode(), read_policy(said, "p"), TODAY, "x", ["source"]
    )
    verdict = next(v for v in done.before.verdicts if v.setting == "source")
    assert (verdict.verdict == "meets") == (why == "") and why in verdict.why
    assert " ".join(done.change.split()) == (f"report {change}" if change else "")
    assert all(p.holds for p in done.proof)


@pytest.mark.parametrize(
    ("says", "told"),
    [
        ("shout {inet6 facility}", "'inet6' narrows addresses, and facility is none"),
        ("to {destination.address} [as {destination.facility}]", "destination.facility is said by"),
    ],
)
def test_what_cannot_be_narrowed_or_contradicts_is_told(says: str, told: str) -> None:
    with pytest.raises(InputError, match=told):
        dialect(f'  - {{in: report, says: "{says}"}}')
