"""A progress bar on standard error."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Self

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID


class Bar:
    """A progress bar, shown only if standard error is a terminal; a run calls it as it goes on.

    `fewest`: no bar is shown for fewer items. As a context: the bar is removed at the end.
    """

    def __init__(self, fewest: int = 2) -> None:
        self._fewest = fewest
        self._progress: Progress | None = None
        self._task: TaskID | None = None

    def __call__(self, doing: str, done: int, total: int) -> None:
        """Show what is done, how many are done, and how many there are."""
        if total < self._fewest or not sys.stderr.isatty():
            return
        if self._progress is None:
            self._start()
        if self._progress is None:
            return
        if self._task is None:
            self._task = self._progress.add_task(doing, total=total)
        self._progress.update(self._task, description=doing, completed=done, total=total)

    def _start(self) -> None:
        # Loaded here: most calls show no progress, and start faster without it.
        from rich.console import Console
        from rich.progress import MofNCompleteColumn, Progress

        columns = (*Progress.get_default_columns(), MofNCompleteColumn())
        self._progress = Progress(*columns, console=Console(stderr=True), transient=True)
        self._progress.start()

    def pause(self) -> None:
        """Remove the bar, until the next call shows it again."""
        if self._progress is not None:
            self._progress.stop()
        self._progress = self._task = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.pause()
