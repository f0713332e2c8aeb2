"""Words and values as YAML has them on one line."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ivrel.core.authoring.learning.answers import quoted


def word(text: str) -> str:
    """Return a word as YAML has it: in quotes, if it would be something else without them."""
    bare = text.replace("-", "").replace("_", "").isalnum() and not text[0].isdigit()
    return text if bare else quoted(text)


def flow(value: Any) -> str:
    """Return a word, a list of words or a mapping of them."""
    if isinstance(value, Mapping):
        return f"{{{', '.join(f'{word(key)}: {flow(said)}' for key, said in value.items())}}}"
    if isinstance(value, str):
        return word(value)
    return f"[{', '.join(map(flow, value))}]"
