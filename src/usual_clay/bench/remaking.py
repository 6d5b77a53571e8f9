"""Remaking in the background what an edit made stale; the newest request wins."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from usual_clay.core.fit.cast import Cast
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.progress import Progress
from usual_clay.core.scan.sample import Sample
from usual_clay.files.picture_file import decode
from usual_clay.job.items import Basis, Followed, ItemId, PointList, Region
from usual_clay.job.job import sample_of
from usual_clay.job.recipes import Made
from usual_clay.job.remake import basis_of, remake, source_of, stale, values_of

if TYPE_CHECKING:
    from usual_clay.bench.session import Session

# What a remade item takes over into the present job; its name and the like are the user's.
MADE_FIELDS = (
    "points",
    "out",
    "closed",
    "geometry",
    "signed",
    "candidates",
    "made_of",
    "inside",
)


@dataclass(frozen=True)
class _Known:
    """Where a fit ended, for the next one of the same points on the same base."""

    sample: Sample
    settings: CastSettings
    start: Start

    def fits(self, sample: object, settings: CastSettings) -> bool:
        return self.sample is sample and self.settings.same_base(settings)


class Remaking:
    """What a session keeps to make things anew, and the making itself."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._starts: dict[ItemId, _Known] = {}
        self._asked: dict[ItemId, Basis] = {}
        self._samples: dict[ItemId, tuple[tuple[object, ...], Sample]] = {}

    def forget(self) -> None:
        """Let go of everything: another job is open."""
        self._starts, self._asked, self._samples = {}, {}, {}

    def follow(self) -> None:
        """Start making whatever is stale now."""
        for item_id in stale(self._session.job):
            self._remake(item_id)

    def sample(self, item: Region | PointList) -> Sample:
        """Return the points of a region or a list, with what was worked out from them before."""
        job = self._session.job
        values = values_of(job, item)
        kept = self._samples.get(item.id)
        if kept is None or not all(a is b for a, b in zip(kept[0], values, strict=True)):
            kept = (values, sample_of(job, item))
            self._samples = dict(list(self._samples.items())[-8:])
            self._samples[item.id] = kept
        return kept[1]

    def known_noise(self, item: Region | PointList) -> float:
        """Return the noise of points in mm; 0 until it has been estimated in the background."""
        session, sample = self._session, self.sample(item)
        if sample.knows_noise:
            return sample.noise
        key = f"noise {item.id}"
        if not session.work.is_busy(key):
            session.work.start(key, "", lambda *_: sample.noise, lambda _: session.searching.emit())
        return 0.0

    def remember(self, item_id: ItemId, sample: Sample, settings: CastSettings, made: Cast) -> None:
        """Keep where a cast ended, for the next one like it."""
        self._starts[item_id] = _Known(sample, settings, made.start)

    def sources(self, basis: Basis) -> list[Any]:
        """Return a recipe's sources as it takes them."""
        if basis.recipe.kind == "cast":
            measured = self._session.job.items[basis.recipe.sources[0]]
            assert isinstance(measured, Region | PointList)
            return [self.sample(measured)]
        return self.sources_of(basis.recipe.sources)

    def sources_of(self, ids: Sequence[ItemId]) -> list[Any]:
        """Return items as recipes take them."""
        job = self._session.job
        items = [job.items[source] for source in ids]
        return [
            self.sample(item) if isinstance(item, Region) else source_of(job, item.id, decode)
            for item in items
        ]

    def _remake(self, item_id: ItemId) -> None:
        session = self._session
        item = session.job.items[item_id]
        assert isinstance(item, Followed)
        basis = basis_of(session.job, item)
        assert basis is not None
        asked_before = basis.same_as(self._asked.get(item_id))
        if asked_before and (session.work.is_busy(item_id) or item_id in session.trouble):
            return
        self._asked[item_id] = basis
        settings, sources = basis.recipe.settings, self.sources(basis)
        known = self._starts.get(item_id)
        start = known.start if known and known.fits(sources[0], settings) else None

        def task(progress: Progress, partial: Callable[[Any], None]) -> tuple[Followed, Made]:
            return remake(item, basis, sources, start, progress, partial)

        def put(made: Followed) -> None:
            now = session.job.get(item_id, Followed)
            if now is not None and basis.same_as(basis_of(session.job, now)):
                fields = {name: getattr(made, name) for name in MADE_FIELDS if hasattr(made, name)}
                session.history.amend(session.job.changed(item_id, **fields))
                session.job_changed.emit()

        def done(result: tuple[Followed, Made]) -> None:
            if type(result[1]) is Cast:
                self.remember(item_id, sources[0], settings, result[1])
            session.trouble.pop(item_id, None)
            put(result[0])
            words = getattr(result[1], "words", "")
            if isinstance(result[1], Cast):
                # Its card says it: what it follows may be dragged many times.
                session.search_words[item_id] = f"{words[:1].upper()}{words[1:]}"
            elif words:
                session.told.emit("news", f"{item.name}: {words}.")
            # What follows from this one waited for it.
            self.follow()

        session.work.start(
            item_id,
            f"Fitting {item.name}",
            task,
            done,
            put,
            failed=lambda error: session.fail(item_id, error),
        )
