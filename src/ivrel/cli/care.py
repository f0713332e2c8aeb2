"""The options of `ivrel deliver`: how carefully it is gone about, and what is to be heard."""

from __future__ import annotations

import argparse

from ivrel.cli import common, listen_arguments
from ivrel.cli.parsing import CARE, MESSAGES, Parser


def care_arguments(parser: Parser) -> None:
    """Add the options that say how carefully it is gone about."""
    parser.group(CARE).add_argument(
        "--stop-after",
        type=common.whole_number,
        default=1,
        metavar="N",
        help="stop beginning new devices after this many failures (default: 1)",
    )
    common.at_once_argument(parser, 10)
    parser.group(CARE).add_argument(
        "--ask",
        action=argparse.BooleanOptionalAction,
        default=None,
        help="after each wave, show its results and ask whether to continue "
        "(default: only on a terminal)",
    )
    parser.group(CARE).add_argument(
        "--last-look",
        action=argparse.BooleanOptionalAction,
        default=True,
        help="at the end, once every trial period is over, read the devices that "
        "could have rolled back by themselves once more (default: yes)",
    )
    parser.group(CARE).add_argument(
        "--between",
        metavar="TIME",
        help="start of the maintenance window, in local time: no device is begun before it (22:00)",
    )
    parser.group(CARE).add_argument(
        "--and",
        dest="until",
        metavar="TIME",
        help="end of the maintenance window: no device is begun that could not "
        "finish before it (04:00)",
    )
    parser.group(CARE).add_argument(
        "--approved",
        metavar="SIGNATURE",
        help="send the corrections only if a second person signed them; "
        "SIGNATURE is the signed fingerprint of the folder (ssh-keygen -Y "
        "sign -n ivrel-corrections)",
    )
    parser.group(CARE).add_argument(
        "--signers",
        metavar="FILE",
        help="with --approved: the OpenSSH allowed-signers file (default: "
        "allowed-signers in the workspace)",
    )
    parser.group(CARE).add_argument(
        "--prove-again",
        action="store_true",
        help="if a device's configuration changed since its correction was made, "
        "compute and prove the correction again and send that",
    )


def hearing_arguments(parser: Parser) -> None:
    """Add the options that say how it is made sure that messages arrive."""
    parser.group(MESSAGES).add_argument(
        "--expect",
        action="store_true",
        help="confirm each change only after a message from the device arrives as the policy asks",
    )
    parser.group(MESSAGES).add_argument(
        "--within",
        type=listen_arguments.span,
        default=30.0,
        metavar="TIME",
        help="with --expect: how long to wait for that message (default: 30s)",
    )
    parser.group(MESSAGES).add_argument(
        "--heard",
        metavar="DIR",
        help="with --expect: watch the recordings that `ivrel listen -o DIR` "
        "writes, instead of listening",
    )
    listen_arguments.port_arguments(parser)
