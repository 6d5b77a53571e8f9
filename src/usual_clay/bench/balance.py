"""Balance: control points against deviation, and how the error is spread."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from usual_clay.bench.balance_charts import Chart, Histogram
from usual_clay.bench.edits.making import set_settings
from usual_clay.bench.ledger import Ledger
from usual_clay.bench.session import Session
from usual_clay.bench.theme.theme import themes
from usual_clay.bench.widgets import Pace, label, rule
from usual_clay.core.check.deviation import percent
from usual_clay.core.fit.curve.sequence import PointSequence
from usual_clay.core.fit.parameterize.region import with_knots_of
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.job.items import Body, Curve, PointList, Surface
from usual_clay.job.remake import is_stale


class Balance(QWidget):
    """The two charts for what is chosen."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("panel")
        self.title = label(role="group")
        self.spread_title = label("How the error is spread", role="group")
        self.chart, self.histogram = Chart(), Histogram()
        self.chart.taken.connect(self._take)
        self._known: tuple[object, float] = (None, 0.0)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 6)
        row.setSpacing(12)
        self.nothing = label(
            "Choose a surface or a spline to see what it costs and how far it is off.", role="soft"
        )
        self.nothing.setWordWrap(True)
        self.nothing.setAlignment(Qt.AlignmentFlag.AlignCenter)
        row.addWidget(self.nothing, 1)
        self.ledger = Ledger(session)
        row.addWidget(self.ledger, 13)
        self.half = rule(upright=True)
        self.columns: list[QWidget] = []
        for title, chart, stretch in (
            (self.title, self.chart, 13),
            (self.spread_title, self.histogram, 8),
        ):
            part = QWidget()
            column = QVBoxLayout(part)
            column.setContentsMargins(0, 0, 0, 0)
            column.setSpacing(2)
            column.addWidget(title)
            column.addWidget(chart, 1)
            if self.columns:
                row.addWidget(self.half)
            row.addWidget(part, stretch)
            self.columns.append(part)
        pace = Pace(self, lambda: session.is_proposing, self.refresh)
        for signal in (
            session.job_changed,
            session.choice.changed,
            session.sight.known_changed,
            themes.changed,
        ):
            signal.connect(pace.ask)
        self.refresh()

    def refresh(self) -> None:
        session = self.session
        job, surface = session.shown, session.choice.fitted()
        tolerance = job.tolerance
        report = None if surface is None else job.report(surface)
        body = session.shown.get(session.choice.item, Body)
        judged = None if body is None else job.report(body)
        at = f"mm, {percent(tolerance.share)}"
        self.columns[0].setVisible(report is not None)
        for part in (self.columns[1], self.half):
            part.setVisible(report is not None or judged is not None)
        told = report is None and surface is not None
        self.nothing.setText(self._cost(surface))
        self.ledger.setVisible(report is None and not told and self.ledger.refresh())
        self.nothing.setVisible(report is None and self.ledger.isHidden())
        self.nothing.setText(self._cost(surface))
        if judged is not None and body is not None and body.signed is not None:
            words = "of the area within, by {points}"
            self.histogram.show_signed(body.signed, tolerance.deviation, judged.within_share, words)
        if surface is None or surface.signed is None or report is None:
            return
        self.title.setText(f"Balance: {surface.name}   control points against deviation ({at})")
        total = surface.control_points
        counts = " × ".join(map(str, surface.counts))
        if len(surface.counts) > 1:
            counts += f" = {total}"
        words = f"{counts} control points\n"
        words += f"{percent(tolerance.share)} within {report.at_share:.3f} mm"
        if is_stale(job, surface):
            words = f"{counts.split(' =')[0]}: fitting ..."
        candidates = [*surface.candidates, *session.sight.front, *session.sight.found]
        present = (float(total), report.at_share, words)
        self.chart.show_candidates(
            candidates,
            present,
            tolerance.deviation,
            tolerance.share,
            tolerance.noise_floor(self._noise(surface)),
        )
        of = "of the area within, by {points}" if surface.by_area else "of {points} within"
        if isinstance(surface, Surface) and not surface.watches:
            of = "of its curves within, by {points}"
        self.histogram.show_signed(surface.signed, tolerance.deviation, report.within_share, of)

    def _cost(self, item: Surface | Curve | None) -> str:
        """Say what something costs that nothing measures, or all that is shown."""
        if item is not None:
            return f"{item.name}: {item.control_points} control points. Nothing measured judges it."
        job, words = self.session.shown, []
        curves = [curve for curve in job.all(Curve) if curve.visible]
        surfaces = [surface for surface in job.all(Surface) if surface.visible]
        for shown, name in ((curves, "curve"), (surfaces, "surface")):
            if shown:
                cost = sum(part.control_points for part in shown)
                many = f"{len(shown)} {name}{'s' if len(shown) != 1 else ''}"
                words.append(f"{many} with {cost} control points")
        told = f"Shown: {', '.join(words)}. " if words else ""
        return f"{told}Choose a surface or a spline to see what it costs and how far it is off."

    def _noise(self, item: Surface | Curve) -> float:
        """Return the noise of the item's points where it is known by now."""
        if isinstance(item, Curve):
            run = self.session.job.get(item.watches, PointList)
            if run is None:
                return 0.0
            if self._known[0] is not run:
                self._known = (run, PointSequence(run.points[run.kept], run.closed).noise)
            return self._known[1]
        measured = self.session.shown.measured(item)
        if measured is None or item.recipe is None:
            return 0.0
        sample = self.session.sources.sample(measured)
        if sample.knows_noise:
            return sample.noise
        # It takes a moment: until then there is no band.
        if self.session.work.find(measured.id, "noise") is None:
            tell = self.session.sight.known_changed.emit
            self.session.work.start(
                measured.id, "noise", "", lambda *_: sample.noise, lambda _noise: tell()
            )
        return 0.0

    def _take(self, candidate: Candidate) -> None:
        item = self.session.choice.fitted()
        if item is None or item.recipe is None:
            return
        settings = item.recipe.settings
        if candidate.within:
            lean = replace(settings, nu=0, nv=0, within=candidate.within)
            set_settings(self.session, item, lean, "balance")
        elif hasattr(settings, "controls"):
            set_settings(self.session, item, settings.sized(candidate.nu), "balance")
        elif hasattr(settings, "sized"):
            sized = settings.sized(candidate.nu, candidate.nv)
            if candidate.surface is not None:
                sized = with_knots_of(settings, candidate.surface)
            set_settings(self.session, item, sized, "balance")
