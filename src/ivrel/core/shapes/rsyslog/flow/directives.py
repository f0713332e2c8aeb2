"""The directives of the older style, and what each bears on.

Documentation: "Configuration Directives" (configuration/config_param_types,
configuration/action/index, configuration/input_directives, configuration/ruleset) and the pages of
modules.
"""

from __future__ import annotations

from collections.abc import Mapping

# Of the next action alone, and the parameter that says the same in the newer style.
NEXT: Mapping[str, str] = {
    "actionname": "name",
    "actionqueuetype": "queue.type",
    "actionqueuesize": "queue.size",
    "actionqueuefilename": "queue.filename",
    "actionqueuemaxdiskspace": "queue.maxdiskspace",
    "actionqueuemaxfilesize": "queue.maxfilesize",
    "actionqueuesaveonshutdown": "queue.saveonshutdown",
    "actionqueuesyncqueuefiles": "queue.syncqueuefiles",
    "actionqueuecheckpointinterval": "queue.checkpointinterval",
    "actionqueuedequeuebatchsize": "queue.dequeuebatchsize",
    "actionqueuedequeueslowdown": "queue.dequeueslowdown",
    "actionqueuedequeuetimebegin": "queue.dequeuetimebegin",
    "actionqueuedequeuetimeend": "queue.dequeuetimeend",
    "actionqueuediscardmark": "queue.discardmark",
    "actionqueuediscardseverity": "queue.discardseverity",
    "actionqueuehighwatermark": "queue.highwatermark",
    "actionqueuelowwatermark": "queue.lowwatermark",
    "actionqueuetimeoutenqueue": "queue.timeoutenqueue",
    "actionqueuetimeoutshutdown": "queue.timeoutshutdown",
    "actionqueuetimeoutactioncompletion": "queue.timeoutactioncompletion",
    "actionqueuetimeoutworkerthreadshutdown": "queue.timeoutworkerthreadshutdown",
    "actionqueueworkerthreads": "queue.workerthreads",
    "actionqueueworkerthreadminimummessages": "queue.workerthreadminimummessages",
    "actionresumeretrycount": "action.resumeretrycount",
    "actionexeconlyeverynthtime": "action.execonlyeverynthtime",
    "actionexeconlyeverynthtimetimeout": "action.execonlyeverynthtimetimeout",
}

# Of all actions in the older style from here on.
LASTING: Mapping[str, str] = {
    "actionexeconlywhenpreviousissuspended": "action.execonlywhenpreviousissuspended",
    "actionexeconlyonceeveryinterval": "action.execonlyonceeveryinterval",
    "actionresumeinterval": "action.resumeinterval",
    "actionwriteallmarkmessages": "action.writeallmarkmessages",
    "repeatedmsgreduction": "action.repeatedmsgreduction",
    "actionsendstreamdriver": "streamdriver",
    "actionsendstreamdrivermode": "streamdrivermode",
    "actionsendstreamdriverauthmode": "streamdriverauthmode",
    "actionsendstreamdriverpermittedpeer": "streamdriverpermittedpeers",
    "actionsendresendlastmsgonreconnect": "resendlastmsgonreconnect",
    "actionsendtcprebindinterval": "rebindinterval",
    "actionsendudprebindinterval": "rebindinterval",
}

# Of these, the parameters that an action writes down for itself when it is written again.
CARRIED = frozenset((*NEXT.values(), *LASTING.values())) - {
    "action.repeatedmsgreduction", "action.writeallmarkmessages", "rebindinterval"}  # fmt: skip

# Of an input, the most messages in an interval: the input, and which of both is said.
LIMITS: Mapping[str, tuple[str, str]] = {
    "systemlogratelimitinterval": ("imuxsock", "interval"),
    "systemlogratelimitburst": ("imuxsock", "burst"),
    "imjournalratelimitinterval": ("imjournal", "interval"),
    "imjournalratelimitburst": ("imjournal", "burst"),
}
# What holds of an input, or of an action, that says nothing or one of both: interval in seconds,
# and burst.
UNSAID_LIMITS: Mapping[str, tuple[str, str]] = {
    "imuxsock": ("0", "200"),
    "imjournal": ("600", "20000"),
    "omfwd": ("0", "200"),
}

# Binds the inputs behind it to a ruleset.
BINDS: Mapping[str, str] = {
    "inputudpserverbindruleset": "imudp",
    "inputtcpserverbindruleset": "imtcp",
    "inputptcpserverbindruleset": "imptcp",
    "inputrelpserverbindruleset": "imrelp",
    "inputfilebindruleset": "imfile",
}

# Of the whole daemon; the last one holds, wherever it is.
GLOBAL: Mapping[str, str] = {
    "defaultnetstreamdriver": "defaultnetstreamdriver",
    "defaultnetstreamdrivercafile": "defaultnetstreamdrivercafile",
    "abortonuncleanconfig": "abortonuncleanconfig",
    "workdirectory": "workdirectory",
}

# What makes all that follows it uncertain.
DOUBTFUL = frozenset({"resetconfigvariables", "includeconfig"})
