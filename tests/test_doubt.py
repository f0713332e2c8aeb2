"""Nothing passed over: what could be a statement of export is in doubt, wherever it stands."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from conftest import TODAY, tried
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core import Device, audit_text, read_dialect, read_policy, read_records
from ivrel.core.dialects import Dialect
from ivrel.core.dialects.slots import LAZY
from ivrel.core.reading.doubt import DoubtFinder
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.reader import outside
from ivrel.core.reading.statements import Unparsed
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text, decode
from ivrel.core.text.words import Path, Words

HERE = Device("x1", "router", "main", "", (), "192.0.2.9")
POLICY = read_policy(
    """policy: p
collectors: {a: {address: 198.51.100.21}}
rules:
  - rule: r
    require:
      export: on
      facility: local4
      collectors: {exactly: [a]}
      stamp: {kind: calendar}
      changes: on
      logins: on
""",
    "policy.yaml",
)
# What a statement says: its value as it is asked, another one, and the setting that it is of.
SAYS = {
    "{export}": ("on", "off", "export"),
    "{facility}": ("local4", "local1", "facility"),
    "{destination.address}": ("198.51.100.21", "203.0.113.9", "collectors"),
    "{stamp.kind}": ("calendar", "uptime", "stamp"),
    "{changes}": ("on", "off", "changes"),
    "{logins}": ("on", "off", "logins"),
}
WORDS = (
    "gull tern auk petrel fulmar gannet skua knot dunlin heron plover curlew snipe ruff godwit "
    "whimbrel sanderling turnstone avocet lapwing"
).split()
SHAPES = ("blocks", "braces", "enclosed", "paths", "sections")
Said = tuple[Path, Words, str]  # the headers of a statement, its words before the value, the value


@st.composite
def platforms(draw: st.DrawFn) -> tuple[Dialect, list[Said]]:
    """A dialect of any shape, and its statements."""
    shape = draw(st.sampled_from(SHAPES))
    words = list(draw(st.permutations(WORDS)))
    least, most = {"paths": (0, 0), "sections": (1, 1)}.get(shape, (0, 2))
    headers = tuple((words.pop(),) for _ in range(draw(st.integers(least, most))))
    assigns = shape in ("paths", "sections")
    lines: list[str] = []
    said: list[Said] = []
    for what in SAYS:
        own = tuple(
            words.pop() for _ in range(1 if shape == "sections" else draw(st.integers(1, 2)))
        )
        path = headers if shape == "sections" or draw(st.booleans()) else ()
        said.append((path, (*own, "=") if assigns else own, what))
        pattern = f"{('.' if shape == 'paths' else ' ').join(own)} {'= ' if assigns else ''}{what}"
        inside = f"in: {' / '.join(' '.join(h) for h in path)}, " if path else ""
        lines.append(f'  - {{{inside}says: "{pattern}"}}')
    text = f"""dialect: x
about: x
shape: {shape}
change: {{remove: "no"{", inside: change" if shape == "braces" else ""}}}
rows: {{destination: {{key: [address]}}}}
defaults: {{export: off, facility: user, stamp.kind: uptime, changes: off, logins: off,
  destination.port: 514, destination.transport: udp}}
