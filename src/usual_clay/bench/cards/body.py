"""The card of a body: what it is made of, its mass, its gaps, and the scan that judges it."""

from __future__ import annotations

from shiboken6 import isValid

from usual_clay.bench.cards.gap_rows import GapRows, signs_of_body
from usual_clay.bench.cards.recipe import RecipeCard
from usual_clay.bench.command import Commands
from usual_clay.bench.guard import Guarded
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import Row, combo, fill, label, number
from usual_clay.core.check.deviation import percent
from usual_clay.job.edits.judging import watching
from usual_clay.job.items import Body, Followed, Scan
from usual_clay.job.remake import is_stale


class BodyCard(Guarded, RecipeCard):
    """Its recipe, as of any item, with what only a body has."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session, commands)
        self.mass = label(role="soft", wraps=True)
        self.density = number(
            0.001, 30, 3, " g/cm³", "Density of what it is to be made of", "Density"
        )
        self.density.valueChanged.connect(self._set_density)
        self.judge = combo("The scan that judges it")
        self.judge.currentIndexChanged.connect(lambda _index: self._set_judge())
        self.judged = label(role="soft", wraps=True)
        self.gaps = GapRows(session)
        self.column.insertWidget(2, self.figures)
        at = self.column.indexOf(self.sources)
        for part in (
            self.gaps, Row("Density", self.density), self.mass,
            Row("Judged by", self.judge, stretch=0), self.judged,
        ):  # fmt: skip
            self.column.insertWidget(at, part)
            at += 1
        self.float = commands.button("task afloat", "Float ...")
        self.add_buttons(self.float)

    def _body(self) -> Body | None:
        return self.session.shown.get(self.session.choice.item, Body)

    def refresh(self) -> None:
        super().refresh()
        body = self._body()
        if body is None:
            return
        if body.recipe is None:
            for page, *_ in self._pages.values():
                page.hide()
            self.title.setText(f"Body: {body.name}")
            self.about.setText("A solid" if body.shape.is_solid else "An open shell")
            for part in (self.again, self.loose, self.search, self.meet):
                part.setVisible(False)
            self._show_figures(body)
        signs = signs_of_body(body.gaps, body.spots)
        flown = len(self.session.sight.signs) == 1 and self.session.sight.signs[0].words == "here"
        if self.isVisible() and not flown and len(signs) != len(self.session.sight.signs):
            self.session.sight.show_signs(signs)

    def hideEvent(self, _event: object) -> None:
        # A window that goes takes the session along first.
        if isValid(self.session.sight):
            self.session.sight.show_signs([])

    def _show_figures(self, item: Followed) -> None:
        if not isinstance(item, Body):
            return
        shape, stale = item.shape, is_stale(self.session.shown, item)
        self.figures.show()
        solid = shape.is_solid
        size = f"{shape.volume / 1000:.3f} cm³" if solid else f"{shape.area / 100:.2f} cm²"
        word = "being made" if stale else "solid" if solid else "open shell"
        self.near.show_figure(size, word, stale)
        edges = f"{shape.open_edges} open edges" if shape.open_edges else "faces"
        self.far.show_figure(str(shape.faces), edges, stale)
        self.far.show()
        self.gaps.show_gaps(item.gaps, item.spots)
        self.density.blockSignals(True)
        self.density.setValue(item.density)
        self.density.blockSignals(False)
        x, y, z = shape.centre
        held = f"{item.mass:.2f} g, centre at {x:.2f}, {y:.2f}, {z:.2f} mm; "
        long, wide, tall = shape.box[1] - shape.box[0] if len(shape.vertices) else (0, 0, 0)
        self.mass.setText(
            f"{held if solid else ''}{shape.area / 100:.2f} cm² of surface;"
            f" {long:.2f} × {wide:.2f} × {tall:.2f} mm"
        )
        self._show_judge(item)
        # A step that cannot be made keeps its last shape, and says why.
        trouble = self.session.trouble.get(item.id, "") if stale else ""
        self.say(self.session.notes.get(item.id, ""), trouble)

    def _show_judge(self, item: Body) -> None:
        self.judge.blockSignals(True)
        fill(self.judge, list(self.session.job.all(Scan)), "nothing")
        self.judge.setCurrentIndex(max(self.judge.findData(item.watches), 0))
        self.judge.blockSignals(False)
        report = self.session.shown.report(item)
        scan = self.session.job.get(item.watches, Scan)
        self.judged.setVisible(scan is not None)
        if scan is None:
            return
        if report is None or item.inside is None:
            self.judged.setText("Being measured ...")
            return
        tolerance = self.session.shown.tolerance
        counted = len(item.inside) / max(len(scan.mesh.vertices), 1)
        self.judged.setText(
            f"{percent(tolerance.share)} of the area lies within {report.at_share:.3f} mm;"
            f" {percent(report.within_share)} within {tolerance.deviation:g} mm;"
            f" rms {report.rms:.3f}, farthest {report.max:.3f} mm. {percent(counted)} of the scan"
            " lies near enough to count."
        )

    def _set_density(self, value: float) -> None:
        body = self._body()
        if body is not None and value != body.density:
            self.session.change(body, "density", onto_last=True, density=value)

    def _set_judge(self) -> None:
        body = self._body()
        scan = self.session.job.get(str(self.judge.currentData() or ""), Scan)
        if body is not None and body.watches != ("" if scan is None else scan.id):
            self.session.commit(watching(self.session.job, body, scan), f"what judges {body.name}")
