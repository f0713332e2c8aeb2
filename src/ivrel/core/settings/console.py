"""console: what the console shows."""

from ivrel.core.dialects.slots import THRESHOLD
from ivrel.core.settings.outputs import output
from ivrel.core.settings.valued import Part

SETTING = output(
    "console",
    Part("", "console", THRESHOLD, ordered=True),
    what="the console",
    kind="a severity; none is off",
    meaning="the severities that are shown on the console",
    matters="a console that floods stops the device from answering, when it is needed most",
    meets="console: {at-most: critical}  ←  screen off",
    breaks="console: {at-most: critical}  ←  screen through debug",
)
