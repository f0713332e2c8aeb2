"""Reads a policy against the table of settings."""

from __future__ import annotations

from ivrel.core.form import MappingField
from ivrel.core.policy.form import policy_form
from ivrel.core.policy.policy import Policy
from ivrel.core.policy.read import Opener, closed, read
from ivrel.core.settings import SETTINGS


def read_policy(text: str, file: str, opened: Opener = closed) -> Policy:
    """Return the policy of a YAML text; InputError holds every mistake, with line and column.

    `opened` gives the text of an included file by its name; it raises Unreadable. Without it,
    nothing can be included.
    """
    return read(text, file, SETTINGS, opened)


def policy_schema_form() -> MappingField:
    """Return the form of a policy file, for its schema."""
    return policy_form(SETTINGS)
