"""Options that say where messages arrive, and how long is waited for them."""

from __future__ import annotations

import argparse
import re

from ivrel.cli.parsing import MESSAGES, Parser

_UNITS = {"s": 1, "m": 60, "h": 3600, "d": 86400}


def port_arguments(parser: Parser) -> None:
    """Add the options that say where messages come in."""
    for name in ("udp", "tcp", "tls"):
        parser.group(MESSAGES).add_argument(
            f"--{name}",
            action="extend",
            type=_ports,
            default=[],
            metavar="PORT",
            help=f"listen on this {name.upper()} port, or on several (a,b); can be repeated",
        )
    parser.group(MESSAGES).add_argument(
        "--on",
        action="append",
        default=[],
        metavar="ADDRESS",
        help="listen on this address only (default: all, IPv4 and IPv6); can be repeated",
    )
    parser.group(MESSAGES).add_argument(
        "--certificate", metavar="FILE", help="with --tls: the certificate, in PEM"
    )
    parser.group(MESSAGES).add_argument(
        "--key",
        metavar="FILE",
        help="with --tls: the private key, if the certificate file does not contain it",
    )
    parser.group(MESSAGES).add_argument(
        "--clients",
        metavar="FILE",
        help="with --tls: require client certificates signed by this authority",
    )


def _ports(text: str) -> list[int]:
    ports = []
    for word in text.split(","):
        if not (word.isascii() and word.isdigit()) or not 0 <= int(word[:6]) < 65536:
            raise argparse.ArgumentTypeError(f"'{word[:40]}' is not a port; expected 0 to 65535")
        ports.append(int(word))
    return ports


def span(text: str) -> float:
    """Return a time in seconds, of such as 30s, 10m or 2h."""
    found = re.fullmatch(r"([0-9]{1,6}(?:\.[0-9]{1,3})?)([smhd]?)", text)
    if found is None or not float(found[1]):
        raise argparse.ArgumentTypeError(
            f"'{text[:40]}' is not a duration; write for example 30s, 10m or 2h"
        )
    return float(found[1]) * _UNITS[found[2] or "s"]
