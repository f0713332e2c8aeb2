"""`ivrel dialect`: the dialects that there are, and changes applied as their platforms would."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from ivrel.cli import common


def arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    one = actions.add_parser(
        "list", help="the dialects that there are", formatter_class=argparse.RawDescriptionHelpFormatter
    )
    common.workspace_argument(one)
    common.format_argument(one)
    common.example(one, "ivrel dialect list --format json")
    one.set_defaults(run=run_list)
    one = actions.add_parser(
        "apply",
        help="apply a change to a configuration as the platform would, and print the new text",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    common.workspace_argument(one)
    one.add_argument("platform", help="the name of a dialect")
    one.add_argument("configuration", help="the file of a configuration")
    one.add_argument("change", help="the file of a change")
    example = "ivrel dialect apply quern configs/holmsay-gw1.conf corrections/holmsay-gw1/change.txt"
    common.example(one, example)
    one.set_defaults(run=run_apply)
    common.example(parser, "ivrel dialect list", example)


def run_list(args: argparse.Namespace) -> int:
    from ivrel.sources.dialects import Dialects

    dialects = Dialects(Path(args.workspace))
    found = [dialects[name] for name in sorted(dialects.files)]
    if args.format == "json":
        from ivrel.output import json

        json.show(json.dialects(found))
    else:
        from ivrel.output.lists import show_dialects

        show_dialects(found, common.columns(args))
    return 0


def run_apply(args: argparse.Namespace) -> int:
    from ivrel.core.dialects.write import apply_change
    from ivrel.sources.dialects import Dialects
    from ivrel.sources.files import read_bytes, read_text

    dialect = Dialects(Path(args.workspace))[args.platform]
    data = read_bytes(Path(args.configuration), args.configuration)
    change = read_text(Path(args.change), args.change)
    sys.stdout.buffer.write(apply_change(dialect, data, change, args.change))
    return 0
