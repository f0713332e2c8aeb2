"""Forms of YAML files: one description of each file both checks it, with line and column, and
publishes it.

A form reads a composed YAML node into plain values and reports every mistake on the way; a field
that is wrong reads as None and the reading goes on, so that one run shows all mistakes. Scalars are
taken as they are written (`on` stays 'on'): YAML's own guesses about types do not apply.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Protocol

import yaml

from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.core.vocabulary.wording import listed, not_one_of, shorten

_Loader: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)

Node = yaml.nodes.Node


class Report:
    """Collects the mistakes of one file."""

    def __init__(self, file: str) -> None:
        self.file = file
        self.mistakes: list[Mistake] = []

    def add(self, node: Node | None, said: str) -> None:
        """Note a mistake at `node`."""
        mark = node.start_mark if node is not None else None
        line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
        self.mistakes.append(Mistake(self.file, said, line, column))

    def settle(self) -> None:
        """Raise what was collected, if anything was."""
        if self.mistakes:
            raise InputError(self.mistakes)


class Form(Protocol):
    """What a part of a file must look like."""

    def read(self, node: Node, report: Report) -> Any:
        """Return what a node says; None, and a mistake in the report, if it is wrong."""

    def schema(self) -> dict[str, Any]:
        """Return the JSON Schema of what is read."""


class TextField:
    """A scalar; `parse` turns it into a value and raises ValueError with what was expected."""

    def __init__(
        self, expected: str, parse: Callable[[str], Any] = str, *, choices: tuple[str, ...] = ()
    ) -> None:
        self.expected = expected
        self.parse = parse
        self.choices = choices

    def read(self, node: Node, report: Report) -> Any:
        if not isinstance(node, yaml.ScalarNode):
            report.add(node, f"expected {self.expected}, not {_kind(node)}")
            return None
        text = str(node.value)
        # Printable text may still hold line ends and tabs. What a terminal would act on is refused:
        # values are printed.
        if not text.isprintable() and any(
            (ord(c) < 32 and c not in "\n\t") or ord(c) == 127 for c in text
        ):
            report.add(node, "holds a control character; expected text")
            return None
        if self.choices and text not in self.choices:
            report.add(node, not_one_of(text, self.choices))
            return None
        try:
            return self.parse(text)
        except ValueError as problem:
            report.add(node, str(problem) or f"'{shorten(text)}' is not {self.expected}")
            return None

    def schema(self) -> dict[str, Any]:
        if self.choices:
            return {"enum": list(self.choices)}
        return {"type": ["string", "number", "boolean"], "description": self.expected}


class ListOf:
    """A list; with `one_is_enough`, a single item counts as a list of one."""

    def __init__(self, item: Form, *, one_is_enough: bool = False, filled: bool = False) -> None:
        self.item = item
        self.one_is_enough = one_is_enough
        self.filled = filled

    def read(self, node: Node, report: Report) -> tuple[Any, ...]:
        if isinstance(node, yaml.SequenceNode):
            if self.filled and not node.value:
                report.add(node, "the list is empty; expected at least one entry")
            return tuple(
                v for v in (self.item.read(n, report) for n in node.value) if v is not None
            )
        if self.one_is_enough and not _is_empty(node):
            value = self.item.read(node, report)
            return () if value is None else (value,)
        report.add(node, f"expected a list, not {_kind(node)}")
        return ()

    def schema(self) -> dict[str, Any]:
        many: dict[str, Any] = {"type": "array", "items": self.item.schema()}
        if self.filled:
            many["minItems"] = 1
        return {"anyOf": [self.item.schema(), many]} if self.one_is_enough else many


class MapOf:
    """A mapping from names of any kind to values of one form."""

    def __init__(self, value: Form, key: Form | None = None) -> None:
        self.value = value
        self.key = key

    def read(self, node: Node, report: Report) -> dict[Any, Any]:
        out: dict[Any, Any] = {}
        for key, child in pairs(node, report):
            name = self.key.read(key, report) if self.key else str(key.value)
            value = self.value.read(child, report)
            if name is not None and value is not None:
                out[name] = value
        return out

    def schema(self) -> dict[str, Any]:
        names = {"propertyNames": self.key.schema()} if self.key else {}
        return {"type": "object", "additionalProperties": self.value.schema(), **names}


class Key:
    """One key of a record: its form, whether it must be there, and one line of meaning."""

    def __init__(self, form: Form, meaning: str, *, must: bool = False) -> None:
        self.form = form
        self.meaning = meaning
        self.must = must


class MappingField:
    """A mapping with known keys; `build` gets what was read, and the node under `at`."""

    def __init__(
        self, what: str, keys: Mapping[str, Key], build: Callable[..., Any] | None = None
    ) -> None:
        self.what = what
        self.keys = keys
        self.build = build

    def read(self, node: Node, report: Report) -> Any:
        """Return what could be read, even if other keys are wrong.

        None if a key that must be there is not.
        """
        if not isinstance(node, yaml.MappingNode):
            report.add(node, f"expected {self.what} with its keys and values, not {_kind(node)}")
            return None
        values: dict[str, Any] = {}
        present = set()
        for key, child in pairs(node, report):
            known = self.keys.get(key.value)
            if known is None:
                report.add(key, f"key {not_one_of(key.value, self.keys)}")
                continue
            # A key whose value is wrong is there all the same, and is not told as missing.
            present.add(key.value)
            value = known.form.read(child, report)
            if value is not None:
                values[key.value.replace("-", "_")] = value
        musts = [key for key, known in self.keys.items() if known.must]
        missing = [repr(key) for key in musts if key not in present]
        if missing:
            report.add(node, f"{self.what} without {listed(missing)}")
        # What must be there was wrong and has been told: nothing can be built without it.
        if any(key.replace("-", "_") not in values for key in musts):
            return None
        return self.build(at=node, **values) if self.build else values

    def schema(self) -> dict[str, Any]:
        return {
            "type": "object",
            "additionalProperties": False,
            "required": [k for k, v in self.keys.items() if v.must],
            "properties": {
                k: {**v.form.schema(), "description": v.meaning} for k, v in self.keys.items()
            },
        }


class Raw:
    """Leaves the node to somebody who knows more, who reads it with the same report."""

    def __init__(self, schema: dict[str, Any] | None = None) -> None:
        self._schema = schema or {}

    def read(self, node: Node, report: Report) -> Node:
        return node

    def schema(self) -> dict[str, Any]:
        return self._schema


def pairs(node: Node, report: Report) -> list[tuple[yaml.ScalarNode, Node]]:
    """Return the keys and values of a mapping. Repeated keys, and keys other than text, are
    mistakes.
    """
    if _is_empty(node):
        return []
    if not isinstance(node, yaml.MappingNode):
        report.add(node, f"expected keys and values, not {_kind(node)}")
        return []
    seen: dict[str, int] = {}
    out: list[tuple[yaml.ScalarNode, Node]] = []
    for key, child in node.value:
        if not isinstance(key, yaml.ScalarNode):
            report.add(key, f"expected a name as key, not {_kind(key)}")
        elif not key.value.isprintable():
            report.add(key, "holds a control character; expected a name")
        elif key.value in seen:
            report.add(
                key, f"key '{key.value}' stands twice; the first is in line {seen[key.value]}"
            )
        else:
            seen[key.value] = key.start_mark.line + 1
            out.append((key, child))
    return out


def read_yaml(text: str, file: str, form: Form) -> tuple[Any, Report]:
    """Read a YAML text according to `form`.

    The report may contain mistakes; the caller adds its own.
    """
    report = Report(file)
    try:
        node = yaml.compose(text, Loader=_Loader)
    except yaml.MarkedYAMLError as problem:
        # YAML names where it stopped; only some mistakes have nothing but where their part began.
        mark = problem.problem_mark or problem.context_mark
        line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
        raise InputError([Mistake(file, f"not YAML: {problem.problem}", line, column)]) from None
    except (yaml.YAMLError, RecursionError) as problem:
        said = str(problem).splitlines()[0] if str(problem) else "nested too deeply"
        raise InputError([Mistake(file, f"not YAML: {said}", 1, 1)]) from None
    if node is None:
        raise InputError([Mistake(file, "the file is empty; expected keys and values", 1, 1)])
    # Without this sign there is no alias, and most files are spared the walk.
    if "&" in text:
        _refuse_aliases(node, file)
    return form.read(node, report), report


def _refuse_aliases(node: Node, file: str) -> None:
    """Reject YAML aliases: a few of them can expand to a huge document."""
    # An alias gives the very same object again, which its identity shows.
    seen: set[int] = set()
    rest = [node]
    while rest:
        one = rest.pop()
        if id(one) in seen:
            line, column = place(one)
            raise InputError(
                [
                    Mistake(
                        file,
                        "is used again by an alias; expected every part written out",
                        line,
                        column,
                    )
                ]
            )
        seen.add(id(one))
        if isinstance(one, yaml.MappingNode):
            rest += [part for pair in one.value for part in pair]
        elif isinstance(one, yaml.SequenceNode):
            rest += one.value


def place(node: Node) -> tuple[int, int]:
    """Return line and column of a node, counted from 1."""
    return node.start_mark.line + 1, node.start_mark.column + 1


def _is_empty(node: Node) -> bool:
    return isinstance(node, yaml.ScalarNode) and node.value in ("", "~", "null") and not node.style


def _kind(node: Node) -> str:
    if isinstance(node, yaml.MappingNode):
        return "keys and values"
    if isinstance(node, yaml.SequenceNode):
        return "a list"
    return f"'{shorten(str(node.value))}'" if node.value else "nothing"
