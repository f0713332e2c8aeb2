"""Negations in a text are read as what they do, in the order of the text; else they are in doubt."""

from __future__ import annotations

import pytest
from conftest import TODAY, tried
from hypothesis import given
from hypothesis import strategies as st
from msgspec import Struct

from ivrel.core import Device, InputError, audit_text, correct, read_dialect, read_policy
from ivrel.core.correcting.changes import apply_change
from ivrel.core.dialects import Dialect
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.text.words import Words

HERE = Device("x1", "router", "main", "", (), "192.0.2.9")
RIGHT, WRONG = "198.51.100.21", "203.0.113.9"
POLICY = read_policy(
    """policy: p
collectors: {a: {address: 198.51.100.21}}
rules:
  - {rule: r, require: {export: on, facility: local4, collectors: {exactly: [a]}, changes: on}}
""",
    "policy.yaml",
)
# The words of each statement, its slot, the values that it may say, and the value that a negation
# means, where it means one.
SAYS = {
    "export": ("gull", "{export}", ("on", "off"), "off"),
    "facility": ("tern", "{facility}", ("local4", "local1"), "kern"),
    "changes": ("auk", "{changes}", ("on", "off"), "off"),
    "collectors": ("knot", "{destination.address} [{destination.port}]", (RIGHT, WRONG), ""),
}
DEFAULTS = {"export": "on", "facility": "local1", "changes": "off"}


class Platform(Struct, frozen=True):
    """A dialect; by setting, what a negation leads to ('': the rule says it)."""

    dialect: Dialect
    leads_to: dict[str, str]
    is_ruled: bool

    def words(self, setting: str, value: str, *, negated: bool = False) -> Words:
        """A statement; `value`: '' for none."""
        shape = self.dialect.shape
        own = ("skua", SAYS[setting][0]) if shape.ASSIGNS else (SAYS[setting][0],)
        if shape.ASSIGNS and setting == "collectors":
            own = (*own, "r" if value == RIGHT else "w")  # of an assignment, the name tells rows
            value = "" if negated else value
        own = (*own, "=") if shape.ASSIGNS and value else own
        said = (*own, value) if value else own
        return shape.negation_of(said) if negated else said

    def text(self, statements: list[Words]) -> bytes:
        """A text of these statements, in their order."""
        shape = self.dialect.shape
        if shape.ASSIGNS:
            return "".join(f"{shape.join(words)}\n" for words in statements).encode()
        edits = [Edit((("skua",),), words) for words in statements]
        return shape.apply(Text(b""), edits, lambda path, words: object())

    def outcome(self, ops: list[tuple[str, str, str]]) -> dict[str, set[str] | None]:
        """What statements come to, worked out by hand; None where it cannot be told."""
        said: dict[str, list[str]] = {setting: [] for setting in SAYS}
        doubtful: set[str] = set()
        for setting, how, value in ops:
            now, leads_to = said[setting], self.leads_to[setting]
            adds = setting == "collectors"
            if how == "set":
                said[setting] = [*(one for one in now if adds and one != value), value]
            elif not leads_to and not self.is_ruled:
                doubtful.add(setting)
            elif leads_to not in ("", "default"):
                if value == leads_to:
                    doubtful.add(setting)
                else:
                    now[:] = [leads_to]
            elif adds:
                said[setting] = [one for one in now if one != value]
            elif (now and value and now != [value]) or (not now and not leads_to):
                doubtful.add(setting)
            else:
                now.clear()
        out: dict[str, set[str] | None] = {}
        for setting, values in said.items():
            default = {DEFAULTS[setting]} if setting in DEFAULTS else set()
            out[setting] = None if setting in doubtful else set(values) or default
        return out


