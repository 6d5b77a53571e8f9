"""Undo and redo: the jobs that were."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from usual_clay.job.job import Job

DEEPEST = 200


@dataclass(frozen=True, eq=False)
class Step:
    """A job, and the words for the edit that led to it."""

    job: Job
    words: str


class History:
    """The line of jobs from the first to the newest, and where the user is on it."""

    def __init__(self, job: Job) -> None:
        self._steps = [Step(job, "")]
        self._at = 0

    @property
    def job(self) -> Job:
        return self._steps[self._at].job

    @property
    def undo_words(self) -> str | None:
        return self._steps[self._at].words if self._at else None

    @property
    def redo_words(self) -> str | None:
        return self._steps[self._at + 1].words if self._at + 1 < len(self._steps) else None

    def commit(self, job: Job, words: str, onto_last: bool = False) -> None:
        """Make an edit the newest step; what was undone before it is forgotten.

        With `onto_last`, an edit of the same words takes the last step's place, so that a slider
        that was dragged is undone as one.
        """
        del self._steps[self._at + 1 :]
        if onto_last and self._at and self._steps[-1].words == words:
            self._steps[-1] = Step(job, words)
            return
        self._steps.append(Step(job, words))
        del self._steps[:-DEEPEST]
        self._at = len(self._steps) - 1

    def latest(self, which: Callable[[Job], bool]) -> Job | None:
        """Return the newest of the jobs so far, up to now, of which something holds."""
        return next((s.job for s in reversed(self._steps[: self._at + 1]) if which(s.job)), None)

    def amend(self, job: Job) -> None:
        """Put a computed result into the present step, without a step of its own."""
        self._steps[self._at] = Step(job, self._steps[self._at].words)

    def undo(self) -> Job:
        self._at = max(0, self._at - 1)
        return self.job

    def redo(self) -> Job:
        self._at = min(len(self._steps) - 1, self._at + 1)
        return self.job
