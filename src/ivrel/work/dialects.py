"""Work with dialects: what a platform can express, how texts are read, changes applied to them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from msgspec import Struct

from ivrel.core.authoring.abilities import Ability, abilities
from ivrel.core.authoring.check import check_dialect, missing_defaults
from ivrel.core.authoring.cover import Cover, cover
from ivrel.core.correcting.changes import apply_change, unknown_lines
from ivrel.core.dialects import Dialect
from ivrel.core.fleet import Device
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.reader import explained
from ivrel.core.reading.recognising import looks_like
from ivrel.core.reading.records import read_records
from ivrel.core.reading.statements import Statement, Understood, Undone, Unparsed
from ivrel.core.settings import Fact, Scope
from ivrel.core.settings.relevance import facts_in_doubt
from ivrel.core.text.bundle import MARK, Places
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Foreign, InputError, Unreadable
from ivrel.sources.dialects import Dialects
from ivrel.sources.files import read_configuration, read_text, write_configuration
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.run import RunOptions

Row = tuple[int, str, Statement | Undone]  # a line, its text, and what it was understood as


class CheckResult(Struct, frozen=True):
    """What is wrong with a dialect, and which slots have no default, with their lines."""

    dialect: Dialect
    mistakes: tuple[str, ...]
    without_default: tuple[tuple[int, str], ...]


class TrialResult(Struct, frozen=True, kw_only=True):
    """How a text was read: its facts, and each line that concerns export settings."""

    dialect: Dialect
    data: bytes
    rows: tuple[Row, ...]
    facts: tuple[Fact, ...]

    @property
    def ignored(self) -> int:
        """The number of lines that do not concern export settings."""
        return max(self.data.count(b"\n") - len(self.rows), 0)

    def places(self, file: str) -> Places:
        """Return what maps a line to its file and line; `file`: the name of the text."""
        return Places(self.data, file)

    @property
    def is_understood(self) -> bool:
        """Whether every line was understood that may concern export settings."""
        return not any(isinstance(match, Unparsed) for _, _, match in self.rows)


class CoverResult(Struct, frozen=True):
    """How well a dialect knows configurations."""

    dialect: Dialect
    cover: Cover


class AppliedResult(Struct, frozen=True):
    """A configuration after a change; `unknown`: lines of the change that the dialect does not
    know.
    """

    dialect: Dialect
    before: bytes
    after: bytes
    unknown: tuple[tuple[int, str], ...]

    @property
    def is_folder(self) -> bool:
        """Whether the configuration is a folder of files."""
        return self.after.startswith(MARK)

    def write(self, path: Path) -> None:
        """Write the configuration after the change: a file, or the files of a folder."""
        write_configuration(path, self.after, self.before)


def dialects(folder: Path) -> tuple[Dialect, ...]:
    """Return all dialects that a workspace can use."""
    return tuple(Dialects(folder))


def dialect_abilities(folder: Path, name: str) -> tuple[Dialect, tuple[Ability, ...]]:
    """Return a dialect, and what its platform can express."""
    dialect = Dialects(folder)[name]
    return dialect, tuple(abilities(dialect))


def checked_dialect(folder: Path, name: str) -> CheckResult:
    """Run the examples of a dialect in both directions, and look for ambiguities."""
    dialect = Dialects(folder)[name]
    mistakes = tuple(str(mistake) for mistake in check_dialect(dialect))
    return CheckResult(dialect, mistakes, tuple(missing_defaults(dialect)))


def tried(folder: Path, name: str, file: str) -> TrialResult:
    """Read a configuration with a dialect, and return how each line was understood.

    Raise Unreadable if it cannot be read with this dialect.
    """
    known = Dialects(folder)
    dialect = known[name]
    data = read_configuration(Path(file), file)
    text = Text(data)
    try:
        facts = facts_in_doubt(Scope(None, read_records(dialect, text), {}))
        # Some shapes return statements in another order than that of the lines.
        every = sorted(explained(matcher(dialect), text), key=lambda row: row[0])
    except Foreign as problem:
        alike = looks_like(text, known)
        hint = f"; this looks like {alike}" if alike else ""
        raise Unreadable(f"{file}: {problem}{hint}") from None
    except Unreadable as problem:
        raise Unreadable(f"{file}: {problem}") from None
    rows = tuple(row for row in every if not _only_names(row[2]))
    return TrialResult(dialect=dialect, data=data, rows=rows, facts=tuple(facts))


def _only_names(match: object) -> bool:
    """Whether a statement only names the row that it is in, and concerns no export setting."""
    return isinstance(match, Understood) and match.pattern < 0


def covered(
    files: WorkspaceFiles | Path,
    name: str,
    options: RunOptions | None = None,
    given: Sequence[str] = (),
) -> CoverResult:
    """Return how well a dialect knows configurations.

    `files`: the workspace, or its folder if `given` names files; `given`: files, instead of the
    configurations of the fleet. Raise InputError if no device is of this platform.
    """
    if given:
        folder = files if isinstance(files, Path) else files.folder
        dialect = Dialects(folder)[name]
        texts = _of_files(given)
        number = len(given)
    else:
        files = WorkspaceFiles(files) if isinstance(files, Path) else files
        dialect = files.dialects[name]
        devices = [d for d in files.fleet.devices if d.platform == name]
        if not devices:
            raise InputError(f"no device of the fleet is of platform '{name}'; name files")
        number = len(devices)
        texts = _of_devices(files, devices)
    if options is not None:
        texts = options.reported(texts, number, "reading")
    return CoverResult(dialect, cover(dialect, texts))


def _of_files(files: Iterable[str]) -> Iterator[tuple[str, bytes | str]]:
    """Yield the name and the bytes of each file, or why it cannot be read."""
    for name in files:
        try:
            yield name, read_configuration(Path(name), name)
        except Unreadable as problem:
            yield name, str(problem).removeprefix(f"{name}: ")


def _of_devices(
    files: WorkspaceFiles, devices: Iterable[Device]
) -> Iterator[tuple[str, bytes | str]]:
    """Yield the configurations of devices in the same way."""
    for device in devices:
        try:
            data, file = files.text(device)
            yield file, data
        except Unreadable as problem:
            yield device.name, str(problem)


def applied(folder: Path, name: str, configuration: str, change: str) -> AppliedResult:
    """Apply a change to a configuration, as its platform would; both are files."""
    dialect = Dialects(folder)[name]
    data = read_configuration(Path(configuration), configuration)
    text = read_text(Path(change), change)
    after = apply_change(dialect, data, text, change)
    return AppliedResult(dialect, data, after, tuple(unknown_lines(dialect, text, change)))
