"""changes: changes of the configuration are reported."""

from ivrel.core.settings.switched import switched

SETTING = switched(
    "changes",
    "change",
    kind="on or off",
    meaning="changes of the configuration are sent",
    effect="changes of the configuration begin to arrive as messages, or stop",
    matters="who changed what is the first question after an outage",
    meets="changes: on  ←  tell changes on",
    breaks="changes: on  ←  nothing, on a platform that ships without; or a feed that takes no "
    "changes",
)
