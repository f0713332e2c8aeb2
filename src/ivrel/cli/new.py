"""`ivrel new DIR`: a commented workspace to start from."""

from __future__ import annotations

import argparse

from ivrel.cli import common
from ivrel.cli.parsing import Parser


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    parser.add_argument("folder", metavar="DIR", help="the folder to write")
    parser.add_argument(
        "--replace", action="store_true", help="write into the folder even if it is not empty"
    )
    common.example(parser, "ivrel new our-network")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.work.starting import new_workspace

    new_workspace(args.folder, replace=args.replace)
    folder = args.folder
    print(f"wrote {folder}/fleet.yaml, policy.yaml and one configuration in {folder}/configs")
    print(f"next  edit them; then ivrel fleet -w {folder}, ivrel audit -w {folder}")
    return 0
