"""Where corrections go as they are computed: nowhere, into a folder, into one patch, or into the
workspace's own configurations.
"""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, Self

from msgspec.structs import replace

from ivrel.core.correcting import Correction
from ivrel.sources.corrections import BACKOUT, CHANGE, SHEETS, SUMMARY, UNPROVED, is_own

if TYPE_CHECKING:
    from ivrel.core.delivery.corrections import CorrectionSet
    from ivrel.sources.originals import Original
    from ivrel.sources.workspace import WorkspaceFiles


class CorrectionWriter:
    """Takes corrections one by one; this one writes them nowhere.

    As a context: nothing is half-written if an error ends it. `needs_text`: whether it needs the
    corrected configurations; `left_out`: devices whose correction it does not contain, and why.
    """

    needs_text = False

    def __init__(self) -> None:
        self.left_out: list[tuple[str, str]] = []

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *problem: object) -> None:
        """End, normally or by an error."""

    def take(self, c: Correction) -> Correction:
        """Take a correction; return the part of it that is kept until the end, as it may be
        shown.
        """
        return replace(c.as_shown(), corrected=b"")

    def done(self, result: CorrectionSet) -> None:
        """Finish, after the last correction."""


class FolderWriter(CorrectionWriter):
    """A folder of corrections: a folder a device, the summary for machines, the change sheets.

    `keeps`: whether the texts of changes are kept in memory, too.
    """

    def __init__(self, path: Path, policy: tuple[str, str], today: date, *, keeps: bool) -> None:
        from ivrel.output.spool import Spool
        from ivrel.output.views.sheet import SheetSections
        from ivrel.sources.files import NewFolder

        super().__init__()
        self._policy = policy
        self._today = today
        self._keeps = keeps
        self._new = NewFolder(path, is_own)
        self._sections = SheetSections()
        self._told = Spool()

    def __enter__(self) -> Self:
        self._at = self._new.__enter__()
        return self

    def __exit__(self, *problem: object) -> None:
        self._new.__exit__(*problem)

    def take(self, c: Correction) -> Correction:
        import msgspec

        from ivrel.output.views.corrections import correction_for_machines
        from ivrel.sources.files import write_pieces

        shown = c.as_shown()
        self._sections.take(shown)
        self._told.add(msgspec.json.encode(correction_for_machines(shown)))
        if c.changes:
            mark = "" if c.proved else UNPROVED
            # The folder as a whole is there once it is complete, so its files are plainly written.
            for name, text in ((CHANGE, c.change), (BACKOUT, c.backout)):
                path = self._at / c.device / f"{mark}{name}"
                write_pieces(path, (text,))
                if c.secrets:  # they are for their owner alone
                    path.chmod(0o600)
        bare = replace(c.before, verdicts=())
        kept = replace(shown, corrected=b"", before=bare, after=bare)
        return kept if self._keeps else replace(kept, change="", backout="")

    def done(self, result: CorrectionSet) -> None:
        from ivrel.output.machine.json import pieces
        from ivrel.output.machine.sheet import change_sheet
        from ivrel.output.machine.sheet_html import change_sheet_html
        from ivrel.output.views.corrections import rest_for_machines
        from ivrel.output.views.sheet import SheetView
        from ivrel.sources.approval import write_fingerprint
        from ivrel.sources.files import write_pieces

        sheet = SheetView(
            fleet=result.fleet,
            policy=self._policy,
            today=self._today,
            sections=self._sections,
            waves=result.waves,
            unread=result.unread,
            folder=result.folder,
        )
        rest = rest_for_machines(result)
        told = pieces({"fleet": result.fleet}, "devices", self._told, rest)
        write_pieces(self._at / SUMMARY, told)
        markdown, page = SHEETS
        write_pieces(self._at / markdown, (f"{line}\n" for line in change_sheet(sheet)))
        write_pieces(self._at / page, change_sheet_html(sheet))
        write_fingerprint(self._at)


