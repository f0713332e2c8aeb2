"""sessions: what the sessions of operators show."""

from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import THRESHOLD

SETTING = valued(
    "sessions",
    ValuePart("", "sessions", THRESHOLD, ordered=True),
    what="sessions",
    kind="a severity; none is off",
    meaning="the severities that are shown in the sessions of operators",
    matters="lines that burst into a session hide the answer that somebody waits for",
    meets="sessions: {at-most: warning}  ←  seats through warning",
    breaks="sessions: none  ←  seats through debug",
)
