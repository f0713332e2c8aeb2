"""Writes docs/schema/*.json, the JSON Schemas of the files that people write, from the forms that
read them, and the table of settings in docs/write-a-policy.md.

python docs/schemas.py
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from ivrel.core.dialects.form import DIALECT
from ivrel.core.fleet import FLEET
from ivrel.core.judging.asking import policy_schema_form
from ivrel.core.settings import SETTINGS
from ivrel.core.ways import WAYS_FILE

FORMS: dict[str, Any] = {
    "dialect": DIALECT,
    "fleet": FLEET,
    "policy": policy_schema_form(),
    "reach": WAYS_FILE,
}


def schema(name: str) -> dict[str, Any]:
    """The schema of one kind of file."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"Ivrel: a {name} file",
        **FORMS[name].schema(),
    }


def settings(page: str) -> str:
    """The page with the table of settings as it is now."""
    rows = [
        f"| `{s.name}` | {s.kind} | {s.meaning}; {s.matters} | `{s.meets.partition('  ←  ')[0]}` |"
        for s in SETTINGS.values()
    ]
    table = "\n".join(
        ["| setting | values | asks for, and why | for example |", "|---|---|---|---|", *rows]
    )
    head, mark, rest = page.partition("<!-- settings: written by docs/schemas.py -->\n")
    return f"{head}{mark}{table}\n{rest[rest.index('<!-- end -->') :]}"


def main() -> None:
    for name in FORMS:
        path = Path(__file__).parent / "schema" / f"{name}.json"
        path.write_text(json.dumps(schema(name), indent=2) + "\n")
        print(f"wrote docs/schema/{name}.json")
    page = Path(__file__).parent / "write-a-policy.md"
    page.write_text(settings(page.read_text()))
    print("wrote docs/write-a-policy.md")


if __name__ == "__main__":
    main()
