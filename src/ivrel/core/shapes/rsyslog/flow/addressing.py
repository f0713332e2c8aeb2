"""Where an action sends; this depends on the stream driver that holds in the end.

Documentation: "omfwd" (configuration/modules/omfwd), "Network Stream Drivers"
(concepts/netstrm_drvr).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from ivrel.core.shapes.rsyslog.flow.installed import NAMES, lacking
from ivrel.core.shapes.rsyslog.flow.model import Action, Endpoint, Uncertainty
from ivrel.core.shapes.rsyslog.syntax.statements import BLANKS, Param, said_of
from ivrel.core.vocabulary.software import Software

_SERVICES = {"syslog": "514", "syslog-tls": "6514"}
_PLAIN = ("", "ptcp")  # stream drivers without TLS
_DRIVERS = (*_PLAIN, "gtls", "ossl", "mbedtls")
_TRANSPORTS = ("udp", "tcp", "tls", "relp")
_MODES = ("anon", "x509/name", "x509/fingerprint", "x509/certvalid")

_HOST = re.compile(r"[\w.-]+|[0-9A-Fa-f:.]+(%\w+)?", re.A)
_TOLD = re.compile(r"[\w.-]*[A-Za-z.][\w.-]*|[0-9A-Fa-f:.]*:[0-9A-Fa-f:.]*")


def addressed(
    action: Action, driver: str, authority: Param | None, software: Software
) -> tuple[Action, list[Uncertainty]]:
    """Return an action with where it sends and why it never does, and what is not known of it.

    `driver`: the stream driver of actions that name none; `authority`: the file of trusted
    certificates; `software`: what is installed.
    """
    params = action.params
    place = action.statement
    for name in ("target", "port", "protocol"):
        if name in params and params[name].value is None:
            doubt = Uncertainty(f"{place.raw} ({name} is worked out elsewhere)", place.line)
            return replace(action, idle="it is not known where it sends"), [doubt]
    transport, idle, doubts = _way(action, driver, authority)
    doubts += _outside(action, transport)
    idle = action.idle or idle
    part = _part(action, transport, driver)
    missing, unsure = lacking(part, software)
    idle = idle or missing
    for name in params:
        change = NAMES.get(name) if transport == "tls" else None
        if change is not None and not change.is_made(software):
            unsure = f"{name}: {change.said('ignores it', 'knows it')}"
    if unsure and not idle:
        # The same words whatever else the action says: a correction of it changes no doubt.
        doubts.append(Uncertainty(unsure, place.line))
    target = said_of(params, "target")
    if not target:
        idle = idle or "it names nobody to send to"
        if transport != "udp" and place.kind == "action":
            # The daemon does not survive the first message for it.
            doubts.append(Uncertainty(f"{place.raw} ({idle})", place.line))
    elif any(c in BLANKS for c in target):
        idle = idle or "a blank behind the address is looked up with it"
    number, wrong = _port(params, transport)
    idle = idle or wrong
    host = _counted(target or "")
    bare = host[1:-1] if host[:1] == "[" else host
    if not idle and host[:1] != "[" and not _HOST.fullmatch(host):
        idle = "that is no name of a host"
    if host[:1] == "[" and place.kind == "action":
        idle = idle or "brackets are looked up with the address"
    endpoint: Endpoint = (bare, number, transport)
    if idle:
        first = bare.split()[0] if bare.strip() else ""
        told = _TOLD.fullmatch(first) and _is_number(number) and transport in _TRANSPORTS
        # Where nobody can be meant by it, it has no endpoint.
        endpoint = (first, number, transport) if told else ("", "", "")
    return replace(action, endpoint=endpoint, idle=idle), doubts


def _part(action: Action, transport: str, driver: str) -> str:
    """Return the stream driver or the module that an action needs beside the daemon itself."""
    if action.kind != "omfwd":
        return action.kind
    return said_of(action.params, "streamdriver") or driver if transport != "udp" else ""


def _way(
    action: Action, driver: str, authority: Param | None
) -> tuple[str, str, list[Uncertainty]]:
    if action.kind == "omrelp":
        return "relp", "", []
    if action.kind == "omudpspoof":
        return "udp", "", []
    protocol = (said_of(action.params, "protocol") or "udp").lower()
    return _transport(action, protocol, driver, authority)


# What a text does not decide: what the value means depends on the machine, or on who receives.
_OUTSIDE = {
    "networknamespace": "that there is such a namespace",
    "net.ipprotocol": "which some versions know",
}


def _outside(action: Action, transport: str) -> list[Uncertainty]:
    """Return what of an action depends on more than the text."""
    params = action.params
    out = [
        Uncertainty(f"{name} ({why})", params[name].line)
        for name, why in _OUTSIDE.items()
        if name in params
    ]
    if action.kind == "omudpspoof":
        said = f"{action.statement.raw} (what it sends was never checked)"
        out.append(Uncertainty(said, action.statement.line))
    mode = params.get("compression.mode")
    if mode is not None and transport != "udp" and mode.value == "stream:always":
        out.append(Uncertainty("compression.mode (who receives must know it)", mode.line))
    return out


def _port(params: Mapping[str, Param], transport: str) -> tuple[str, str]:
    """Return the number of a port, and why it is none."""
    port = (said_of(params, "port") or "") if "port" in params else "514"
    number = _SERVICES.get(port, port)
    if transport == "udp" and _is_number(number):
        number = str(int(number[:18]) % 65536)  # more than a port number holds is cut off
    named = transport == "udp" and port in _SERVICES
    if named or not _is_number(number) or not 0 < int(number[:9]) < 65536:
        return number, f"'{port}' is not a port number"
    return str(int(number)), ""


def _is_number(text: str) -> bool:
    return text.isascii() and text.isdigit()


def _transport(
    action: Action, protocol: str, driver: str, authority: Param | None
) -> tuple[str, str, list[Uncertainty]]:
    """Return the transport of an action, why it never sends, and what is not known of it."""
    params = action.params
    if protocol not in ("udp", "tcp"):
        return protocol, f"'{protocol}' is no protocol of it", []
    # A name that is none of these is a module that is not there.
    named = said_of(params, "streamdriver") or driver
    if protocol == "tcp" and named not in _DRIVERS:
        return protocol, f"there is no stream driver '{named}'", []
    # A number that is none leaves the mode as it is.
    written = said_of(params, "streamdrivermode") or "0"
    if protocol == "udp" or not re.fullmatch("-?[0-9]+", written) or int(written[:9]) == 0:
        wrong = _wrong_mode(params, named) if protocol == "tcp" else ""
        if wrong:
            return protocol, wrong, []
        newer = [name for name in params if name.startswith("streamdriver.")]
        if not newer or protocol == "udp":
            return protocol, "", []
        doubt = Uncertainty(f"{newer[0]}, which some versions know", params[newer[0]].line)
        return protocol, "", [doubt]
    idle = ""
    mode = (said_of(params, "streamdriverauthmode") or "x509/name").lower()
    if named in _PLAIN:
        idle = "no stream driver with TLS is named"
    elif int(written[:9]) != 1:
        idle = f"a stream driver has no mode {written}"
    elif wrong := _wrong_mode(params, named):
        idle = wrong
    elif mode != "anon" and not (authority or "streamdriver.cafile" in params):
        idle = "no file of trusted certificates is named, so that nobody is verified"
    elif mode in ("x509/name", "x509/fingerprint") and not _peer_texts(params):
        idle = "no permitted peer is named, so that nobody is"
    elif mode == "x509/fingerprint" and any(":" not in p for p in _peer_texts(params)):
        idle = "a permitted peer is no fingerprint"
    return "tls", idle, []


def _wrong_mode(params: Mapping[str, Param], driver: str) -> str:
    """Return why a driver without TLS, or TLS that is off, takes an action for none."""
    mode = (said_of(params, "streamdriverauthmode") or "").lower()
    if driver not in _PLAIN:
        if mode and mode not in _MODES:
            return f"'{mode}' is no way to verify"
        if _peer_texts(params) and mode in ("anon", "x509/certvalid"):
            return f"permitted peers cannot be verified by '{mode}'"
        return ""
    if mode not in ("", "anon"):
        return f"a stream driver without TLS cannot verify by '{mode}'"
    for name in ("streamdriverpermittedpeers", "gnutlsprioritystring"):
        if name in params:
            return f"a stream driver without TLS knows no {name}"
    return ""


def _counted(host: str) -> str:
    """Return an IPv4 address whose numbers begin with 0: they are octal."""
    numbers = host.split(".")
    if len(numbers) == 4 and any(re.fullmatch("0[0-7]+", n) for n in numbers):
        return ".".join(str(int(n, 8)) if re.fullmatch("0[0-7]+", n) else n for n in numbers)
    return host


def _peer_texts(params: Mapping[str, Param]) -> Sequence[str]:
    """Return the peers that are permitted."""
    said = params.get("streamdriverpermittedpeers")
    if said is None:
        return ()
    return said.array or re.split(r"[ ,]+", said.value or "") if said.array or said.value else ()
