"""file: what the device keeps in a file."""

from ivrel.core.settings.outputs import SHOW, output
from ivrel.core.settings.valued import ValuePart
from ivrel.core.vocabulary.values import NUMBER, THRESHOLD

SETTING = output(
    "file",
    ValuePart("level", "file-level", THRESHOLD, ordered=True),
    ValuePart("size", "file-size", NUMBER),
    also=("file.name",),
    hangs_on=SHOW,
    what="a file",
    kind="level (a severity), size (bytes)",
    meaning="the severities that are kept in a file, and in how many bytes",
    matters="a file outlives a restart, and fills the disk if nothing bounds it",
    meets="file: {level: {at-least: warning}}  ←  a file through notice",
    breaks="file: {level: {at-least: warning}}  ←  a file through alert; or none",
)