class _FilesWriter(CorrectionWriter):
    """Changes the workspace's own files; corrections that are not proved are left out."""

    needs_text = True

    def __init__(self, workspace: WorkspaceFiles) -> None:
        super().__init__()
        self._workspace = workspace
        self._devices = {d.name: d for d in workspace.fleet.devices}

    def take(self, c: Correction) -> Correction:
        from ivrel.core.vocabulary.errors import Unreadable

        if c.changes and not c.proved:
            self.left_out.append((c.device, "its correction is not proved"))
        elif c.changes:
            try:
                self._put(c)
            except Unreadable as problem:
                self.left_out.append((c.device, str(problem)))
        return super().take(c)

    def _files(self, c: Correction) -> tuple[bytes, list[Original]]:
        """Return a device's configuration, and the files of it that its correction changes."""
        from ivrel.core.correcting import fingerprint
        from ivrel.core.vocabulary.errors import Unreadable
        from ivrel.sources.originals import originals

        data, file = self._workspace.text(self._devices[c.device])
        if fingerprint(data) != c.fingerprint:
            raise Unreadable(f"{file}: it was changed meanwhile; try again")
        root = self._workspace.folder
        limits = self._workspace.limits
        return data, list(originals(root, file, data, c.corrected, limits))

    def _put(self, c: Correction) -> None:
        raise NotImplementedError


def _moved_in(text: bytes) -> bytes:
    """Return a diff as text in front of another form of it, which Git passes over."""
    return b"".join(b"    " + line for line in text.splitlines(keepends=True))


class PatchWriter(_FilesWriter):
    """One patch over the configurations.

    `is_held`: whether each change has lines around it that hold it in its place; `deltas`: files
    that are written as Git deltas, since lines beside their changes must not be shown.
    """

    def __init__(self, workspace: WorkspaceFiles, out: BinaryIO) -> None:
        super().__init__(workspace)
        self._out = out
        self.is_held = True
        self.deltas = 0

    def _put(self, c: Correction) -> None:
        from ivrel.core.correcting.patches import lines_of
        from ivrel.core.text.delta import git_delta, words_of, words_put_in
        from ivrel.core.text.patch import git_name, patch
        from ivrel.core.text.text import Text
        from ivrel.core.vocabulary.errors import Unreadable

        data, files = self._files(c)
        lines = lines_of(self._workspace.dialects[c.platform], Text(data))
        out: list[tuple[bytes, bool]] = []
        deltas = 0
        # A delta holds what is put in, which must be of the change or its back-out, and nothing
        # that stays.
        written = words_of((c.change + c.backout).encode())
        for one in files:
            if not one.is_plain:
                said = "is packed, or no UTF-8, and no diff of its lines can be made"
                raise Unreadable(f"{one.file}: {said}; --in-place can change it")
            # The lines of one file of several are counted from its own first.
            shown, kept = (
                frozenset(n - one.first + 1 for n in some) for some in (lines.shown, lines.kept)
            )
            made = patch(one.file, one.data, one.after, shown)
            hidden = bool(kept & made.changes)
            old = one.data
            new = one.after
            is_plain = made.is_held and not hidden
            if not is_plain and old and new and words_put_in(old, new) <= written:
                lines_told = b"" if hidden else _moved_in(made.text)
                out.append((lines_told + git_delta(git_name(one.file), old, new), True))
                deltas += 1
                continue
            if hidden:
                said = "a line that changes holds more than export settings, and is not shown"
                raise Unreadable(f"{one.file}: {said}; --in-place can change it")
            out.append((made.text, made.is_held))
        for text, is_held in out:
            self._out.write(text)
            self.is_held = self.is_held and is_held
        self.deltas += deltas

    def done(self, result: CorrectionSet) -> None:
        self._out.flush()


class InPlaceWriter(_FilesWriter):
    """The workspace's own files, which are replaced once all corrections have come."""

    def __init__(self, workspace: WorkspaceFiles) -> None:
        from ivrel.sources.in_place import Replacing

        super().__init__(workspace)
        self._replacing = Replacing(workspace.folder)
        self.number = 0

    def __enter__(self) -> Self:
        self._replacing.__enter__()
        return self

    def __exit__(self, *problem: object) -> None:
        self._replacing.__exit__(*problem)

    def _put(self, c: Correction) -> None:
        from ivrel.core.vocabulary.errors import Unreadable

        files = self._files(c)[1]
        for one in files:
            if Path(one.file).is_absolute() or ".." in Path(one.file).parts:
                said = "lies outside the workspace, where --in-place writes nothing"
                raise Unreadable(f"{one.file}: {said}; use -o, and deliver the change")
        for one in files:
            self._replacing.add(one)
            self.number += 1

    def done(self, result: CorrectionSet) -> None:
        self._replacing.replace_all()
