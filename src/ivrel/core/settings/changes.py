"""changes: changes of the configuration are told."""

from ivrel.core.settings.switched import switched

SETTING = switched(
    "changes",
    "change",
    kind="on or off",
    meaning="changes of the configuration are sent",
    matters="who changed what is the first question after an outage",
    meets="changes: on  ←  tell changes on",
    breaks="changes: on  ←  nothing, on a platform that ships without; or a feed that takes no "
    "changes",
)
