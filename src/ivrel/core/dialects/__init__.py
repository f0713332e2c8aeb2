"""Dialects: data files that read and write one platform's configurations."""

from ivrel.core.dialects.dialect import Dialect, read_dialect
from ivrel.core.dialects.matching import Stray
from ivrel.core.dialects.records import Records, read_records
from ivrel.core.dialects.said import Said

__all__ = ["Dialect", "Records", "Said", "Stray", "read_dialect", "read_records"]
