"""logins: logins and failed logins are reported."""

from ivrel.core.settings.switched import switched

SETTING = switched(
    "logins",
    "login",
    kind="on or off",
    meaning="logins and failed logins are sent",
    effect="logins begin to arrive as messages, or stop",
    matters="failed logins that nobody sees are the quiet half of every break-in",
    meets="logins: on  ←  tell logins on",
    breaks="logins: on  ←  nothing, on a platform that ships without; or a feed that takes no "
    "logins",
)
