"""Undo and redo: the jobs that were."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, is_dataclass, replace

import numpy as np

from usual_clay.job.job import Job

# So many steps are kept, and of those beyond the last few no more than this much memory, bytes.
DEEPEST, ALWAYS, MOST_BYTES = 200, 20, 100_000_000


@dataclass(frozen=True, eq=False)
class Step:
    """A job, and the words for the edit that led to it.

    Attributes
    ----------
    alone : int
        Bytes that it has for itself: of what the next step has no more.
    """

    job: Job
    words: str
    alone: int = 0


class History:
    """The line of jobs from the first to the newest, and where the user is on it."""

    def __init__(self, job: Job) -> None:
        self._steps = [Step(job, "")]
        self._at = 0

    @classmethod
    def of(cls, steps: Sequence[tuple[str, Job]], at: int) -> History:
        """Return a history of steps that were kept, each with the words of its edit."""
        made = cls(steps[0][1])
        made._steps = [
            Step(job, words, _alone(job, newer[1]) if newer else 0)
            for (words, job), newer in zip(steps, [*steps[1:], None], strict=True)
        ]
        made._at = at
        return made

    @property
    def steps(self) -> tuple[Step, ...]:
        """All of them as they are now, the oldest first."""
        return tuple(self._steps)

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
        last = self._steps[-1]
        self._steps[-1] = replace(last, alone=_alone(last.job, job))
        self._steps.append(Step(job, words))
        del self._steps[:-DEEPEST]
        while len(self._steps) > ALWAYS and sum(s.alone for s in self._steps) > MOST_BYTES:
            del self._steps[0]
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


def _alone(job: Job, newer: Job) -> int:
    """Return how many bytes of arrays a job has that a newer one does not."""
    gone = {key: item for key, item in job.items.items() if newer.items.get(key) is not item}
    shared = {id(array) for key in gone for array in _arrays(newer.items.get(key))}
    own = {id(array): array.nbytes for item in gone.values() for array in _arrays(item)}
    return sum(size for key, size in own.items() if key not in shared)


def _arrays(value: object) -> Iterator[np.ndarray]:
    """Yield all arrays that something is made of, and what was worked out from it and kept."""
    if isinstance(value, np.ndarray):
        yield value
    elif is_dataclass(value) and not isinstance(value, type):
        for part in vars(value).values():
            yield from _arrays(part)
    elif isinstance(value, tuple | list):
        # Numbers, of which there may be very many, hold none.
        for part in value if len(value) and not isinstance(value[0], int | float | str) else ():
            yield from _arrays(part)
    elif isinstance(value, Mapping):
        for part in value.values():
            yield from _arrays(part)
