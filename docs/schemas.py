"""Writes docs/schema/*.json, the JSON Schemas of the files that people write, from the forms that read them.

python docs/schemas.py
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from ivrel.core.dialects.dialect import DIALECT
from ivrel.core.fleet import FLEET
from ivrel.core.policy.read import POLICY

FORMS = {"dialect": DIALECT, "fleet": FLEET, "policy": POLICY}


def schema(name: str) -> dict[str, Any]:
    """The schema of one kind of file."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"Ivrel: a {name} file",
        **FORMS[name].schema(),
    }


def main() -> None:
    for name in FORMS:
        path = Path(__file__).parent / "schema" / f"{name}.json"
        path.write_text(json.dumps(schema(name), indent=2) + "\n")
        print(f"wrote docs/schema/{name}.json")


if __name__ == "__main__":
    main()