statements:
"""
    return read_dialect(text + "\n".join(lines), "x.yaml"), said


def variants(
    dialect: Dialect, path: Path, words: Words, value: str
) -> Iterator[tuple[str, Path, Words]]:
    """Statements that a platform may take for this one, or as what takes it away."""
    whole, shape = (*words, value), dialect.shape_name
    yield (
        "negated",
        path,
        (
            f"no {words[0]}" if dialect.shape.ASSIGNS else "no",
            *words[dialect.shape.ASSIGNS :],
            value,
        ),
    )
    if not dialect.shape.ASSIGNS:
        yield "negated by another word", path, ("without", *whole)
        yield "continued", path, (*whole, "\\")
        yield "with a word more", path, (*whole, "once")
    literals = [n for n, word in enumerate(words) if word != "="]
    for n in literals:
        # With its only word another one, a statement shares nothing with the dialect.
        if len(literals) > 1:
            yield f"word {n} is another", path, (*words[:n], "zork", *whole[n + 1 :])
    yield "abbreviated", path, tuple(w[:4] if n in literals else w for n, w in enumerate(whole))
    yield "in capitals", path, tuple(w.upper() if n in literals else w for n, w in enumerate(whole))
    if shape == "paths":
        yield "below another word", (), ("zork", *whole)
    else:
        yield "below another header", (("zork",),), whole
    if shape in ("blocks", "braces", "enclosed"):
        yield "deeper", (*path, ("zork",)), whole
        yield "as a header", (*path, whole), ("zork", "5")
        for n in range(len(path)):
            yield f"header {n} is another", (*path[:n], ("zork",), *path[n + 1 :]), whole


def text_of(dialect: Dialect, said: list[Said], *more: tuple[Path, Words]) -> bytes:
    """A configuration that says all that is asked, and some statements more."""
    edits = [Edit(path, (*words, SAYS[what][0])) for path, words, what in said]
    edits += [Edit(path, words) for path, words in more]
    text = b""
    for edit in edits:
        text = dialect.shape.apply(Text(text), [edit], lambda path, words: (path, words))
    return text


@given(platforms(), st.data())
@tried(400)
def test_no_verdict_is_certain_that_a_platform_could_decide_otherwise(
    platform: tuple[Dialect, list[Said]], data: st.DataObject
) -> None:
    dialect, said = platform
    path, words, what = data.draw(st.sampled_from(said))
    _, bad, setting = SAYS[what]
    how, new_path, new_words = data.draw(st.sampled_from(list(variants(dialect, path, words, bad))))
    text = text_of(dialect, said, (new_path, new_words))

    def verdicts(text: bytes) -> dict[str, str]:
        result = audit_text(HERE, dialect, text, POLICY, TODAY, "x.conf")
        return {v.setting: v.verdict for v in result.verdicts}

    assert set(verdicts(text_of(dialect, said)).values()) == {"meets"}
    assert verdicts(text)[setting] != "meets", (how, text.decode())


@given(platforms(), st.data())
@tried(200)
def test_the_quick_look_finds_all_that_is_in_doubt(
    platform: tuple[Dialect, list[Said]], data: st.DataObject
) -> None:
    dialect, said = platform
    path, words, what = data.draw(st.sampled_from(said))
    every = list(variants(dialect, path, words, SAYS[what][1]))
    chosen = data.draw(st.lists(st.sampled_from(every), max_size=3))
    text = Text(text_of(dialect, said, *((p, w) for _, p, w in chosen)))
    reader, doubt = matcher(dialect), DoubtFinder(dialect)
    known = reader.heads.has
    slow = set()
    for above, raw, line in dialect.shape.statements(text):
        own = tuple(dialect.shape.split(decode(raw)))
        if not known(above[0] if above else own) and doubt.of(above, own):
            slow.add(line)
    assert {unparsed_line.line for unparsed_line in outside(reader, text)} == slow


CLEAR = "events\n  export on\n"


@pytest.mark.parametrize(
    ("platform", "text", "doubtful"),
    [
        # What a header behind one more word does to its block, and what stands in one line elsewhere.
        ("quern", "gate g\n  10 pass\nundo events\nevents-of-old send 203.0.113.9\n", [3, 4]),
        # What occurs all over a configuration is not taken for export, with values that others have.
        ("quern", "gauge\n  number 5\n  zone north\n  queue 7\nbridge\n  limit 3\n", []),
        ("quern", "gauge\n  screen warning\n", [2]),
        ("quern", "link e1\n  send 203.0.113.9 udp 514 through debug\n", [2]),
        ("quern", "link e1\n  lane 5\n  about to the events deck\n", []),
        ("skarn", "vault.active = yes\nvault.tell.change = yes\nvault.size = 5\n", [2]),
        ("quern", "link e1\n  state up\nno link e1\nno events\n", [4]),
        ("hollin", 'unit "x" { safe { rank full; seats warning; } }', [1]),
        ("osier", '<osier><sinks on="yes"/><vault><sink id="a" inet="203.0.113.9"/></vault></osier>', [1, 1]),
        ("osier", '<osier><sinks on="yes"/><vault><safe id="a" inet="203.0.113.9"/></vault></osier>', []),
    ],
)  # fmt: skip
def test_what_is_in_doubt_elsewhere(platform: str, text: str, doubtful: list[int]) -> None:
    from ivrel.sources.dialects import Dialects

    found = outside(matcher(Dialects()[platform]), Text(text.encode()))
    assert [unparsed_line.line for unparsed_line in found] == doubtful
    assert not any(
        isinstance(s.strange, Unparsed) and set(s.strange.tables) <= set(LAZY) for s in found
    )


def test_a_statement_that_names_a_collector_is_in_doubt_unless_it_is_set_aside() -> None:
    text = "post\n  gull 198.51.100.21\nroute\n  to 198.51.100.21\n  to 198.51.100.210\n"
    head = """dialect: x
