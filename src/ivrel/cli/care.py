"""The options of `ivrel deliver`: how carefully it is gone about, and what is to be heard."""

from __future__ import annotations

import argparse

from ivrel.cli import common, listen
from ivrel.cli.gather import at_once_argument
from ivrel.cli.parsing import CARE, MESSAGES, Parser


def care_arguments(parser: Parser) -> None:
    """Add the options that say how carefully it is gone about."""
    parser.group(CARE).add_argument(
        "--stop-after",
        type=common.whole_number,
        default=1,
        metavar="N",
        help="begin with no more devices after so many failures (1)",
    )
    at_once_argument(parser, 10)
    parser.group(CARE).add_argument(
        "--ask",
        action=argparse.BooleanOptionalAction,
        default=None,
        help="show what came of a wave, and wait for a word before the next (default: on a "
        "terminal)",
    )
    parser.group(CARE).add_argument(
        "--last-look",
        action=argparse.BooleanOptionalAction,
        default=True,
        help="at the end, when no trial can be on any more, read those devices once more that can "
        "take a change back by themselves (default)",
    )
    parser.group(CARE).add_argument(
        "--between",
        metavar="TIME",
        help="begin devices only from this time of a day, by this machine's clock: 22:00",
    )
    parser.group(CARE).add_argument(
        "--and",
        dest="until",
        metavar="TIME",
        help="with --between: up to this one, so that each is done by then: 04:00",
    )
    parser.group(CARE).add_argument(
        "--approved",
        metavar="SIGNATURE",
        help="send only what a second person has signed: the signature of the folder's fingerprint "
        "(ssh-keygen -Y sign -n ivrel-corrections)",
    )
    parser.group(CARE).add_argument(
        "--signers",
        metavar="FILE",
        help="with --approved: who may sign, as OpenSSH has it (default: allowed-signers in the "
        "workspace)",
    )
    parser.group(CARE).add_argument(
        "--prove-again",
        action="store_true",
        help="where a device says something else than its change was made for, compute and prove "
        "it anew",
    )


def hearing_arguments(parser: Parser) -> None:
    """Add the options that say how it is made sure that messages arrive."""
    parser.group(MESSAGES).add_argument(
        "--expect",
        action="store_true",
        help="keep a change only when a message of the device arrived as the policy asks",
    )
    parser.group(MESSAGES).add_argument(
        "--within", type=listen.span, default=30.0, metavar="TIME", help="in this time (30s)"
    )
    parser.group(MESSAGES).add_argument(
        "--heard",
        metavar="DIR",
        help="with --expect: look into the recordings that `ivrel listen -o DIR` keeps",
    )
    listen.ways_arguments(parser)
