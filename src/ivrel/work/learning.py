"""Dialects learned from saved configurations, and written into a workspace."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from hashlib import sha256
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.authoring.draft import comment_sign, draft_dialect, fitting_shapes, telling_lines
from ivrel.core.authoring.learning.answers import UserAnswers, read_answers, write_answers
from ivrel.core.authoring.learning.changes import PastChange, from_changes
from ivrel.core.authoring.learning.cutting import Sample
from ivrel.core.authoring.learning.examples import examples_of
from ivrel.core.authoring.learning.learn import Learned, learn
from ivrel.core.authoring.learning.proposals import Proposal, commented, proposals
from ivrel.core.authoring.learning.questions import Question, questions, with_answer
from ivrel.core.authoring.learning.written import written
from ivrel.core.authoring.shape_traits import TRAITS
from ivrel.core.dialects.load import read_dialect
from ivrel.core.fleet import read_fleet
from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.sources.dialects import Dialects
from ivrel.sources.files import read_bytes, read_stdin, read_text, write_text
from ivrel.sources.workspace import WorkspaceFiles

__all__ = [
    "DraftResult", "Improvement", "LearnOptions", "LearnResult", "Learning",
    "Question", "draft",
]  # fmt: skip

# Called with an open question and the number of open questions; returns the answer, '' to pass, or
# None to stop. It is called again with the reason if the answer is not one.
Asking = Callable[[Question, int, str], str | None]


class LearnOptions(Struct, frozen=True):
    """What a dialect is learned with.

    `shape`: how its text is divided into statements, empty to detect it; `answers`: a file with
    answers that no sample can give; `changes`: files of past changes: before, after, change.
    """

    shape: str = ""
    answers: str = ""
    changes: tuple[tuple[str, str, str], ...] = ()


USUAL = LearnOptions()


class LearnResult(Struct, frozen=True):
    """What was learned; `file`: the dialect's file; `first`: the first sample."""

    learned: Learned
    file: Path
    first: Path

    @property
    def open_points(self) -> tuple[str, ...]:
        """What no sample shows and nobody answered."""
        return tuple(_open_points(self.learned))


class Improvement(Struct, frozen=True):
    """Proposals at the end of a dialect's file."""

    proposals: tuple[Proposal, ...]
    file: Path


class DraftResult(Struct, frozen=True):
    """A new dialect's file; `lines`: lines of the sample in it; `fitting`: shapes that fit it."""

    file: Path
    lines: int
    fitting: tuple[str, ...]


class Learning:
    """Learns the dialect `name` in the workspace folder, from sample files or folders.

    Raises InputError if the name cannot be one, or if its file exists.
    """

    def __init__(self, folder: Path, name: str, samples: Iterable[str]) -> None:
        self._folder = folder
        self._name = name
        self._file = dialect_file(folder, name)
        self._samples = tuple(samples_of(samples))
        self._first = _first(samples, self._samples)

    def learn(self, options: LearnOptions = USUAL, asking: Asking | None = None) -> LearnResult:
        """Learn the dialect and write its file; `asking`: asked about what is in doubt.

        With `asking`, the answers are saved, and an interrupted dialog is continued.
        """
        saved = self._folder / ".ivrel" / "answers" / f"{self._name}.yaml"
        is_begun = asking is not None and saved.exists()
        if is_begun:
            self._check_unchanged(saved)
        elif self._file.exists():
            raise _is_there(self._file)
        file = options.answers or (str(saved) if is_begun else "")
        answers = read_answers(read_text(Path(file), file), file) if file else UserAnswers()
        found = self._learned(answers, options)
        if asking is not None:
            self._save(saved, found)
            for better in self._asked(found, options, asking):
                self._save(saved, better)
                found = better
        return LearnResult(found, self._file, self._first)

    def improve(self) -> Improvement:
        """Propose what the samples show and the dialect does not know; change nothing else."""
        dialect = Dialects(self._folder)[self._name]
        if not self._file.exists():
            said = f"'{self._name}' is not a dialect of this workspace; expected {self._file}"
            raise InputError(said)
        if dialect.shape_name not in TRAITS:
            raise InputError(f"a dialect of the shape {dialect.shape_name} cannot be improved so")
        found = learn(self._name, self._samples, *known_addresses(self._folder), dialect.shape_name)
        proposed = tuple(proposals(dialect, found))
        if proposed:
            text = read_text(self._file, str(self._file)).rstrip()
            more = commented(proposed, [s.name for s in self._samples])
            write_text(self._file, f"{text}\n\n{more}")
        return Improvement(proposed, self._file)

    def _learned(self, answers: UserAnswers, options: LearnOptions) -> Learned:
        """Learn with these answers, and write the file."""
        known = known_addresses(self._folder)
        found = learn(self._name, self._samples, *known, options.shape, answers)
        if options.changes:
            changes = list(_past_changes(options.changes))
            found = replace(found, answers=from_changes(found, changes))
        text = written(found)
        # The file is written only if it can be read.
        examples = examples_of(found, read_dialect(text, self._file.name), self._samples)
        write_text(self._file, f"{text}\n{examples}" if examples else text)
        return found

    def _asked(self, found: Learned, options: LearnOptions, asking: Asking) -> Iterator[Learned]:
        """Ask about what is in doubt; yield what is learned after each answer."""
        passed: set[tuple[str, str]] = set()
        problem = ""
        while open_ones := [q for q in questions(found) if q.about not in passed]:
            question = open_ones[0]
            said = asking(question, len(open_ones), problem)
            problem = ""
            if said is None:
                return
            if not said:
                passed.add(question.about)
                continue
            try:
                found = self._learned(with_answer(found.answers, question, said), options)
            except ValueError:
                problem = f"'{said[:40]}' is not an answer to that"
                continue
            except InputError as error:
                problem = str(error)
                continue
            yield found

    def _save(self, saved: Path, found: Learned) -> None:
        write_text(saved, f"# {_print(self._file)}\n{write_answers(found.answers)}")

    def _check_unchanged(self, saved: Path) -> None:
        """Raise InputError if somebody changed the file since the dialog."""
        first = read_text(saved, str(saved)).partition("\n")[0].removeprefix("# ")
        if self._file.exists() and first != _print(self._file):
            said = "was changed since it was asked about; it is not written over"
            raise InputError([Mistake(str(self._file), said)])


