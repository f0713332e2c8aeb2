"""Makes the model of a whole configuration: its files, its statements, and what they forward."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache
from pathlib import PurePosixPath

from ivrel.core.shapes.rsyslog.flow.bounds import ALL
from ivrel.core.shapes.rsyslog.flow.files import Files
from ivrel.core.shapes.rsyslog.flow.installed import installed
from ivrel.core.shapes.rsyslog.flow.model import Forward, Model, Uncertainty
from ivrel.core.shapes.rsyslog.flow.setup import Setup
from ivrel.core.shapes.rsyslog.flow.walk import Walk
from ivrel.core.shapes.rsyslog.syntax.script import read_script
from ivrel.core.shapes.rsyslog.syntax.source import read_source
from ivrel.core.shapes.rsyslog.syntax.statements import Script
from ivrel.core.text.bundle import Part, parts
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.software import UNSAID, Software

MAIN = "rsyslog.conf"
LONGEST = 16 * 1024 * 1024  # bytes; more than any configuration of rsyslog has


# Reads a configuration as the daemon of one device does.
Read = Callable[[bytes], Model]


@lru_cache(maxsize=8)
def read_model(data: bytes, software: Software = UNSAID) -> Model:
    """Return the model of a configuration; Unreadable if it has no main file.

    software: what is installed; what the files themselves say of it is added.
    """
    if len(data) > LONGEST or b"\0" in data:
        said = (
            f"more than {LONGEST // 1024 // 1024} MiB"
            if len(data) > LONGEST
            else "a NUL byte, which no text has"
        )
        raise Unreadable(f"it holds {said}")
    found, main = _files(data)
    return _whole(found, main, software.over(installed(found)))


def read_setup(data: bytes) -> Setup:
    """Return all that is settled when a daemon starts; Unreadable as for `read_model`."""
    found, main = _files(data)
    source = read_source(main.name, main.first, main.text)
    return Setup(read_script(source, Files(found, main).opened).statements, installed(found))


def _files(data: bytes) -> tuple[Sequence[Part], Part]:
    """Return the files of a configuration, and the main one of them."""
    found = parts(data)
    mains = sorted(
        (p for p in found if PurePosixPath(p.name).name == MAIN), key=lambda p: p.name.count("/")
    )
    if not mains and (len(found) > 1 or "/" in found[0].name):
        raise Unreadable(f"no {MAIN} among its files")
    return found, mains[0] if mains else found[0]


def _whole(found: Sequence[Part], main: Part, software: Software) -> Model:
    files = Files(found, main, software.folder)
    source = read_source(main.name, main.first, main.text)
    script = read_script(source, files.opened)
    setup = Setup(script.statements, software)
    walk = Walk(setup)
    walk.ruleset(setup.default, ALL, None)
    relayed = _relayed(setup)
    doubts = [*files.doubts, *_refusals(script), *setup.doubts, *walk.doubts]
    forwards = tuple(walk.forwards.values())
    # A ruleset that the main one calls may also be bound to an input: its actions count once.
    used = {forward.action.statement.place for forward in forwards}
    return Model(
        forwards,
        tuple(f for f in relayed if f.action.statement.place not in used),
        tuple(walk.locals),
        tuple(sorted(set(doubts), key=lambda doubt: doubt.line)),
        tuple(setup.limits([f.action for f in forwards])),
        tuple(setup.others + walk.others),
        tuple(files.includes),
        main,
        script.statements,
        setup.name,
        setup.default_form is not None,
        None
        if setup.authority is None
        else Uncertainty(setup.authority.value or "?", setup.authority.line),
    )


def _refusals(script: Script) -> list[Uncertainty]:
    """Return the parts that the daemon refuses: parts of statements, and everything after a syntax
    error.
    """
    out = [Uncertainty(f"rsyslogd does not take {m.text}", m.line) for m in script.mistakes]
    if script.end is not None:
        out.append(
            Uncertainty(
                f"rsyslogd takes nothing from this line on: {script.end.text}", script.end.line
            )
        )
    return out


def _relayed(setup: Setup) -> list[Forward]:
    """Return where goes what comes in by an input with a ruleset of its own."""
    out: list[Forward] = []
    for name, kind in setup.bound.items():
        if name in setup.rulesets and name != setup.default:
            walk = Walk(setup)
            walk.ruleset(name, ALL, Uncertainty(f"comes in by {kind}", 0))
            out += walk.forwards.values()
    return out
