"""Reading: what one text says, as a dialect understands it."""

from ivrel.core.reading.records import Records, read_records
from ivrel.core.reading.statements import UnparsedLine

__all__ = ["Records", "UnparsedLine", "read_records"]
