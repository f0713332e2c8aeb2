"""How many devices are gone through: in this process, or in several."""

from ivrel.runners.through import Job, through

__all__ = ["Job", "through"]
