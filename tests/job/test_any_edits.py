"""Edits in any order: each is undone to the very job before, and what follows is never wrong."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from tests.alike import assert_same
from usual_clay.core.build.combine import CopySettings, TwinSettings
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.job.edits import make
from usual_clay.job.history import History
from usual_clay.job.items import Curve, Followed
from usual_clay.job.job import Job, JobError
from usual_clay.job.recipe_kind import RecipeError
from usual_clay.job.remake import given_for, is_stale, remade, stale
from usual_clay.job.remake import make as made_by

LENGTHS = st.floats(-50, 50, allow_nan=False).map(lambda value: round(value, 3))
AXES = st.sampled_from(["x", "y", "z"])
NAMES = st.text("abc 123", min_size=1, max_size=6)


class AnyEdits(RuleBasedStateMachine):
    """Curves, and twins and copies of them, edited by a hand that cares for nothing."""

    @initialize()
    def begin(self) -> None:
        job = Job()
        for number in range(3):
            points = np.random.default_rng(number).uniform(-20, 20, (5, 3))
            curve = BSplineCurve(even_knots(5, 3), points)
            job = job.with_item(Curve(id=job.new_id("curve"), name=f"C {number}", geometry=curve))
        self.history = History(job)
        self.line = [job]
        self.at = 0

    @property
    def job(self) -> Job:
        return self.history.job

    def commit(self, job: Job, words: str) -> None:
        while late := stale(job):
            job = remade(job, job.the(late[0], Followed))
        self.history.commit(job, words)
        self.line = [*self.line[: self.at + 1], job]
        self.at += 1

    def pick(self, number: int) -> Curve:
        curves = list(self.job.all(Curve))
        return curves[number % len(curves)]

    # ---- edits

    @rule(number=st.integers(0, 9), axis=AXES, at=LENGTHS)
    def twin(self, number: int, axis: str, at: float) -> None:
        told = TwinSettings(axis, at)
        job, _, _ = make.add(self.job, "twin", told, curve=self.pick(number).id)
        self.commit(job, "twin")

    @rule(number=st.integers(0, 9), axis=AXES, by=LENGTHS)
    def copy(self, number: int, axis: str, by: float) -> None:
        told = CopySettings(axis, by)
        job, _, _ = make.add(self.job, "copy", told, curve=self.pick(number).id)
        self.commit(job, "copy")

    @rule(number=st.integers(0, 9), row=st.integers(0, 4), by=LENGTHS)
    def move(self, number: int, row: int, by: float) -> None:
        curve = self.pick(number)
        points = curve.geometry.points.copy()
        points[row, 1] += by
        moved = replace(curve, geometry=replace(curve.geometry, points=points), recipe=None)
        self.commit(self.job.with_item(replace(moved, made_of=None)), "move")

    @rule(number=st.integers(0, 9), at=LENGTHS)
    def set_again(self, number: int, at: float) -> None:
        curve = self.pick(number)
        if curve.recipe is not None:
            name = "at" if curve.recipe.kind == "twin" else "by"
            told = replace(curve.recipe.settings, **{name: at})
            self.commit(make.with_settings(self.job, curve, told), "settings")

    @rule(number=st.integers(0, 9), other=st.integers(0, 9))
    def tie(self, number: int, other: int) -> None:
        curve, source = self.pick(number), self.pick(other)
        if curve.recipe is None:
            return
        # In a circle nothing could ever be made.
        if curve.id in self.sources_of(source) | {source.id}:
            with pytest.raises(RecipeError, match="cannot follow"):
                make.tied(self.job, curve, "curve", source.id)
        else:
            self.commit(make.tied(self.job, curve, "curve", source.id), "tie")

    def sources_of(self, curve: Curve) -> set[str]:
        found: set[str] = set()
        wanted = [curve]
        while wanted:
            recipe = wanted.pop().recipe
            for each in () if recipe is None else recipe.sources:
                if each not in found and each in self.job.items:
                    found.add(each)
                    wanted.append(self.job.the(each, Curve))
        return found

    @rule(number=st.integers(0, 9))
    def loosen(self, number: int) -> None:
        self.commit(make.loosened(self.job, self.pick(number)), "loosen")

    @precondition(lambda self: len(self.job.items) > 2)
    @rule(number=st.integers(0, 9))
    def delete(self, number: int) -> None:
        curve = self.pick(number)
        if curve.locked:
            with pytest.raises(JobError, match="locked"):
                self.job.without(curve.id)
        else:
            self.commit(self.job.without(curve.id), "delete")

    @rule(number=st.integers(0, 9), name=NAMES)
    def rename(self, number: int, name: str) -> None:
        self.commit(self.job.changed(self.pick(number).id, name=name), "rename")

    @rule(number=st.integers(0, 9), flag=st.sampled_from(["visible", "locked"]), on=st.booleans())
    def flag(self, number: int, flag: str, on: bool) -> None:
        self.commit(self.job.changed(self.pick(number).id, **{flag: on}), flag)

    # ---- back and forward

    @rule(steps=st.integers(1, 4))
    def undo(self, steps: int) -> None:
        for _ in range(steps):
            self.history.undo()
            self.at = max(0, self.at - 1)

    @rule(steps=st.integers(1, 4))
    def redo(self, steps: int) -> None:
        for _ in range(steps):
            self.history.redo()
            self.at = min(len(self.line) - 1, self.at + 1)

    # ---- what always holds

    @invariant()
    def the_job_is_the_one_of_this_step(self) -> None:
        assert self.job is self.line[self.at]

    @invariant()
    def what_follows_is_what_its_recipe_makes(self) -> None:
        job = self.job
        for curve in job.all(Curve):
            if curve.recipe is None or job.is_loose(curve) or is_stale(job, curve):
                continue
            made = made_by(curve.recipe, given_for(job, curve.recipe))
            assert np.array_equal(made.curve.points, curve.geometry.points)

    @invariant()
    def only_what_is_locked_waits(self) -> None:
        job = self.job
        assert stale(job) == []
        waits = {curve.id for curve in job.all(Curve) if is_stale(job, curve)}
        locked = {curve.id for curve in job.all(Curve) if curve.locked}
        for each in waits:
            assert {each, *self.sources_of(job.the(each, Curve))} & locked

    def teardown(self) -> None:
        """All the way back is the job as it began, and forward again the last."""
        for _ in self.line:
            self.history.undo()
        assert_same(self.history.job, self.line[0])
        for _ in self.line:
            self.history.redo()
        assert self.history.job is self.line[-1]


AnyEdits.TestCase.settings = settings(max_examples=60, stateful_step_count=25, deadline=None)
TestAnyEdits = AnyEdits.TestCase