def draft(folder: Path, name: str, shape: str, sample: str) -> DraftResult:
    """Write the file of a new dialect, with the lines of a sample that look like export settings.

    Raise InputError if its file exists.
    """
    file = dialect_file(folder, name)
    if file.exists():
        raise _is_there(file)
    text = read_bytes(Path(sample), sample).decode("utf-8", "replace")
    lines = telling_lines(text)
    write_text(file, draft_dialect(name, shape, lines, Path(sample).name, comment_sign(text)))
    return DraftResult(file, len(lines), tuple(fitting_shapes(text)))


def dialect_file(folder: Path, name: str) -> Path:
    """Return the file of a dialect of the workspace; InputError if the name cannot be one."""
    if not name.replace("-", "").isalnum() or not name.islower():
        raise InputError(
            f"'{name}' is not a name for a dialect; expected small letters, digits and '-'"
        )
    return folder / "dialects" / f"{name}.yaml"


def _is_there(file: Path) -> InputError:
    return InputError([Mistake(str(file), "is already there; it is not written over")])


def _print(file: Path) -> str:
    """Return the fingerprint of a dialect's file, with its name."""
    return f"{file.name} {sha256(file.read_bytes()).hexdigest()}"


def _past_changes(named: Iterable[tuple[str, str, str]]) -> Iterator[PastChange]:
    for before, after, change in named:
        old = read_bytes(Path(before), before)
        new = read_bytes(Path(after), after)
        yield PastChange(change, old, new, read_text(Path(change), change))


def _open_points(found: Learned) -> Iterator[str]:
    if found.lacks_word:
        yield "which word takes a statement away; until then, no correction is proved that does"
    if found.lacks_block:
        yield "in which block a change stands; until then, no correction is proved"
    if not found.answers.defaults:
        yield "what holds where a text says nothing: whether export is on, ports, levels"
    if any(slot.endswith("level") for row in found.known for slot in row.slots):
        yield "whether a severity is a threshold, as it was taken for, or stands for itself"


def known_addresses(folder: Path) -> tuple[list[str], list[str]]:
    """Return the addresses of collectors and of devices that the workspace knows."""
    found = [name for name in ("fleet.yaml", "fleet.csv") if (folder / name).exists()]
    if not found:
        return [], []
    files = WorkspaceFiles(folder)
    collectors = files.policy.collectors.values() if files.has_policy else ()
    # The fleet may name platforms already whose dialect is only being learned.
    fleet = read_fleet(read_text(folder / found[0], found[0]), found[0])
    return (
        [c.address for c in collectors if c.address],
        [d.identity for d in fleet.devices if d.identity],
    )


def samples_of(names: Iterable[str]) -> Iterator[Sample]:
    """Yield the samples of files and folders; '-' is standard input."""
    for name in names:
        if name == "-":
            yield Sample("standard input", read_stdin("standard input"))
        elif Path(name).is_dir():
            for path in sorted(p for p in Path(name).iterdir() if p.is_file()):
                yield Sample(path.name, read_bytes(path, str(path)))
        else:
            yield Sample(Path(name).name, read_bytes(Path(name), name))


def _first(names: Iterable[str], samples: Sequence[Sample]) -> Path:
    first = Path(next(iter(names)))
    return first / samples[0].name if first.is_dir() else first
