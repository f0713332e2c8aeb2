"""memory: what the device keeps in memory."""

from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import NUMBER, THRESHOLD

SETTING = valued(
    "memory",
    ValuePart("level", "memory-level", THRESHOLD, ordered=True),
    ValuePart("size", "memory-size", NUMBER),
    what="memory",
    kind="level (a severity), size (bytes)",
    meaning="the severities that are kept in memory, and in how many bytes",
    matters="when the collector is out of reach, memory is what is left to look at",
    meets="memory: {level: debug, size: {at-least: 65536}}  ←  memory 262144 through debug",
    breaks="memory: {size: {at-least: 65536}}  ←  memory 4096 through debug",
)
