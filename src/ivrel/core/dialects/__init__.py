"""Dialects: data files that read and write one platform's configurations."""

from ivrel.core.dialects.dialect import Dialect, Example
from ivrel.core.dialects.load import read_dialect

__all__ = ["Dialect", "Example", "read_dialect"]
