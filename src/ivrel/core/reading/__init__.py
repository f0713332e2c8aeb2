"""Reading: what one text says, as a dialect understands it."""

from ivrel.core.reading.records import Records, read_records
from ivrel.core.reading.statements import Stray

__all__ = ["Records", "Stray", "read_records"]
