"""Drafts a dialect from a sample: a commented start, with the lines that look like export
settings.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from string import Template

from ivrel.core.authoring.shape_traits import DOCUMENT, ENCLOSED, likely_shapes
from ivrel.core.shapes import SHAPES
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES
from ivrel.core.vocabulary.wording import shorten

_WORDS = (
    *SEVERITIES,
    *(f for f in FACILITIES if f.startswith("local")),
    "facility",
    "severity",
    "collector",
    "syslog",
)
_TELLING = re.compile(rf"\b({'|'.join(_WORDS)})\b|\b(514|601|6514)\b", re.IGNORECASE)
_HIDDEN = re.compile(r"secret|passw|\bkey\b|token|community|hash", re.IGNORECASE)

MOST_LINES = 60


def telling_lines(sample: str) -> list[tuple[int, str]]:
    """Return the lines of a sample that name severities, facilities or the ports of syslog.

    Never those with secrets.
    """
    found = [
        (n, shorten(line.rstrip(), 100))
        for n, line in enumerate(sample.splitlines(), 1)
        if _TELLING.search(line) and not _HIDDEN.search(line)
    ]
    return found[:MOST_LINES]


def fitting_shapes(sample: str) -> list[str]:
    """Return the shapes that a sample may have, the likeliest first, by how its lines look."""
    lines = [line for line in sample.splitlines() if line.strip()]
    if not lines:
        return []
    if sample.lstrip()[:1] in ("<", "{"):
        return [DOCUMENT]
    if enclosing_words(sample) is not None:
        return [ENCLOSED]
    return likely_shapes(lines)


def enclosing_words(sample: str) -> tuple[str, str] | None:
    r"""Return the words that open blocks and shut them, if those of a sample do; None if there are
    no such words, or several pairs.

    >>> enclosing_words("part a\n x\nend\npart b\n y\nend\n")
    ('part', 'end')
    """
    firsts = [line.split() for line in sample.splitlines() if line.strip()]
    alone = Counter(words[0] for words in firsts if len(words) == 1 and words[0].isalpha())
    heads = Counter(words[0] for words in firsts if len(words) > 1)
    found = [
        (opens, shuts)
        for shuts, number in alone.items()
        for opens, same in heads.items()
        if same == number > 1 and _pair(firsts, opens, shuts)
    ]
    return found[0] if len(found) == 1 else None


def _pair(lines: Sequence[Sequence[str]], opens: str, shuts: str) -> bool:
    """Whether each line that shuts is the end of one that opens, with something between them."""
    depth = 0
    before = ""
    for words in lines:
        depth += (words[0] == opens and len(words) > 1) - (words == [shuts])
        if depth < 0 or (words == [shuts] and before == opens):
            return False
        before = words[0]
    return depth == 0


def comment_sign(sample: str) -> str:
    r"""Return the sign that most comments begin with; '#' if there are none.

    >>> comment_sign("! saved\n! today\nevents\n")
    '!'
    """
    signs: Counter[str] = Counter()
    for line in sample.splitlines():
        found = re.match(r"\s*(#|!|;|//|--)", line)
        if found:
            signs[found[1]] += 1
    return signs.most_common(1)[0][0] if signs else "#"


def draft_dialect(
    name: str, shape: str, sample: Sequence[tuple[int, str]], file: str, comment: str = "#"
) -> str:
    """Return the text of a dialect file to start from; it is valid as it is.

    `sample`: lines of the platform's text that look like export settings, with their numbers;
    `file`: what the sample is called; `comment`: what its comments begin with.
    """
    inside, statement = SHAPES[shape].draft or ("", "")
    named = "destination.name" in inside + statement
    lines = "\n".join(f"#   {n:>5}  {text}" for n, text in sample)
    return Template(_DRAFT).substitute(
        name=name,
        shape=shape,
        comment=comment,
        file=file,
        lines=lines or "#   none was found",
        lists=_LISTS if shape == DOCUMENT else "",
        key="[name]" if named else "[address, transport, port]",
        where=f'in: "{inside}", ' if inside else "",
        says=f'says: "{statement}"',
    )


_LISTS = """
# The lists of the tree and the keys of their entries:
lists: {target: [name]}
"""

_DRAFT = """# The dialect '$name': how one platform writes its export
# settings. The same patterns read and write.
# ivrel dialect try $name FILE     shows a text line by line, with what each line was understood as
# ivrel dialect check $name        runs the examples below in both directions
#
# Lines of $file that look like export settings:
$lines

dialect: $name
about: what kind of platform it is, in one line
shape: $shape
comment: "$comment"
change: {remove: "no-more"}   # the word that takes a statement away
$lists
# The tables that statements fill, and the fields that tell their rows apart.
rows:
  destination: {key: $key}
  # interface: {key: [name]}

# This platform's words for values; a value that is not listed cannot be said. For a type,
# or for one slot:
# spelling:
#   severity: {emergency: emerg, alert: alert, critical: crit, error: err, warning: warn,
#              notice: note, informational: info, debug: debug}
#   switch: {on: enabled, off: disabled}

# What holds where the text says nothing.
defaults:
  export: on
  destination.port: 514
  destination.transport: udp

# The statements: `in` is the enclosing block (several are divided by '/'), `says` the words and
# slots. `[…]` may be left out; `{stamp.year=shown:year}` is the word `year`, which means that the
# year is shown; `{any}` is any word. 'ivrel dialect show NAME' lists the slots of a dialect,
# docs/write-a-dialect.md all.
statements:
  - {$where$says}
  # - {in: "...", says: "facility {facility}"}
  # - {in: "...", says: "from {source.interface}"}
  # - {in: "...", says: "stamp {stamp.kind} [{stamp.precision}]"}

# Statements in those parts that bear on no setting: all that begin with these words.
# aside:
#   - {in: "...", starts: [screen, memory]}

# Texts with the settings that they mean: 'setting' or 'setting destination', as
# 'ivrel dialect try' names them.
# examples:
#   - text: |
#       ...
#     means:
#       export: on
"""
