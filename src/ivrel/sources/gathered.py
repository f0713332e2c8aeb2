"""Gathered configurations: written into a workspace, each as a whole, and only if it changed."""

from __future__ import annotations

import shutil
from pathlib import Path

from ivrel.core.fleet import Device
from ivrel.core.text.bundle import is_inside, parts
from ivrel.core.vocabulary.errors import InputError, Mistake, Unreadable
from ivrel.core.vocabulary.wording import shorten
from ivrel.sources.files import OWN, NewFolder, private_folder, write_bytes
from ivrel.sources.packed import ENDINGS
from ivrel.sources.workspace import WorkspaceFiles


def standing_text(workspace: WorkspaceFiles, device: Device) -> bytes | None:
    """Return the configuration of a device in the workspace; None if there is none that can be
    read.
    """
    try:
        return workspace.text(device)[0]
    except Unreadable:
        return None


BESIDE = ".ivrel/kept-beside"


def keep_beside(workspace: WorkspaceFiles, device: Device, data: bytes) -> str:
    """Write a configuration that may not take the place of the one before, and return the file."""
    shown = f"{BESIDE}/{device.name}.conf"
    own = workspace.folder / BESIDE
    for folder in (own.parent, own):
        private_folder(folder)
    write_bytes(workspace.folder / shown, data, OWN)
    return shown


def write_gathered(workspace: WorkspaceFiles, device: Device, data: bytes) -> str:
    """Write a configuration where the workspace has it, and return the file, from its folder."""
    files = {part.name: part.data for part in parts(data)}
    shown = workspace.configuration(device) or f"configs/{device.name}"
    for ending in ENDINGS:
        shown = shown.removesuffix(ending)
    path = workspace.folder / shown
    if "" in files:
        if path.is_dir():
            return _in_place_of_a_folder(path, data, shown)
        if shown == f"configs/{device.name}":
            shown = f"{shown}.conf"
            path = path.with_name(f"{path.name}.conf")
        write_bytes(path, data, OWN)
        return shown
    for name in files:
        if not is_inside(name):
            raise InputError([Mistake(shown, f"'{shorten(name)}' would lie outside of it")])
    if path.is_file():
        # A folder of the name comes before a file of that name with an ending.
        shown = f"configs/{device.name}"
        path = workspace.folder / shown
    with NewFolder(path, lambda entry: True) as new:
        for name, text in files.items():
            write_bytes(new / name, text, OWN)
    return shown


def _in_place_of_a_folder(path: Path, data: bytes, shown: str) -> str:
    """Write one file where a folder was: the folder goes when the file is there."""
    new = path.with_name(f"{path.name}.conf")
    write_bytes(new, data, OWN)
    shutil.rmtree(path)
    return f"{shown}.conf"
