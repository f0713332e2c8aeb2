"""Writes what was learned as the file of a dialect, as if by hand."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from itertools import takewhile
from typing import Any

from ivrel.core.authoring.learning.answers import quoted
from ivrel.core.authoring.learning.as_yaml import flow, word
from ivrel.core.authoring.learning.learn import Learned, LearnedRow
from ivrel.core.authoring.learning.meaning import Piece
from ivrel.core.authoring.learning.questions import candidates
from ivrel.core.authoring.learning.spelling import spelling
from ivrel.core.authoring.learning.spellings import coded, fits
from ivrel.core.authoring.learning.telling import NAMES_VALUE, as_told, is_shared, may_tell
from ivrel.core.authoring.learning.templates import NAME, Template
from ivrel.core.dialects.slots import SLOTS, table_of
from ivrel.core.shapes.shape import UNKNOWN
from ivrel.core.vocabulary.wording import shorten

# One severity may be a threshold, or that severity alone: no sample tells.
_TAKEN = "taken for a threshold, that severity and all more urgent"
_CODES = "its numbers taken for those of RFC 5424"
_REFER = ("feed", "give", "take", "pick", "gate")  # tables whose rows refer to collectors
# Tables whose rows have two names.
_TWOFOLD = {"give": ["feed", "destination"], "take": ["feed", "category"]}
_DOUBTS = 40  # that are written


def written(learned: Learned) -> str:
    """Return the text of the dialect's file."""
    pages = [
        _head(learned),
        spelling(learned),
        _rows(learned),
        _defaults(learned),
        _statements(learned),
        _aside(learned),
        _doubts(learned),
    ]
    return "\n".join(page for page in pages if page)


def _head(learned: Learned) -> str:
    options = "".join(f"{name}: {flow(value)}\n" for name, value in _options(learned))
    answers = learned.answers
    inside = f", inside: {quoted(answers.inside)}" if learned.traits.needs_block else ""
    change = f"{{remove: {quoted(answers.remove)}{inside}}}"
    told = "" if answers.remove != UNKNOWN else "   # no sample tells how statements are taken away"
    if learned.is_standard:
        change, told = "{remove: delete, form: standard}", "   # as RFC 6241 and RFC 8072 have it"
    samples = ", ".join(map(shorten, learned.samples[:6]))
    samples += " and others" if len(learned.samples) > 6 else ""
    return (
        f"# The dialect '{learned.name}', learned from {samples}.\n"
        "# Read what stands behind each statement, and say whether it is true.\n"
        f"dialect: {learned.name}\n"
        f"about: {quoted(answers.about)}\n"
        f"shape: {learned.shape}   # {learned.why}\n"
        f"{options}"
        f"{_channels(learned)}"
        f"change: {change}{told}\n"
    )


def _options(learned: Learned) -> Iterable[tuple[str, Any]]:
    """Yield the options of the shape: of a tree, what they say of names that are of any use."""
    templates = (*(row.template for row in learned.rows), *learned.aside)
    names = {word for template in templates for word in template.keys}
    names.add(learned.options.get("wrapper", ""))
    for name, value in learned.options.items():
        if learned.traits.is_document and isinstance(value, Mapping):
            value = {tag: said for tag, said in value.items() if tag in names}
        elif learned.traits.is_document and isinstance(value, list):
            value = [tag for tag in value if tag in names]
        if value:
            yield name, value


def _channels(learned: Learned) -> str:
    """Return the planes of messages: as they were answered, or else each category is one."""
    answers = learned.answers
    if answers.channels:
        some = (f"{word(name)}: {flow(words)}" for name, words in answers.categories.items())
        return f"channels: {flow(answers.channels)}\ncategories: {{{', '.join(some)}}}\n"
    if categories := learned.names("take.category"):
        return f"channels: {flow(categories)}\n"
    if planes := learned.names("feed.name"):
        why = "which categories of messages go by each, no sample tells"
        example = f"# categories: {{{planes[0]}: [system, login], …}}"
        return f"channels: {flow(planes)}   # {why}\n{example}\n"
    return ""