@st.composite
def platforms(draw: st.DrawFn) -> Platform:
    shape = draw(st.sampled_from(["blocks", "braces", "enclosed", "paths"]))
    dotted = shape == "paths"
    is_ruled = draw(st.booleans())
    word = draw(st.sampled_from(["", "ruff"]))
    at = "start" if dotted else draw(st.sampled_from(["start", "end"]))
    negation = [f"word: {word}"] if word else []
    negation += [f"place: {at}"] if at == "end" or draw(st.booleans()) else []
    negation += ["leads-to: default"] if is_ruled else []
    leads_to, lines = {}, []
    for setting, (own, slot, _, means) in SAYS.items():
        ways = ["", "default", *filter(None, [means])]
        leads_to[setting] = to = draw(st.sampled_from(ways))
        said = f"{{{slot.strip('{}').partition('}')[0]}: {to}}}" if to == means and means else to
        negated = f", negated: {said}" if said else ""
        inside = "" if dotted else "in: skua, "
        name = ".{destination.name}" if setting == "collectors" else ""
        pattern = f"skua.{own}{name} = {slot}" if dotted else f"{own} {slot}"
        lines.append(f'  - {{{inside}says: "{pattern}"{negated}}}\n')
    text = f"""dialect: x
about: x
shape: {shape}
change: {{remove: "no"{", inside: change" if shape == "braces" else ""}}}
{f"negation: {{{', '.join(negation)}}}" if negation else ""}
rows: {{destination: {{key: [{"name" if dotted else "address"}]}}}}
unset: [destination.facility]
defaults: {{export: on, facility: local1, changes: off, destination.port: 514, destination.transport: udp,
  destination.level: debug, destination.verify: off}}
statements:
"""
    return Platform(read_dialect(text + "".join(lines), "x.yaml"), leads_to, is_ruled)


@st.composite
def cases(draw: st.DrawFn) -> tuple[Platform, bytes, dict[str, set[str] | None]]:
    """A platform, a text with negations, and what it comes to."""
    platform = draw(platforms())
    ops: list[tuple[str, str, str]] = [("export", "set", "on")]
    for _ in range(draw(st.integers(1, 7))):
        setting = draw(st.sampled_from(list(SAYS)))
        value = draw(st.sampled_from(SAYS[setting][2]))
        how = draw(st.sampled_from(["set", "negate"]))
        # A negation need not repeat the value, but names the row.
        bare = how == "negate" and setting != "collectors" and draw(st.booleans())
        ops.append((setting, how, "" if bare else value))
    words = [platform.words(s, value, negated=how == "negate") for s, how, value in ops]
    return platform, platform.text(words), platform.outcome(ops)


ASKED = {"export": {"on"}, "facility": {"local4"}, "changes": {"on"}, "collectors": {RIGHT}}


def verdicts(dialect: Dialect, text: bytes) -> dict[str, str]:
    result = audit_text(HERE, dialect, text, POLICY, TODAY, "x.conf")
    return {v.setting: v.verdict for v in result.verdicts}


@given(cases())
@tried(400)
def test_a_negation_is_read_as_what_it_does_or_is_in_doubt(
    case: tuple[Platform, bytes, dict[str, set[str] | None]],
) -> None:
    platform, text, outcome = case
    found = verdicts(platform.dialect, text)
    # A statement in doubt may make more than its own setting unknown.
    unsure = {"unknown"} if None in outcome.values() else set()
    for setting, values in outcome.items():
        wanted = "unknown" if values is None else "meets" if values == ASKED[setting] else "breaks"
        assert found[setting] in {wanted, *unsure}, (setting, text.decode(), found)


@given(cases())
@tried(300)
def test_a_correction_of_a_text_with_negations_is_proved_and_goes_back(
    case: tuple[Platform, bytes, dict[str, set[str] | None]],
) -> None:
    platform, text, _ = case
    dialect, before = platform.dialect, verdicts(platform.dialect, text)
    done = correct(HERE, dialect, text, POLICY, TODAY, "x.conf")
    if not done.change:
        return
    assert all(one.holds for one in done.proof), [one.why for one in done.proof if not one.holds]
    after = apply_change(dialect, text, done.change, "change")
    found = verdicts(dialect, after)
    assert "breaks" not in found.values()
    assert verdicts(dialect, apply_change(dialect, after, done.backout, "back-out")) == before