about: x
shape: blocks
change: {remove: "no"}
rows: {destination: {key: [address]}}
defaults: {destination.port: 514, destination.transport: udp}
statements: [{in: post, says: "gull {destination.address}"}]
"""
    for more, lines in (("", {4}), ("aside: [{starts: [route]}]\n", set())):
        dialect = read_dialect(head + more, "x.yaml")
        result = audit_text(HERE, dialect, text.encode(), POLICY, TODAY, "x.conf")
        collectors = next(v for v in result.verdicts if v.setting == "collectors")
        assert collectors.verdict == ("unknown" if lines else "meets")
        assert {place.line for place in collectors.where} >= lines
    assert not read_records(dialect, text.encode()).unparsed


ASKED = read_policy(
    """policy: p
collectors: {a: {address: 198.51.100.21}}
rules: [{rule: r, require: {source: identity, facility: local0, rules: {stop: open}}}]
""",
    "policy.yaml",
)
EVENTS = "events\n  export on\n  leave-from loop1\n  send 198.51.100.21 udp 514 through debug\n"
LINK = "link loop1\n  inet 192.0.2.9\n"
GATES = 'unit "x" {\n record { screen error; }\n gates {%s}\n}\n'
OPEN = "\ngate 10 { action stop; record open; }\n"


@pytest.mark.parametrize(
    ("setting", "platform", "text", "inside", "around"),
    [
        ("source", "quern", EVENTS + "%s", LINK, "/*\n%s*/\n"),
        ("source", "quern", EVENTS + "%s", LINK, "line <<END\n%sEND\n"),
        ("source", "quern", EVENTS + "%s", LINK, "line \\\n%s"),
        # The address may be that of the interface above.
        ("source", "quern", EVENTS + LINK + "%s  inet 192.0.2.7\n", "link e1\n", "/*\n%s*/\n"),
        ("facility", "quern", EVENTS + "%s", "  facility local0\n", "/*\n%s*/\n"),
        ("facility", "quern", EVENTS + "%s  facility local7\n", "keeper\n", "  /*\n%s  */\n"),
        ("rules", "hollin", GATES, OPEN, "/* old; %s */"),
        ("rules", "hollin", GATES, OPEN.replace("open", "close"), "/* old; %s */"),
    ],
)
def test_what_a_platform_may_read_as_a_comment_is_in_doubt(
    setting: str, platform: str, text: str, inside: str, around: str
) -> None:
    from ivrel.sources.dialects import Dialects

    dialect = Dialects()[platform]

    def verdict(inside: str) -> str:
        result = audit_text(HERE, dialect, (text % inside).encode(), ASKED, TODAY, "x.conf")
        return next(v.verdict for v in result.verdicts if v.setting == setting)

    assert verdict(inside) in ("meets", "breaks")
    assert verdict(around % inside) == "unknown"


UNIT = (
    'unit "x" { record { collector a { inet 198.51.100.21; } keeper { facility local0; leave loop1; to a; }'
    " transit { facility local0; leave loop1; to a; } } %s }\n"
)
PORT = "port loop1 { inet 192.0.2.9; }"
LOOSE = 'spare "y" { record { keeper { facility local7; } } }\n'


@pytest.mark.parametrize(
    ("platform", "text", "wanted"),
    [
        ("hollin", UNIT % PORT, {"facility": "meets", "source": "meets"}),
        # What stands beside the block that holds everything is no part of the configuration.
        ("hollin", UNIT % PORT + LOOSE, {"facility": "unknown"}),
        ("hollin", LOOSE + UNIT % PORT, {"facility": "unknown"}),
        ("hollin", UNIT % "" + f'spare "y" {{ {PORT} }}\n', {"source": "unknown"}),
        ("hollin", UNIT % "", {"source": "breaks"}),
        # An interface, or a collector, that an unknown part names.
        ("quern", EVENTS + "ward a\n  link loop1\n    inet 192.0.2.9\n", {"source": "unknown"}),
        ("quern", EVENTS + LINK + "post\n  gull 198.51.100.21\n    weight 5\n", {"source": "unknown"}),
    ],
)  # fmt: skip
def test_what_stands_in_another_block_is_no_fact(
    platform: str, text: str, wanted: dict[str, str]
) -> None:
    from ivrel.sources.dialects import Dialects

    result = audit_text(HERE, Dialects()[platform], text.encode(), ASKED, TODAY, "x.conf")
    found = {v.setting: v.verdict for v in result.verdicts}
    assert {name: found[name] for name in wanted} == wanted
