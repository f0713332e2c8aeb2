"""console: what the console shows."""

from ivrel.core.settings.outputs import SHOW, output
from ivrel.core.settings.valued import ValuePart
from ivrel.core.vocabulary.values import THRESHOLD

SETTING = output(
    "console",
    ValuePart("", "console", THRESHOLD, ordered=True),
    also=SHOW,
    what="the console",
    kind="a severity; none is off",
    meaning="the severities that are shown on the console",
    matters="a console that floods stops the device from answering, when it is needed most",
    meets="console: {at-most: critical}  ←  screen off",
    breaks="console: {at-most: critical}  ←  screen through debug",
)
