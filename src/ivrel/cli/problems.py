"""What goes wrong, in one place: the line that tells it, and the exit code of the program."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable

AS_ASKED = 0  # all that was looked at meets the policy, or is waived
NOT_AS_ASKED = 1  # something does not
WRONG = 2  # the input or the call is wrong, or the program itself is
STOPPED = 130  # the user stopped it, as a shell tells of SIGINT


def guarded(run: Callable[[], int]) -> int:
    """Return the exit code of `run`; whatever it raises becomes one clear line and a code."""
    try:
        return run()
    except BrokenPipeError:
        # Whoever read the output has had enough.
        let_go_of_output()
        return AS_ASKED
    except KeyboardInterrupt:
        _flush()
        return STOPPED
    except Exception as problem:
        lines = lines_of(problem)
        if not lines and os.environ.get("IVREL_TRACEBACK"):
            raise
        for line in lines or [_own(problem)]:
            print(f"ivrel: {line}", file=sys.stderr)
        _flush()
        return WRONG


def _flush() -> None:
    """Write what is left to write; what cannot be is given up."""
    try:
        sys.stdout.flush()
    except OSError:
        let_go_of_output()


def let_go_of_output() -> None:
    """Write to nowhere from now on: what is left in the buffer must not complain at the end."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def lines_of(problem: Exception) -> list[str]:
    """Return the lines to print for a problem; none if it is an error of the program's own."""
    # Starting the program loads nothing of the core, and a call without mistakes does without.
    from ivrel.core.vocabulary.errors import InputError, IvrelError
    from ivrel.core.vocabulary.wording import plain

    if isinstance(problem, InputError):
        return [plain(str(mistake)) for mistake in problem.mistakes]
    if isinstance(problem, IvrelError):
        return [plain(str(problem))]
    if isinstance(problem, OSError):
        name = f"{problem.filename}: " if problem.filename else ""
        return [f"{name}{(problem.strerror or str(problem)).lower()}"]
    return []


def _own(problem: Exception) -> str:
    said = f"{type(problem).__name__}: {str(problem)[:200]!a}"
    return f"an error in Ivrel itself, {said}; IVREL_TRACEBACK=1 shows where"
