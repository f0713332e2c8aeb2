"""Statements by what they begin with: to find at once what a removal takes away."""

from __future__ import annotations

from collections.abc import Iterable

from ivrel.core.text.words import Path, Words


class Beginnings:
    """Finds the statements that begin with some words, or are in a block that does."""

    def __init__(self) -> None:
        self._every: dict[tuple[object, Path, Words], None] = {}
        self._found: dict[tuple[Path, Words], dict[tuple[object, Path, Words], None]] = {}

    def add(self, at: object, path: Path, words: Words) -> None:
        """Take a statement; `at`: what it is to be called."""
        self._every[at, path, words] = None
        for depth in range(len(path) + 1):
            said = path[depth] if depth < len(path) else words
            for length in range(1, len(said) + 1):
                here = self._found.setdefault((path[:depth], said[:length]), {})
                here[at, path, words] = None

    def every(self) -> Iterable[tuple[object, Path, Words]]:
        """Return all statements, each with what it is called."""
        return self._every

    def find(self, path: Path, words: Words) -> Iterable[tuple[object, Path, Words]]:
        """Return the statements of a block that begin with some words, and those in inner blocks
        whose header does, each with what it is called.

        >>> names = Beginnings()
        >>> names.add(1, (("events",), ("feed", "a")), ("level", "error"))
        >>> [at for at, _, _ in names.find((("events",),), ("feed",))]
        [1]
        """
        return self._found.get((path, words), ())
