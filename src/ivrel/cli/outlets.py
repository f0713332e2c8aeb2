"""Where the corrections of `ivrel correct` go as they come: to the terminal alone, into a folder,
into one diff, or into the workspace's own files.
"""

from __future__ import annotations

import argparse
import sys
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Self

from msgspec.structs import replace

from ivrel.core.correcting import Correction
from ivrel.core.vocabulary.wording import counted
from ivrel.sources.corrections import BACKOUT, BESIDE, CHANGE, SHEETS, SUMMARY, UNPROVED, is_own

if TYPE_CHECKING:
    from ivrel.core.fleet import Device
    from ivrel.output.views.corrections import CorrectionsView
    from ivrel.sources.originals import Original
    from ivrel.sources.workspace import Workspace


class Outlet:
    """Takes corrections one by one. As a context: nothing is half-written when it is left by an
    error.

    `needs_text`: whether it needs the corrected configurations.
    """

    needs_text = False
    left = 0  # changes that are not in it

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *problem: object) -> None:
        """End, as it should or by an error."""

    def take(self, c: Correction) -> Correction:
        """Take a correction; return what of it has to be kept until the end, as it may be shown."""
        return replace(c.as_shown(), corrected=b"")

    def done(self, view: CorrectionsView) -> None:
        """Finish, once all corrections have come."""


class Folder(Outlet):
    """A folder of corrections: a folder a device, the summary for machines, the change sheets.

    `keeps`: whether the texts of changes are kept in memory, too.
    """

    def __init__(self, path: Path, policy: tuple[str, str], today: date, *, keeps: bool) -> None:
        from ivrel.output.spool import Spool
        from ivrel.output.views.sheet import SheetSections
        from ivrel.sources.files import NewFolder

        self._policy, self._today, self._keeps = policy, today, keeps
        self._new = NewFolder(path, is_own)
        self._sections, self._told = SheetSections(), Spool()

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

    def done(self, view: CorrectionsView) -> None:
        from ivrel.output.machine.json import pieces
        from ivrel.output.machine.sheet import change_sheet
        from ivrel.output.machine.sheet_html import change_sheet_html
        from ivrel.output.views.sheet import SheetView
        from ivrel.sources.approval import write_fingerprint
        from ivrel.sources.files import write_pieces

        sheet = SheetView(
            fleet=view.fleet,
            policy=self._policy,
            today=self._today,
            sections=self._sections,
            waves=view.waves,
            unread=view.unread,
            folder=view.folder,
        )
        told = pieces({"fleet": view.fleet}, "devices", self._told, view.rest())
        write_pieces(self._at / SUMMARY, told)
        markdown, page = SHEETS
        write_pieces(self._at / markdown, (f"{line}\n" for line in change_sheet(sheet)))
        write_pieces(self._at / page, change_sheet_html(sheet))
        write_fingerprint(self._at)


class _OfFiles(Outlet):
    """What changes the workspace's own files; what is not proved is left out, and told."""

    needs_text = True

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._devices = {d.name: d for d in workspace.fleet.devices}

    def take(self, c: Correction) -> Correction:
        from ivrel.core.vocabulary.errors import Unreadable

        if c.changes and not c.proved:
            self._leave_out(c.device, "its correction is not proved")
        elif c.changes:
            try:
                self._put(c)
            except Unreadable as problem:
                self._leave_out(c.device, str(problem))
        return super().take(c)

    def _leave_out(self, device: str, why: str) -> None:
        self.left += 1
        print(f"ivrel correct: {device} is not in it: {why}", file=sys.stderr)

    def _files(self, c: Correction) -> tuple[bytes, list[Original]]:
        """Return a device's configuration, and the files of it that its correction changes."""
        from ivrel.core.correcting import fingerprint
        from ivrel.core.vocabulary.errors import Unreadable
        from ivrel.sources.originals import originals

        data, file = self._workspace.text(self._devices[c.device])
        if fingerprint(data) != c.fingerprint:
            raise Unreadable(f"{file}: it was changed meanwhile; try again")
        return data, list(originals(self._workspace.folder, file, data, c.corrected))

    def _put(self, c: Correction) -> None:
        raise NotImplementedError


def _moved_in(text: bytes) -> bytes:
    """Return a diff as text in front of another form of it, which Git passes over."""
    return b"".join(b"    " + line for line in text.splitlines(keepends=True))


class Diff(_OfFiles):
    """One patch over the configurations, on standard output."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._is_held = True
        self._deltas = 0

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
            old, new = one.data, one.after
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
            sys.stdout.buffer.write(text)
            self._is_held = self._is_held and is_held
        self._deltas += deltas

    def done(self, view: CorrectionsView) -> None:
        sys.stdout.buffer.flush()
        if self._deltas:
            said = "written as Git deltas: lines beside their changes must not be shown"
            print(f"ivrel correct: {counted(self._deltas, 'file')} {said}", file=sys.stderr)
        if view.changed:
            call = "git apply" if self._is_held else "git apply --unidiff-zero"
            print(f"next  (cd {self._workspace.folder} && {call}) < PATCH", file=sys.stderr)


class InPlace(_OfFiles):
    """The workspace's own files, which are replaced once all corrections have come."""

    def __init__(self, workspace: Workspace) -> None:
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

    def done(self, view: CorrectionsView) -> None:
        self._replacing.replace_all()


def outlet_of(
    args: argparse.Namespace, workspace: Workspace, devices: tuple[Device, ...], today: date
) -> Outlet:
    """Return where the corrections of a call go; InputError if they cannot go there."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.sources.files import claim_folder

    if args.output:
        # Each device gets a folder of its own beside these files.
        clash = next((d.name for d in devices if d.name in BESIDE), None)
        if clash:
            said = f"a device is called '{clash}', as a file of the corrections is"
            raise InputError(f"{said}; give it another name")
        # Before the work, which may be long: a folder that cannot be had is reported at once.
        claim_folder(Path(args.output), args.replace)
        policy = workspace.policy.name, workspace.policy.file
        return Folder(Path(args.output), policy, today, keeps=args.format != "table")
    if not args.form and not args.in_place:
        return Outlet()
    if args.form and args.format != "table":
        raise InputError(
            f"--as {args.form} writes a diff, not {args.format}; leave one of them out"
        )
    if args.text is not None:
        raise InputError("--text gives a text that is no file of the workspace; leave it out")
    return InPlace(workspace) if args.in_place else Diff(workspace)
