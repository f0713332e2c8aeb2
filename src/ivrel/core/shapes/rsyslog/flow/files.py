"""The files of a configuration, by the names that it includes them by (documentation:
rainerscript/include).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from fnmatch import fnmatch
from pathlib import PurePosixPath

from ivrel.core.shapes.rsyslog.flow.model import Uncertainty
from ivrel.core.shapes.rsyslog.syntax.scanner import Opened, Token
from ivrel.core.shapes.rsyslog.syntax.source import read_source
from ivrel.core.shapes.rsyslog.syntax.statements import Param
from ivrel.core.text.bundle import Part

DEEPEST = 16  # files that include each other


class Files:
    """The files of a bundle, by the names that configurations include them by."""

    def __init__(self, found: Sequence[Part], main: Part, folder: str = "") -> None:
        self.folder = folder or "/etc"
        self.parts = found
        self.main = main
        self.doubts: list[Uncertainty] = []
        self.includes: list[str] = []

    def within(self, wanted: str) -> str:
        """Return the name among the files of what a configuration names by its whole path; the main
        file stands for the folder.
        """
        above = PurePosixPath(self.main.name).parent
        if wanted.endswith("/"):
            wanted += "*"
        path = PurePosixPath(re.sub("^/+", "/", wanted.strip('"')))
        if not path.is_absolute():
            return str(above / path)
        root = self.folder if path.is_relative_to(self.folder) else "/"
        return str(above / path.relative_to(root))

    def opened(self, params: Mapping[str, Param], token: Token, within: tuple[str, ...]) -> Opened:
        """Return the files that an include means, in their order."""
        raw = " ".join(token.source.text[token.start : token.stop].split())
        at = token.line
        text = params.get("text")
        wanted = params.get("file")
        if text is not None and wanted is not None:
            return ()  # the daemon takes neither
        if text is not None and text.value is not None:
            return (
                read_source(f"{token.source.name} (text of an include)", token.line, text.value),
            )
        if wanted is not None and wanted.value == "" and token.kind == "include":
            self.doubts.append(Uncertainty(f"{raw} (includes where the daemon was started)", at))
            return ()
        if wanted is None or not wanted.value:
            self.doubts.append(Uncertainty(f"{raw} (what it includes is worked out elsewhere)", at))
            return ()
        name = (
            re.split(r"[ \t]", wanted.value, maxsplit=1)[0]
            if token.kind == "include"
            else wanted.value
        )
        if not self.main.name:
            self.doubts.append(Uncertainty(f"{name} (its folder is not here)", at))
            return ()
        if not name.startswith("/"):
            self.doubts.append(
                Uncertainty(f"{name} (is looked for where the daemon was started)", at)
            )
        pattern = self.within(name)
        if any(part.name.startswith(pattern.rstrip("/") + "/") for part in self.parts):
            pattern = pattern.rstrip("/") + "/*"
        is_within = PurePosixPath(name).is_relative_to(self.folder)
        if is_within:
            # What lies elsewhere is no part of this configuration's folder.
            self.includes.append(pattern)
        found = sorted((p for p in self.parts if _fits(p.name, pattern)), key=lambda p: p.name)
        mode = params.get("mode", Param("required", at)).value
        if not found and mode != "optional" and not re.search(r"[*?\[]", pattern):
            self.doubts.append(Uncertainty(f"{name} (no such file)", at))
        elif not found and not is_within and name.startswith("/"):
            said = f"{name} (lies outside {self.folder}, and is not among the files)"
            self.doubts.append(Uncertainty(said, at))
        out = []
        for part in found:
            if part.name in within or len(within) > DEEPEST:
                self.doubts.append(Uncertainty(f"{name} (includes itself)", at))
                continue
            out.append(read_source(part.name, part.first, part.text))
        return tuple(out)


def _fits(name: str, pattern: str) -> bool:
    """Whether a file is meant by a pattern; as in a shell, hidden files are not."""
    hidden = PurePosixPath(name).name.startswith(".") and not PurePosixPath(
        pattern
    ).name.startswith(".")
    return not hidden and name.count("/") == pattern.count("/") and fnmatch(name, _plain(pattern))


_CLASSES = {"[:digit:]": "0-9", "[:alpha:]": "a-zA-Z", "[:alnum:]": "a-zA-Z0-9", "[:lower:]": "a-z",
            "[:upper:]": "A-Z"}  # fmt: skip


def _plain(pattern: str) -> str:
    """Return a pattern of the C library's glob as one of `fnmatch`."""
    for name, signs in _CLASSES.items():
        pattern = pattern.replace(name, signs)
    return pattern.replace("[^", "[!")
