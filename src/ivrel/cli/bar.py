"""A bar for what is waited for, on a terminal."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Self

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID


class Bar:
    """A bar on standard error, if that is a terminal, for what is waited for."""

    def __init__(self, total: int, doing: str) -> None:
        self._total, self._doing = total, doing
        self._progress: Progress | None = None
        self._task: TaskID | None = None

    def __enter__(self) -> Self:
        if sys.stderr.isatty() and self._total > 1:
            from rich.console import Console
            from rich.progress import MofNCompleteColumn, Progress

            columns = (*Progress.get_default_columns(), MofNCompleteColumn())
            self._progress = Progress(*columns, console=Console(stderr=True), transient=True)
            self._progress.start()
            self._task = self._progress.add_task(self._doing, total=self._total)
        return self

    def pause(self) -> None:
        """Take the bar away, for something else that is shown."""
        if self._progress is not None:
            self._progress.stop()

    def go_on(self) -> None:
        """Show it again."""
        if self._progress is not None:
            self._progress.start()

    def says(self, doing: str) -> None:
        """Say what is waited for now."""
        if self._progress is not None and self._task is not None:
            self._progress.update(self._task, description=doing)

    def step(self) -> None:
        """Note that one more is done."""
        if self._progress is not None and self._task is not None:
            self._progress.advance(self._task)

    def __exit__(self, *_: object) -> None:
        if self._progress is not None:
            self._progress.stop()
