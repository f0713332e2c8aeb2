"""debug-stamp: the stamp of debug messages."""

from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import PRECISION, STAMP

SETTING = valued(
    "debug-stamp",
    ValuePart("kind", "debug-stamp-kind", STAMP),
    ValuePart("precision", "debug-stamp-precision", PRECISION, ordered=True),
    what="stamps of debug messages",
    kind="kind (none, uptime, calendar), precision",
    meaning="the time stamp that debug messages bear",
    matters="debug messages are read beside others; with another kind of stamp they cannot be "
    "put in order",
    meets="debug-stamp: {kind: calendar}  ←  debug-stamp calendar millis",
    breaks="debug-stamp: {kind: calendar}  ←  debug-stamp uptime",
)
