"""Compiles the text of a pattern into items."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from ivrel.core.dialects.items import (
    Any,
    Flag,
    Item,
    Literal,
    Maybe,
    Spelling,
    Variable,
    flat,
    opening,
)
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.slots import SLOTS, unknown_slot
from ivrel.core.vocabulary.addresses import FAMILIES
from ivrel.core.vocabulary.values import ADDRESS, HOST, INET, WORD
from ivrel.core.vocabulary.wording import not_one_of

_SLOT = re.compile(r"\{([^{}=:]*)(?:=([^{}=:]*):([^{}:=,\s]+))?\}")
_WRONG_SLOT = re.compile(r"\{[^{}]*\}")
_FIRST = 0xE000  # the first sign that stands for a slot, of those that no text holds
_MARK = re.compile("[\ue000-\uefff]")


def compile_pattern(
    says: str | Sequence[str],
    inside: str,
    split: Callable[[str], Sequence[str]],
    spelling: Spelling,
    *,
    keys: Sequence[str] = (),
    removed_by: str | None = None,
    line: int = 0,
    qualified: bool = False,
) -> Pattern:
    """Compile the text of a pattern; ValueError tells what is wrong with it.

    `split` cuts a line into words as the dialect's shape does; `inside` is the enclosing path, its
    headers divided by '/'; `keys` are the slots that tell rows apart.
    """

    def compiled(text: str) -> tuple[Item, ...]:
        return _items(text, split, spelling, qualified)

    path = tuple(compiled(part.strip()) for part in inside.split("/")) if inside else ()
    items = compiled(str(says))
    slots = tuple(
        dict.fromkeys(
            i.slot for part in (*path, items) for i in flat(part) if isinstance(i, Variable | Flag)
        )
    )
    # A removal names the row; with the value in it, it would fail where the value is another.
    removal = compiled(removed_by) if removed_by else _named_by(items, keys)
    return Pattern(path, items, slots, removal, opening(items), line, _named_by(items, keys))


def _named_by(items: tuple[Item, ...], keys: Sequence[str]) -> tuple[Item, ...]:
    """Return all up to the first value that is no key: what is left when the value is."""
    out: list[Item] = []
    for item in items:
        if isinstance(item, Variable) and item.slot in keys:
            out.append(item)
        elif isinstance(item, Literal):
            # The sign leads to the value, and goes with it.
            if item.word != "=":
                out.append(item)
        else:
            break
    return tuple(out)


def _items(
    text: str, split: Callable[[str], Sequence[str]], spelling: Spelling, qualified: bool
) -> tuple[Item, ...]:
    """Return the items of a text; ValueError tells what is wrong with it."""
    held: list[Item] = []

    def hold(match: re.Match[str]) -> str:
        held.append(_slot(match, spelling, qualified))
        return chr(_FIRST + len(held) - 1)

    # Each slot is one sign while the text is cut into words, whatever is in its braces.
    marked = _SLOT.sub(hold, text)
    if "{" in marked or "}" in marked:
        wrong = _WRONG_SLOT.search(marked)
        if wrong is None:
            raise ValueError(f"a brace in '{text}' has no partner; slots are written {{name}}")
        expected = "expected {name}, or {name=value:word} with one word"
        raise ValueError(f"'{wrong[0]}' is not a slot; {expected}")
    words: list[str] = []
    for piece in re.split(r"([\[\]])", marked):
        if piece in ("[", "]"):
            words.append(piece)
        elif piece.strip():  # a shape may take nothing for an empty word
            words += split(piece)
    return _nested(words, held, text)


def _slot(match: re.Match[str], spelling: Spelling, qualified: bool) -> Item:
    """Return the item of what is in braces."""
    name, value, word = (part and part.strip() for part in match.groups())
    first, _, behind = (name or "").partition(" ")
    family = FAMILIES.get(first, "")
    is_rest = first == "rest"
    name = behind.strip() if family or is_rest else name
    if name == "any":
        return Any()
    if name not in SLOTS:
        raise ValueError(f"slot {unknown_slot(name or '')}")
    kind = SLOTS[name].type
    if family and kind not in (ADDRESS, HOST, INET):
        raise ValueError(f"'{first}' narrows addresses, and {name} is none")
    if is_rest and kind is not WORD:
        raise ValueError(f"'rest' is for a text of several words, and {name} is none")
    if value is not None:
        if kind.choices and value not in kind.choices:
            raise ValueError(f"value {not_one_of(value, kind.choices)}")
        return Flag(name, value, word or "")
    words = spelling.get(name) or spelling.get(kind.name)
    if not words:
        return Variable(name, None, None, qualified, family, is_rest)
    # Of several spellings the first is written; all are read.
    spelled = {meant: said[0] for meant, said in words.items()}
    back = {word: meant for meant, said in words.items() for word in said}
    return Variable(name, spelled, back, qualified, family)


def _nested(words: Sequence[str], held: Sequence[Item], text: str) -> tuple[Item, ...]:
    """Return words as items, with what is in brackets as optional parts."""
    stack: list[list[Item]] = [[]]
    for word in words:
        if word == "[":
            stack.append([])
        elif word == "]":
            if len(stack) == 1:
                raise ValueError(f"']' in '{text}' without '['")
            inner = tuple(stack.pop())
            stack[-1].append(Maybe(inner))
        elif len(word) == 1 and _MARK.match(word):
            stack[-1].append(held[ord(word) - _FIRST])
        elif _MARK.search(word):
            raise ValueError(f"a slot in '{text}' is only a part of a word; a slot is a whole word")
        else:
            stack[-1].append(Literal(word))
    if len(stack) > 1:
        raise ValueError(f"'[' in '{text}' without ']'")
    return tuple(stack[0])