def _rows(learned: Learned) -> str:
    keys: dict[str, list[str]] = {}
    slots = {slot for row in learned.known for slot in row.slots}
    for row in learned.known:
        for slot in row.meaning.names.values():
            table = table_of(slot)
            keys[table] = _TWOFOLD.get(table) or [slot.partition(".")[2]]
    if "destination" not in keys and "destination.address" in slots:
        fields = ("address", "transport", "port")
        keys["destination"] = [field for field in fields if f"destination.{field}" in slots]
    for name in ("server", "resolver"):
        if name not in keys and f"{name}.address" in slots:
            keys[name] = ["address"]
    most = {name: f", most: {number}" for name, number in learned.answers.most.items()}
    lines = "".join(
        f"  {name}: {{key: {flow(key)}{_whole(learned, name, key)}{most.get(name, '')}}}"
        f"{_seen(learned, name)}\n"
        for name, key in sorted(keys.items(), key=lambda pair: pair[0] in _REFER)
    )
    about = "# The tables that statements fill, and the fields that tell their rows apart.\n"
    return f"{about}rows:\n{lines}"


def _whole(learned: Learned, table: str, key: Sequence[str]) -> str:
    """Return the words that take a row away with all that is in it: the header that names it, or
    the beginning of a path that does.
    """
    if table not in _GO_AS_A_WHOLE:
        return ""
    found = set()
    for row in learned.known:
        names = row.meaning.names
        slots = {slot.partition(".")[2] for slot in names.values() if table_of(slot) == table}
        if not slots:
            continue
        if slots != set(key):
            return ""
        path, front = _named(row.template, names)
        depth = max((n for n, header in enumerate(path) if "{" in "".join(header)), default=-1)
        headers = path if depth >= 0 else [front]
        words = headers[depth]
        last = max(n for n, one in enumerate(words) if one.startswith("{"))
        by = learned.traits.joint.join(words[: last + 1])
        # Words at the beginning of a statement name it alone, but for those of a path.
        if depth < 0 and not learned.traits.dotted_names:
            return ""
        inside = " / ".join(map(" ".join, path[: max(depth, 0)]))
        found.add((f', in: "{inside}"' if inside else "") + f', removed-by: "{by}"')
    return found.pop() if len(found) == 1 else ""


# Tables whose rows corrections take away.
_GO_AS_A_WHOLE = ("destination", "pick", "take", "give", "mute", "server", "resolver")


def _seen(learned: Learned, table: str) -> str:
    """Return how many collectors a sample had at most: no less is the limit of the platform."""
    if table != "destination" or table in learned.answers.most:
        return ""
    number = Counter(
        said.sample for row in learned.known for said, _ in row.values("destination.address")
    )
    return f"   # as many as {max(number.values())} in a sample" if number else ""


def _defaults(learned: Learned) -> str:
    about = (
        "# What holds where a text says nothing: no sample can tell. Ask the platform's manual.\n"
    )
    if not learned.answers.defaults:
        return f"{about}# defaults: {{export: on, destination.port: 514}}\n"
    said = "".join(f"  {slot}: {value}\n" for slot, value in learned.answers.defaults.items())
    return f"# What holds where a text says nothing.\ndefaults:\n{said}"


def _statements(learned: Learned) -> str:
    lines = ["statements:\n"]
    # What others refer to stands first, and is written first.
    rows = sorted(learned.known, key=lambda row: any(table_of(s) in _REFER for s in row.slots))
    for row in rows:
        said = statement(learned, row)
        taken = f"; {_TAKEN}" if any(slot.endswith("level") for slot in row.slots) else ""
        codes = f"; {_CODES}" if _has_codes(row) else ""
        lines.append(f"  - {{{said}}}   # {row.meaning.why}{taken}{codes}\n")
    return "".join(lines)


def _has_codes(row: LearnedRow) -> bool:
    """Whether a severity or a facility was seen as a number."""
    kinds = ((SLOTS[slot].type.name, slot) for slot in row.slots)
    return any(coded(kind, word) for kind, slot in kinds for _, word in row.values(slot))


def statement(learned: Learned, row: LearnedRow) -> str:
    """Return a learned row as a statement of a dialect's file, without its braces."""
    template = row.template
    path, front = _named(template, row.meaning.names)
    inside = " / ".join(map(learned.traits.header_joint.join, path))
    if template.assigns:
        says = " ".join([learned.traits.name_joint.join(front), "=", *_values(row)])
    else:
        says = " ".join([*front, *_values(row)])
    where = f'in: "{inside}", ' if inside else ""
    removed_by = "" if template.said[0].listed else _removed_by(row, front)
    return f'{where}says: "{says}"{removed_by}'


def _removed_by(row: LearnedRow, front: Sequence[str]) -> str:
    """Return the words that name a statement which holds a whole collector, when it is removed: up
    to the last that tells it from others.
    """
    values = _values(row)
    keys = [n for n, value in enumerate(values) if any(f"{{{slot}}}" in value for slot in _TELLING)]
    if row.template.row or not keys or "destination.address" not in row.slots:
        return ""
    if max(keys) + 1 == len(values):
        return ""
    return f', removed-by: "{" ".join([*front, *values[: max(keys) + 1]])}"'