TERN = """dialect: tern
about: x
shape: SHAPE
change: {remove: "no"}
negation: {leads-to: default}
rows: {destination: {key: [address]}, interface: {key: [name]}}
defaults: {export: on, facility: user, changes: off, interface.state: up, destination.port: 514,
  destination.transport: udp, destination.level: debug, destination.verify: off}
unset: [destination.facility]
aside: [{in: herald, starts: [bell]}]
statements:
  - {in: herald, says: "{export=on:open}", negated: {export: off}}
  - {in: herald, says: "voice {facility}"}
  - {in: herald, says: "speak-from {source.interface}"}
  - {in: herald, says: "tell {changes}", negated: unknown}
  - {in: "herald / post {destination.address}", says: "at {destination.port}"}
  - {in: "wire {interface.name}", says: "holds {interface.address}"}
  - {in: "wire {interface.name}", says: "{interface.state=up:raised}", negated: {interface.state: down}}
"""
CLEAR = """wire eth0
    holds 192.0.2.9
herald
    voice local4
    speak-from eth0
    tell on
    post 198.51.100.21
        at 514
"""
ASKS = read_policy(
    """policy: p
collectors: {a: {address: 198.51.100.21}}
rules:
  - rule: r
    require: {export: on, facility: local4, changes: on, collectors: {exactly: [a]}, source: identity}
""",
    "policy.yaml",
)


@pytest.mark.parametrize(
    ("line", "with_rule", "without"),
    [
        ("herald\n    no open", {"export": "breaks"}, {"export": "breaks"}),
        ("herald\n    no open on", {"export": "unknown"}, {"export": "unknown"}),
        ("herald\n    no bell", {}, {}),
        ("herald\n    no tell", {"changes": "unknown"}, {"changes": "unknown"}),
        ("herald\n    no voice", {"facility": "breaks"}, {"facility": "unknown"}),
        ("herald\n    no voice local1", {"facility": "unknown"}, {"facility": "unknown"}),
        ("herald\n    no post 198.51.100.21", {"collectors": "breaks"}, {"collectors": "unknown"}),
        ("herald\n    no post 203.0.113.9", {}, {"collectors": "unknown"}),
        ("no wire eth0", {"source": "breaks"}, {"source": "unknown"}),
        ("wire eth0\n    no holds", {"source": "breaks"}, {"source": "unknown"}),
        ("wire eth0\n    no holds 192.0.2.9", {"source": "breaks"}, {"source": "unknown"}),
        ("wire eth0\n    no holds 192.0.2.1", {}, {"source": "unknown"}),
        ("wire eth0\n    no raised", {"source": "breaks"}, {"source": "breaks"}),
        # Whatever the spelling, it is the same row.
        (
            "herald\n    post 2001:db8::1\n        at 514\n    no post 2001:DB8:0::1",
            {},
            {"collectors": "unknown"},
        ),
        (
            "herald\n    post 2001:db8::1\n        at 514\n    no post 2001:db8::2",
            {"collectors": "breaks"},
            {"collectors": "unknown"},
        ),
        # Some of what stands in the block may mean a value where it is negated.
        ("no herald", {"facility": "unknown"}, {"facility": "unknown"}),
    ],
)
def test_what_a_negation_leads_to(
    line: str, with_rule: dict[str, str], without: dict[str, str]
) -> None:
    said = TERN.replace("SHAPE", "blocks")
    for text, wanted in ((said, with_rule), (said.replace("negation:", "#"), without)):
        dialect = read_dialect(text, "x.yaml")
        result = audit_text(HERE, dialect, f"{CLEAR}{line}\n".encode(), ASKS, TODAY, "x.conf")
        found = {v.setting: v.verdict for v in result.verdicts}
        assert {s: found[s] for s in wanted} == wanted
        assert wanted or set(found.values()) == {"meets"}, found


@pytest.mark.parametrize(
    ("old", "new", "wrong"),
    [
        ("leads-to: default", "leads-to: off", "x.yaml:5:"),
        ("{leads-to: default}", "{place: middle}", "x.yaml:5:"),
        ("{leads-to: default}", "{word: no more}", "'no more' is not one word"),
        ("negated: unknown", "negated: off", "'off' is not known"),
        ("negated: {export: off}", "negated: {facility: user}", "'facility' is not"),
        ("negated: {export: off}", "negated: {export: away}", "negated of export: 'away'"),
        ("shape: SHAPE", "shape: sections", "texts of the shape 'sections' hold no negations"),
    ],
)
def test_a_negation_that_cannot_be_is_refused(old: str, new: str, wrong: str) -> None:
    text = TERN.replace(old, new).replace("SHAPE", "blocks")
    with pytest.raises(InputError) as told:
        read_dialect(text, "x.yaml")
    assert wrong in str(told.value)
