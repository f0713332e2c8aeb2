"""The parameters of actions: which values the daemon takes.

An action with a value that is none of these is refused: nothing is sent. What a queue is given is
different: most values that mean nothing are reported, and the action works all the same.

Drawn from the documentation ("Actions", configuration/actions; "omfwd", "omrelp",
configuration/modules; "General Queue Parameters", rainerscript/queue_parameters), and held against
rsyslogd 8.2302, value by value (`tests/test_parameters.py`).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping

from ivrel.core.shapes.rsyslog.flow.installed import NAMES, SEVERAL
from ivrel.core.shapes.rsyslog.syntax.statements import Param, Statement
from ivrel.core.vocabulary.software import Software

# Returns why the daemon refuses a value; '' if it takes it.
Check = Callable[[str], str]


def _switch(value: str) -> str:
    return "" if value in ("on", "off") else "is neither on nor off"


def _number(least: int | None = None, most: int | None = None) -> Check:
    """Return the check of a whole number within bounds."""

    def check(value: str) -> str:
        # Digits behind a 0 are octal, and 0x is none of the forms that are read.
        if not re.fullmatch("-[0-9]*|[0-9]+", value):
            return "is not a whole number"
        number = 0 if value == "-" else int(value[:20])  # the daemon takes the sign alone for 0
        if (least is not None and number < least) or (most is not None and number > most):
            return f"is not a number from {least} on" if most is None else "is out of its range"
        return ""

    return check


def _word(value: str) -> str:
    return "holds a blank" if re.search(r"[ \t\n\v\f\r]", value) else ""


def _filled(value: str) -> str:
    return _word(value) if value else "is empty"


def _text(value: str) -> str:
    return ""


def _one_of(*words: str) -> Check:
    def check(value: str) -> str:
        return "" if value.lower() in words else f"is none of {', '.join(words)}"

    return check


_ANY = _number()
_COUNT = _number(0)
_SOME = _number(1)

# Of every action, whatever its type.
_EVERY: Mapping[str, Check] = {
    "name": _word,
    "config.enabled": _text,
    "action.writeallmarkmessages": _switch,
    "action.execonlyeverynthtime": _ANY,
    "action.execonlyeverynthtimetimeout": _ANY,
    "action.errorfile": _text,
    "action.errorfile.maxsize": _ANY,
    "action.execonlyonceeveryinterval": _ANY,
    "action.execonlywhenpreviousissuspended": _switch,
    "action.repeatedmsgcontainsoriginalmsg": _switch,
    "action.resumeretrycount": _ANY,
    "action.resumeinterval": _ANY,
    "action.resumeintervalmax": _SOME,
    "action.reportsuspension": _switch,
    "action.reportsuspensioncontinuation": _switch,
    "action.copymsg": _switch,
    "action.externalstate.file": _text,
}
# By type. What is missing is not known to the daemon, which says so and goes on.
_BY_TYPE: Mapping[str, Mapping[str, Check]] = {
    "omfwd": {
        "template": _filled,
        "target": _word,
        "port": _word,
        "protocol": _text,
        "device": _word,
        "address": _filled,
        "networknamespace": _filled,
        "ipfreebind": _ANY,
        "tcp_framing": _one_of("traditional", "octet-counted"),
        "tcp_framedelimiter": _number(most=255),
        "ziplevel": _ANY,
        "compression.mode": _one_of("none", "single", "stream:always"),
        "compression.stream.flushontxend": _switch,
        "rebindinterval": _ANY,
        "keepalive": _switch,
        "keepalive.probes": _COUNT,
        "keepalive.interval": _COUNT,
        "keepalive.time": _COUNT,
        "conerrskip": _COUNT,
        "ratelimit.interval": _ANY,
        "ratelimit.burst": _ANY,
        "streamdriver": _word,
        "streamdrivermode": _ANY,
        "streamdriverauthmode": _word,
        "streamdriverpermittedpeers": _word,
        "streamdriver.permitexpiredcerts": _word,
        "streamdriver.checkextendedkeypurpose": _switch,
        "streamdriver.prioritizesan": _switch,
        "streamdriver.tlsverifydepth": _SOME,
        "streamdriver.cafile": _text,
        "streamdriver.keyfile": _text,
        "streamdriver.certfile": _text,
        "gnutlsprioritystring": _text,
        "resendlastmsgonreconnect": _switch,
        "udp.sendtoall": _switch,
        "udp.senddelay": _ANY,
        "maxerrormessages": _ANY,
    },
    "omrelp": {
        "template": _word,
        "target": _word,
        "port": _word,
        "timeout": _ANY,
        "conn.timeout": _ANY,
        "rebindinterval": _ANY,
        "windowsize": _ANY,
        "tls": _switch,
        "tls.compression": _switch,
        "tls.authmode": _text,
        "tls.cacert": _text,
        "tls.mycert": _text,
        "tls.myprivkey": _text,
        "tls.prioritystring": _text,
        "localclientip": _word,
    },
}
# Of queues, the one value that takes an action away; others are reported, and change nothing.
_QUEUE: Mapping[str, Check] = {
    "queue.dequeuebatchsize": lambda value: (
        "is no number of messages" if re.fullmatch("-[0-9]+|0+", value) else ""
    ),
}
_LISTS = frozenset({"tls.permittedpeer"})


def refused(kind: str, params: Mapping[str, Param], software: Software) -> tuple[str, str]:
    """Return why the daemon refuses an action of this type, and why that is not certain; both are
    empty if all its values are taken.

    >>> refused("omfwd", {"keepalive": Param("true", 1)}, Software())
    ("its keepalive is neither on nor off: 'true'", '')
    """
    unsure = ""
    for name, wrong in _wrong(kind, params):
        change = NAMES.get(name)
        if name in ("target", "port"):
            surely = SEVERAL.is_made(software) is False
            if not surely:
                unsure = unsure or f"{wrong}: {SEVERAL.said('refuses it', 'may send to it')}"
        elif change is not None:
            made = change.is_made(software)
            surely = bool(made)
            if made is None:
                unsure = unsure or f"{wrong}: {change.said('ignores it', 'refuses the action')}"
        else:
            surely = True
        if surely:
            return wrong, ""
    return "", unsure


def _wrong(kind: str, params: Mapping[str, Param]) -> Iterator[tuple[str, str]]:
    """Yield parameters whose values are not taken, and why."""
    known = {**_EVERY, **_QUEUE, **_BY_TYPE.get(kind, {})}
    for name, param in params.items():
        check = known.get(name)
        if check is None:
            continue
        if param.array is not None:
            if name not in _LISTS:
                yield name, f"its {name} is a list"
        elif param.value is not None and (why := check(param.value)):
            yield name, f"its {name} {why}: '{param.value}'"


# Of objects that are no actions, the parameters that the daemon surely takes without a word. It may
# complain of any other object: of a module that nothing uses, of a ruleset with something empty.
_OBJECTS: Mapping[str, frozenset[str]] = {
    "global": frozenset(
        "abortonuncleanconfig defaultnetstreamdriver defaultnetstreamdrivercafile localhostname "
        "maxmessagesize preservefqdn workdirectory".split()
    ),
    "template": frozenset({"name", "type", "string"}),
}


def is_known_object(statement: Statement) -> bool:
    """Whether the daemon surely has nothing against an object that is no action."""
    known = _OBJECTS.get(statement.name)
    return known is not None and all(name in known for name in statement.params)


def known_to(kind: str, params: Mapping[str, Param]) -> bool:
    """Whether the daemon surely knows all parameters of an action; it complains of others, and
    goes on.
    """
    if kind not in _BY_TYPE:
        return False
    known = {"type", *_EVERY, *_BY_TYPE[kind], *_LISTS}
    return all(name in known or name.startswith("queue.") for name in params)


def ends_daemon(params: Mapping[str, Param]) -> str:
    """Return the parameter with which the daemon does not start; '' if there is none."""
    threads = params.get("queue.workerthreads")
    if threads is None or threads.value is None:
        return ""
    return "queue.workerthreads" if threads.value.strip() in ("0", "") else ""
