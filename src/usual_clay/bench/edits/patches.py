"""Four-corner patches in a session: their borders, the surface inside, joints to neighbours."""

from __future__ import annotations

from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats
from usual_clay.core.errors import FitError, sentence
from usual_clay.core.fit.patch.meet import Continuity
from usual_clay.core.fit.patch.network import (
    Seam,
    solve_together,
)
from usual_clay.job.edits.patches import network_of, piece_of, with_joint, with_network
from usual_clay.job.items import Surface
from usual_clay.job.job import Job, JobError
from usual_clay.job.remake import is_stale


def set_joint(session: Session, surface: Surface, number: int, grade: Continuity) -> None:
    """Let a patch go on from its neighbour at a border; with G0 it only shares the border."""
    if not session.may_change(surface):
        return
    try:
        job = with_joint(session.job, surface, number, grade)
    except JobError as error:
        session.told.emit("trouble", sentence(error))
        session.job_changed.emit()
        return
    session.notes.pop(surface.id, None)
    session.commit(job, f"{grade} joint of {surface.name}")


def solve_patches(session: Session, surface: Surface) -> None:
    """Solve a patch and those that it shares borders with together: smooth over each of them."""
    job = session.job
    network = network_of(job, surface)
    if len(network) < 2:
        session.told.emit(
            "trouble",
            f"No other visible patch shares a border with {surface.name}:"
            " show those that it is to be solved with.",
        )
        return
    if any(is_stale(job, each) or job.is_loose(each) for each in network):
        session.told.emit("trouble", "These patches are still being fitted: wait for them.")
        return

    def task(*_: object) -> list[tuple[Seam, Floats]]:
        return solve_together([piece_of(job, each) for each in network])

    def done(found: list[tuple[Seam, Floats]]) -> None:
        if any(session.job.items.get(each.id) is not each for each in network):
            return
        many = f"{len(network)} patches over {len(found)} border{'s' if len(found) > 1 else ''}"
        session.commit(with_network(session.job, network, found), f"solve {many}")
        session.told.emit("news", f"{many} were solved together: they meet there with G1.")

    session.work.start(surface.id, "solve together", "Solving patches", task, done, asked=True)


def add_patch(session: Session, job: Job, surface: Surface, words: str) -> None:
    """Keep a patch with its borders."""
    try:
        session.commit(job.with_item(surface), words)
    except FitError as error:
        session.told.emit("trouble", sentence(error))
        return
    session.choice.fresh = surface.id
    session.choice.choose(surface.id)
