"""Memory that belongs to an object: what is worked out from it once, and goes when it goes."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from msgspec import Struct

K = TypeVar("K")
T = TypeVar("T")


class Remembering(Struct, frozen=True, eq=False, kw_only=True):
    """Data that never changes and remembers what was worked out from it.

    A copy remembers nothing, whether it is made here or sent to another process.
    """

    made: dict[object, Any] = {}

    def once(self, name: object, make: Callable[[], T]) -> T:
        """Return the result of `make`, which must depend on this object and the name alone."""
        try:
            made: T = self.made[name]
        except KeyError:
            made = self.made[name] = make()
        return made

    def __reduce__(self) -> tuple[Any, ...]:
        fields = {f: getattr(self, f) for f in self.__struct_fields__ if f != "made"}
        return _made_again, (type(self), fields)


MOST_REMEMBERED = 50_000  # entries of one cache


def remember(cache: dict[K, T], key: K, value: T) -> T:
    """Put a value into a cache and return it. A full cache is emptied first.

    To keep a full cache as it is would be slower: what comes later in a large fleet would be worked
    out again each time, ten times as slow in `bench/fuzz.py --only 'configuration hollin'`.
    """
    if len(cache) >= MOST_REMEMBERED:
        cache.clear()
    cache[key] = value
    return value


def _made_again(kind: type[T], fields: Mapping[str, Any]) -> T:
    return kind(**fields)
