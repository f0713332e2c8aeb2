"""What a policy asks of a value: one small set of forms that all settings share.

`facility: local6`                      that value
`facility: [local4, local6]`            any of them
`precision: {at-least: milliseconds}`   that or more; likewise `at-most`, `between: [a, b]`
`facility: {never: [kern, user]}`       none of them
`collectors: {exactly: [a, b]}`         this set; likewise `includes`, `never`

A range leaves a choice; `write` says which value a correction is to write.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from math import inf
from typing import Any

from msgspec import Struct
from msgspec.structs import replace
from yaml import MappingNode, ScalarNode, SequenceNode

from ivrel.core.form import ListOf, Node, Report, TextField, pairs
from ivrel.core.vocabulary.errors import Undecided
from ivrel.core.vocabulary.wording import listed, not_one_of

Needs = Mapping[str, Any]  # part of a setting ('' if it has none) to Need or SetNeed

SITE = "site"  # stands for what the policy's table says of a device's site

FORMS = ("exactly", "any-of", "at-least", "at-most", "between", "never", "write")
SET_FORMS = ("exactly", "includes", "never")


class Need(Struct, frozen=True):
    """What is asked of one value; a field that is None or empty asks nothing.

    `order`: least first; `prefer`: what to write of a range, before anything else of it; `unsure`:
    whether more is preferred behind that, which is not known yet.
    """

    any_of: tuple[str, ...] | None = None
    least: str | None = None
    most: str | None = None
    never: tuple[str, ...] = ()
    write: str | None = None
    order: tuple[str, ...] = ()
    numbers: bool = False
    prefer: tuple[str, ...] = ()
    unsure: bool = False

    def accepts(self, value: str) -> bool:
        """Whether a value is as asked."""
        if self.any_of is not None and value not in self.any_of:
            return False
        if value in self.never:
            return False
        if self.least is None and self.most is None:
            return True
        # What has no place in the order is in no range.
        at = self.rank(value)
        if at is None:
            return False
        least = self.rank(self.least)
        most = self.rank(self.most)
        return (least is None or at >= least) and (most is None or at <= most)

    def rank(self, value: str | None) -> float | None:
        """Return where a value is in its order; 'none' of a number is no limit at all."""
        if value is None:
            return None
        if self.numbers:
            return (
                inf
                if value == "none"
                else int(value)
                if value.isascii() and value.isdigit()
                else None
            )
        return self.order.index(value) if value in self.order else None

    def only(self, value: str) -> Need:
        """Return the same need, narrowed to one value."""
        return Need(any_of=(value,), order=self.order, numbers=self.numbers)

    def for_new(self, can: Callable[[str], bool]) -> Need:
        """Return the need for what is not there yet: it gets what the policy says to write, or what
        is preferred, if that can be said. Undecided if it is not known what is preferred.
        """
        wanted = (v for v in (self.write, *self.prefer) if v is not None)
        value = next((v for v in wanted if self.accepts(v) and can(v)), None)
        if value is None and self.unsure:
            raise Undecided
        return self if value is None else self.only(value)

    def choose(self, can: Callable[[str], bool]) -> str | None:
        """Return the value to write: `write`, else the first that is asked for and can be said.

        None if none. Undecided if it is not known what is preferred.

        Of a range that is what is preferred; else, with two ends, its most, which keeps all that
        may be kept; of one with a single end, that.
        """
        # In the order of preference; what the rest of the need forbids falls away at the end.
        wanted = [self.write] if self.write else []
        if self.any_of is not None:
            wanted += self.any_of
        wanted += self.prefer
        if self.unsure:
            for value in wanted:
                if self.accepts(value) and can(value):
                    return value
            raise Undecided
        if self.numbers:
            wanted += [end for end in (self.least, self.most) if end is not None]
        elif self.least is not None and self.most is not None:
            ends = self.order.index(self.least), self.order.index(self.most) + 1
            wanted += reversed(self.order[ends[0] : ends[1]])
        elif self.least is not None:
            wanted += self.order[self.order.index(self.least) :]
        elif self.most is not None:
            wanted += reversed(self.order[: self.order.index(self.most) + 1])
        return next((value for value in wanted if self.accepts(value) and can(value)), None)

    def with_site(self, values: tuple[str, ...]) -> Need:
        """Return the same need with `site` replaced by its value."""
        return replace(self, any_of=_replaced(self.any_of or (), values))

    @property
    def text(self) -> str:
        """The need in words."""
        out: list[str] = []
        if self.any_of is not None:
            out.append(listed(self.any_of))
        if self.least is not None and self.most is not None:
            out.append(f"from {self.least} to {self.most}")
        elif self.least is not None:
            out.append(f"{self.least} or more")
        elif self.most is not None:
            out.append(f"{self.most} or less")
        if self.never:
            out.append(f"never {listed(self.never)}")
        return ", ".join(out)


class SetNeed(Struct, frozen=True):
    """What is asked of a set of names."""

    exactly: tuple[str, ...] | None = None
    includes: tuple[str, ...] = ()
    never: tuple[str, ...] = ()
    apart: tuple[str, ...] = ()  # what no two or more of them may all share: a site, a path

    def with_site(self, values: tuple[str, ...]) -> SetNeed:
        """Return the same need with `site` replaced by its value."""
        exactly = None if self.exactly is None else _replaced(self.exactly, values)
        includes = _replaced(self.includes, values)
        never = _replaced(self.never, values)
        return replace(self, exactly=exactly, includes=includes, never=never)

    @property
    def wanted(self) -> tuple[str, ...]:
        """The names that must be there."""
        return self.exactly if self.exactly is not None else self.includes

    @property
    def text(self) -> str:
        """The need in words."""
        out = []
        if self.exactly is not None:
            out.append("exactly " + (", ".join(self.exactly) or "none"))
        if self.includes:
            out.append("at least " + ", ".join(self.includes))
        if self.never:
            out.append("never " + listed(self.never))
        if self.apart:
            out.append(f"by two {' and two '.join(f'{what}s' for what in self.apart)} or more")
        return "; ".join(out)


def _replaced(names: tuple[str, ...], values: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(v for name in names for v in (values if name == SITE else (name,))))


def read_need(
    node: Node,
    report: Report,
    parse: Callable[[str], Any],
    choices: Sequence[str] = (),
    *,
    ordered: bool = False,
    numbers: bool = False,
    also: Mapping[str, str] | None = None,
) -> Need | None:
    """Read what is asked of one value; `also` names further words for the forms.

    `choices`: the values that there are; `ordered`: least first, so that ranges mean something, as
    they do for `numbers`.
    """
    expected = f"one of {', '.join(choices)}" if choices else "a value"
    order = tuple(choices) if ordered else ()

    def known(text: str) -> str:
        try:
            return str(parse(text))
        except ValueError as problem:
            said = not_one_of(text, choices) if choices else str(problem)
            raise ValueError(said) from None

    value = TextField(expected, known)
    if isinstance(node, ScalarNode):
        one = value.read(node, report)
        return None if one is None else Need(any_of=(one,), order=order, numbers=numbers)
    if isinstance(node, SequenceNode):
        many = ListOf(value, filled=True).read(node, report)
        return Need(any_of=many, order=order, numbers=numbers) if many else None
    fields: dict[str, Any] = {"order": order, "numbers": numbers}
    before = len(report.mistakes)
    ranges = ("at-least", "at-most", "between")
    ranged = bool(order) or numbers
    forms = [f for f in (*FORMS, *(also or ())) if ranged or f not in ranges]
    for key, child in pairs(node, report):
        form = (also or {}).get(key.value, key.value)
        if form not in FORMS or (form in ranges and not ranged):
            report.add(key, f"form {not_one_of(key.value, forms)}")
        elif form in ("any-of", "exactly", "never"):
            name = "never" if form == "never" else "any_of"
            fields[name] = ListOf(value, one_is_enough=form != "any-of", filled=True).read(
                child, report
            )
        elif form == "between":
            ends = ListOf(value).read(child, report)
            if len(ends) == 2:
                fields["least"], fields["most"] = ends
            else:
                report.add(child, "expected two values, [least, most]")
        else:
            name = {"at-least": "least", "at-most": "most", "write": "write"}[form]
            fields[name] = value.read(child, report)
    if len(report.mistakes) > before or not isinstance(node, MappingNode):
        return None
    need = Need(**fields)
    _check(need, node, report)
    return need if len(report.mistakes) == before else None


def _check(need: Need, node: Node, report: Report) -> None:
    """Report contradictions, which no value can meet."""
    if need.any_of is None and need.least is None and need.most is None and not need.never:
        report.add(node, "asks for nothing; expected a value or one of " + ", ".join(FORMS[:-1]))
        return
    least = need.rank(need.least)
    most = need.rank(need.most)
    if least is not None and most is not None and least > most:
        report.add(
            node, f"contradictory: {need.least} is more than {need.most}; nothing lies between them"
        )
        return
    if need.any_of is not None and not any(need.accepts(v) for v in need.any_of):
        report.add(
            node, f"contradictory: nothing is both {listed(need.any_of)} and allowed by the rest"
        )
    # A correction that writes what the policy itself refuses would never end.
    elif need.write is not None and not need.accepts(need.write):
        report.add(node, f"contradictory: 'write: {need.write}' is not {need.text}")


def read_parts(
    node: Node, report: Report, parts: Mapping[str, Callable[[Node], Any]], what: str = "part"
) -> dict[str, Any] | None:
    """Read what is asked of the parts of a setting; `parts` reads each by its name."""
    needs: dict[str, Any] = {}
    before = len(report.mistakes)
    for key, child in pairs(node, report):
        if key.value not in parts:
            report.add(key, f"{what} {not_one_of(key.value, tuple(parts))}")
        else:
            needs[key.value] = parts[key.value](child)
    if not needs and len(report.mistakes) == before:
        report.add(node, f"asks for nothing; expected one of {', '.join(parts)}")
    return needs if len(report.mistakes) == before else None


def read_set_need(
    node: Node, report: Report, parse: Callable[[str], Any], *, apart: tuple[str, ...] = ()
) -> SetNeed | None:
    """Read what is asked of a set of names; `apart`: what it can be asked not to share."""
    names = ListOf(TextField("a name", parse), one_is_enough=True)
    before = len(report.mistakes)
    if not isinstance(node, MappingNode):
        exactly = names.read(node, report)
        return SetNeed(exactly=exactly) if len(report.mistakes) == before else None
    fields: dict[str, Any] = {}
    for key, child in pairs(node, report):
        if key.value == "apart" and apart:
            fields["apart"] = ListOf(
                TextField("what", choices=apart), one_is_enough=True, filled=True
            ).read(child, report)
        elif key.value not in SET_FORMS:
            report.add(key, f"form {not_one_of(key.value, SET_FORMS)}")
        else:
            fields[key.value] = names.read(child, report)
    if not fields and len(report.mistakes) == before:
        report.add(node, f"asks for nothing; expected a list or one of {', '.join(SET_FORMS)}")
    need = SetNeed(**fields)
    # Told here, where the policy is read, and not as a device that never meets it.
    both = set(need.wanted) & set(need.never)
    if both:
        report.add(
            node, f"contradictory: {', '.join(sorted(both))} both asked for and never allowed"
        )
    if need.exactly is not None and set(need.includes) - set(need.exactly):
        report.add(node, "contradictory: 'includes' names what 'exactly' leaves out")
    return need if len(report.mistakes) == before else None