# By what collectors are distinguished that have no name.
_TELLING = ("destination.address", "destination.transport", "destination.port")


def _named(template: Template, names: Mapping[int, str]) -> tuple[list[list[str]], list[str]]:
    """Return the path and the front of a template, with slots in the place of names."""
    at = 0

    def slots(words: Sequence[str]) -> list[str]:
        nonlocal at
        out = []
        for one in words:
            # A text may hold the sign for a name as a word of its own.
            out.append(f"{{{names[at]}}}" if one == NAME and at in names else one)
            at += 1
        return out

    path = [slots(header) for header in template.path]
    return path, slots(template.front)


def _values(row: LearnedRow) -> list[str]:
    template = row.template
    meaning = row.meaning
    if meaning.pieces:
        return _pieces(meaning.pieces)
    if meaning.flow:
        out = []
        for slot in meaning.flow:
            in_all = all(_says(slot, said.values) for said in template.said)
            flag = slot.rpartition(".")[2]
            said = f"{slot}=shown:{flag}" if flag in ("year", "zone") else slot
            out.append(f"{{{said}}}" if in_all and flag == "kind" else f"[{{{said}}}]")
        return out
    width = len(template.said[0].values)
    words = (template.column(n)[0] for n in range(width))
    out = []
    for n, said in enumerate(words):
        if n in meaning.columns:
            out.append(f"{{{meaning.columns[n]}}}")
        else:
            # A word right before a value that is known names that value.
            names = n + 1 in meaning.columns and NAMES_VALUE.fullmatch(said)
            told = names or is_shared(template, n) or may_tell(said)
            out.append(said if told else "{any}")
    return out


def _pieces(pieces: Sequence[Piece]) -> list[str]:
    """Return the pieces of statements that leave words out."""
    out: list[str] = []
    for piece in pieces:
        said = " ".join([*piece.words, *([f"{{{piece.slot}}}"] if piece.slot else [])])
        out.append(f"[{said}]" if piece.optional else said)
    free = [n for n, piece in enumerate(pieces) if piece.optional]
    if free and pieces[free[0]].nested:
        # Each holds those behind it: `[PORT [TRANSPORT]]`, as one.
        inner = ""
        for n in reversed(free):
            inner = f"{out[n][:-1]}{f' {inner}' if inner else ''}]"
        out = [*(said for n, said in enumerate(out) if n not in free), inner]
    return out


def _says(slot: str, values: Sequence[str]) -> bool:
    return any(fits(slot, [word]) for word in values)


def _aside(learned: Learned) -> str:
    if not learned.aside:
        return ""
    lines = []
    known = {row.template.path[:n] for row in learned.known for n in range(9)}
    between = learned.traits.joint
    for template in learned.aside:
        # A block in which nothing is known is set aside as a whole.
        whole = next(
            (n for n in range(len(template.path)) if template.path[: n + 1] not in known), -1
        )
        path = template.path if whole < 0 else template.path[:whole]
        words = template.front if whole < 0 else template.path[whole]
        inside = " / ".join(between.join(header) for header in path)
        where = f'in: "{inside}", ' if inside and NAME not in inside else ""
        front = list(takewhile(lambda word: word != NAME, words))
        if front:
            lines.append(f'  - {{{where}starts: ["{between.join(front)}"]}}\n')
    about = "# Statements that bear on nothing.\n"
    return f"{about}aside:\n{''.join(dict.fromkeys(lines))}"


def _doubts(learned: Learned) -> str:
    doubtful = learned.doubtful
    if not doubtful:
        return ""
    lines = [
        "# In doubt: statements of the export part that have no pattern yet. Until they have one,\n"
        "# or stand under `aside`, what they may bear on is unknown.\n"
    ]
    for row in doubtful[:_DOUBTS]:
        template = row.template
        first = row.template.said[0]
        said = as_told(template)
        number = len(template.said)
        times = f", {number} times" if number > 1 else ""
        lines.append(f"#   {said}   ({first.sample}:{first.line}{times}): {row.meaning.doubt}\n")
        lines += (f"#     perhaps {one}\n" for one in candidates(learned, row))
    if len(doubtful) > _DOUBTS:
        lines.append(f"#   and {len(doubtful) - _DOUBTS} more; 'ivrel dialect cover' tells all\n")
    return "".join(lines)
