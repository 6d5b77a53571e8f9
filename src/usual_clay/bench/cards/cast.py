"""The card of a cast surface: its few numbers, live."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtWidgets import QComboBox, QProgressBar, QVBoxLayout, QWidget

from usual_clay.bench.cards.card import Card, Figures
from usual_clay.bench.cards.joint_rows import JointRows
from usual_clay.bench.cards.surface_shape import ShapePage
from usual_clay.bench.cards.tasks import task_buttons
from usual_clay.bench.command import Commands
from usual_clay.bench.edits.making import set_settings
from usual_clay.bench.number_field import CountField
from usual_clay.bench.session import Session
from usual_clay.bench.widgets import DEGREES, Choice, Row, Slide, button, combo, label
from usual_clay.bench.work import Request
from usual_clay.core.check.deviation import percent
from usual_clay.core.fit.parameterize.region import FEWEST, MOST, CastSettings
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.numbers import thousands
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.core.spline.boundary import BORDERS
from usual_clay.job.items import PointList, Surface
from usual_clay.job.remake import is_stale

PLANES = ("xy", "xz", "yx", "yz", "zx", "zy")
FRAMES = (
    ("best", "What a small trial does better with: round its outline, or along its bend"),
    ("outline", "The least rectangle round the region, square to its mean normal"),
    ("bend", "Along and across the way in which the region bends most"),
    ("axes", "Along the world axes nearest to its outline"),
    ("locked", "Along two world axes of your choice"),
)

KNOTS = (
    ("even", "Spread evenly: some prefer their look"),
    ("adaptive", "Closer where the shape needs them"),
    ("u", "Adaptive along u, even along v"),
    ("v", "Adaptive along v, even along u"),
)
RULES = {"even": "even", "adaptive": "adaptive", "u": "adaptive u", "v": "adaptive v"}
PAGES = (
    ("fit", "What it is fitted by"),
    ("hold", "What it is held to: symmetry, edges, a pull; each says what it costs"),
    ("shape", "Its control points, moved by hand"),
    ("make", "The whole of it altered"),
)
# The pages of what it is made by.
SETTINGS = ("fit", "hold")
# What the page "make" offers, in rows.
MAKES = (
    (("slim surface", "Slim"), ("extend surface", "Extend"), ("split surface", "Split")),
    (("border of surface", "Border"), ("match surface", "Match"), ("even surface", "Even out")),
    (("mirror surface", "Symmetric"), ("in surface", "Curve of it"), ("surface twin", "Twin")),
    (("meet twin", "Meet its twin"), ("turn over", "Turn over")),
)
EDGES = (
    ("free", "The edge lies as the fit leaves it"),
    ("straight", "The edge lies on a line, the nearest to where it lay"),
    ("flat", "The edge lies in a plane, the nearest to where it lay"),
)
SIDES = (
    ("best", "Followed, straight or along it, whichever a small trial does better with"),
    ("follow", "The long sides follow the region where it tapers"),
    ("straight", "The long sides are those of the frame's rectangle"),
    ("along", "The surface runs along the region's own length, also where it winds over itself"),
)


def _is_fitted(surface: Surface) -> bool:
    """Tell whether this card is that of a surface: a cast, a patch, or one shaped by hand."""
    recipe = surface.recipe
    return recipe is None or isinstance(recipe.settings, CastSettings | PatchSettings)


class CastCard(Card):
    """Counts, degree, smoothness, reach and frame; the result; to tolerance and keep."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__(session)
        self.page = Choice(PAGES)
        self.page.chosen.connect(self.turn_to)
        self.column.addWidget(self.page)
        self.shape = ShapePage(session, commands)
        self.column.addWidget(self.shape)
        self.making = self._making(commands)
        self.column.addWidget(self.making)
        self._add_fields()
        self._add_conditions()
        self.rows = [
            Row("Control points", self.nu, label("×"), self.nv, label("u × v", "soft")),
            Row("Degree", self.degree, self.degrees),
            Row("Knots", self.knots),
            Row("Smoothness", self.smoothness, stretch=0),
            Row("Reach", self.reach, stretch=0),
            Row("Frame", self.frame, self.plane),
            Row("Sides", self.sides),
        ]
        self.holds = [
            Row("Symmetric", self.symmetric),
            Row("Closed", self.closed),
            Row("Pull along", self.pull),
            *(Row(f"Edge {name}", edge) for name, edge in zip(BORDERS, self.edges, strict=True)),
        ]
        self.joints = JointRows(session)
        for part in (*self.rows, *self.holds, self.joints):
            self.column.addWidget(part)
        self._add_result(commands)
        self.column.addStretch(1)
        self.turn_to("fit")

    def _add_fields(self) -> None:
        """Make what the page "fit" sets."""
        self.nu, self.nv = self._count("u"), self._count("v")
        self.degree = CountField(1, HIGHEST_DEGREE, 56)
        self.degree.setToolTip("Degree in both directions; 3 is usual")
        self.degree.setAccessibleName("Degree")
        self.degree.valueChanged.connect(lambda value: self._set("degree", degree=value))
        self.degrees = Choice(DEGREES)
        self.degrees.chosen.connect(lambda word: self._set("degree", any_degree=word == "best"))
        self.smoothness = Slide(
            0,
            1,
            0.01,
            name="Smoothness",
            tip="How stiff the surface is: calms gaps and borders; too much flattens the shape",
        )
        self.smoothness.changed.connect(lambda value: self._set("smoothness", smoothness=value))
        self.reach = Slide(
            0, 100, 1, " %", "How far the surface runs past its region, half at each end", "Reach"
        )
        self.reach.changed.connect(lambda value: self._set("reach", reach=value / 100))
        self.frame = self._ways("The rectangle from which it starts", FRAMES, "frame")
        self.plane = QComboBox()
        self.plane.addItems(PLANES)
        self.plane.setToolTip("World axes of u and v")
        self.plane.setAccessibleName("World axes of u and v")
        self.plane.currentTextChanged.connect(lambda name: self._set("frame", plane=name))
        self.sides = self._ways("What the long sides follow", SIDES, "sides")
        self.knots = Choice(KNOTS)
        self.knots.chosen.connect(lambda word: self._set("knots", knots=RULES[word]))

    def _ways(self, what: str, ways: tuple[tuple[str, str], ...], name: str) -> QComboBox:
        """Return a list of ways to set one thing, each with what it does."""
        made = combo(what)
        for way, tip in ways:
            made.addItem(way)
            made.setItemData(made.count() - 1, tip, Qt.ItemDataRole.ToolTipRole)
        made.textActivated.connect(lambda way: self._set(name, **{name: way}))
        return made

    def _add_conditions(self) -> None:
        """Make what the page "hold" sets."""
        self.symmetric = Choice(
            [("no", "Not symmetric"), *((axis, f"About the plane {axis} = 0") for axis in "xyz")]
        )
        self.symmetric.chosen.connect(
            lambda word: self._set("symmetry", symmetric="" if word == "no" else word)
        )
        self.closed = Choice(
            [
                (
                    "no",
                    "Ends at its ends; a region with two ends that folds over is closed by itself",
                ),
                ("u", "Runs once round along u, without a seam"),
                ("v", "Runs once round along v, without a seam"),
            ]
        )
        self.closed.chosen.connect(
            lambda word: self._set("closed", closed="" if word == "no" else word)
        )
        self.pull = Choice(
            [
                ("no", "It may reach round to where it could not be drawn off"),
                *(
                    (
                        axis,
                        f"It can be drawn off along {axis}: seen along it, it covers"
                        " each place once",
                    )
                    for axis in "xyz"
                ),
            ]
        )
        self.pull.chosen.connect(lambda word: self._set("pull", pull="" if word == "no" else word))
        self.edges = [Choice(EDGES) for _ in BORDERS]
        for number, edge in enumerate(self.edges):
            edge.chosen.connect(partial(self._set_edge, number))

    def turn_to(self, name: str) -> None:
        """Open a page: the cast's settings, or its control points."""
        self.page.set_value(name)
        self.shape.setVisible(name == "shape")
        self.making.setVisible(name == "make")
        self._page = name
        for row in self.rows:
            row.setVisible(name == "fit")
        for row in self.holds:
            row.setVisible(name == "hold")
        self.figures.setVisible(name in SETTINGS)
        self.joints.hide()
        surface = self.session.choice.surface()
        if name == "shape" and surface is not None:
            self.session.hand.may_shape.add(surface.id)
        self.refresh()

    def _making(self, commands: Commands) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        for made in task_buttons(MAKES, commands):
            self.add_buttons(*made, into=column)
        self.add_buttons(commands.button("double"), commands.button("shape scan"), into=column)
        self.add_buttons(commands.button("deviation on the scan"), into=column)
        self.add_buttons(commands.button("tie again"), commands.button("fit again"), into=column)
        self.together = commands.button("solve together")
        self.add_buttons(self.together, into=column)
        return page

    def _add_result(self, commands: Commands) -> None:
        self.figures = Figures()
        self.near, self.far = self.figures.near, self.figures.far
        self.column.addSpacing(2)
        self.column.addWidget(self.figures)
        self.add_say()
        self.progress = QWidget()
        inside = QVBoxLayout(self.progress)
        inside.setContentsMargins(0, 2, 0, 2)
        self.bar = QProgressBar(minimum=0, maximum=1000, textVisible=False)
        self.progress_words = label(role="small")
        inside.addWidget(self.bar)
        inside.addWidget(self.progress_words)
        self.column.addWidget(self.progress)
        self.search = button(
            "To tolerance",
            "Find the fewest control points within tolerance (T)",
            clicked=lambda: commands.run("to tolerance"),
        )
        self.keep = button(
            "Keep surface",
            "Done with it for now (Enter); Esc drops a new surface",
            "main",
            clicked=lambda: commands.run("keep"),
        )
        self.pin_buttons(self.search, self.keep)
        self.session.work.progressed.connect(self._progressed)
        self.session.work.ended.connect(lambda _key: self.refresh())

    def _count(self, direction: str) -> CountField:
        made = CountField(FEWEST, MOST, 56)
        made.setToolTip(f"Control points along {direction}, {FEWEST} to {MOST}")
        made.setAccessibleName(f"Control points along {direction}")
        made.valueChanged.connect(lambda value: self._set("counts", **{f"n{direction}": value}))
        return made

    def _set_edge(self, number: int, word: str) -> None:
        surface = self.session.choice.surface()
        if surface is not None and surface.recipe is not None:
            edges = list(surface.recipe.settings.edges)
            edges[number] = word
            self._set("edges", edges=tuple(edges))

    def _set(self, words: str, **fields: Any) -> None:
        surface = self.session.choice.surface()
        if surface is None or surface.recipe is None:
            return
        settings: CastSettings | PatchSettings = surface.recipe.settings
        # A surface that closes is not symmetric nor pulled off a mould, nor the other way round.
        for name, other in (
            ("closed", "symmetric"),
            ("symmetric", "closed"),
            ("closed", "pull"),
            ("pull", "closed"),
        ):
            if fields.get(name) and hasattr(settings, other):
                fields[other] = ""
        # Nor is one along its length symmetric.
        if fields.get("sides") == "along":
            fields["symmetric"] = ""
        elif fields.get("symmetric") and getattr(settings, "sides", "") == "along":
            fields["sides"] = "best"
        if fields.get("closed"):
            gone = (0, 1) if fields["closed"] == "u" else (2, 3)
            fields["edges"] = tuple(
                "free" if k in gone else rule
                for k, rule in enumerate(settings.edges)  # type: ignore[union-attr]
            )
        # A degree needs more control points than itself: the counts follow it up.
        degree = fields.get("degree", settings.degree)
        for name in ("nu", "nv"):
            fields[name] = max(fields.get(name, getattr(settings, name)), degree + 1)
        set_settings(self.session, surface, replace(settings, **fields), words)

    def _progressed(self, request: Request) -> None:
        surface = self.session.choice.surface()
        if surface is not None and request.key == (surface.id, "search"):
            self.bar.setValue(round(1000 * request.fraction))
            self.progress_words.setText(f"{request.words} {request.step}".strip())
            if not self.progress.isVisible():
                self.refresh()

    def refresh(self) -> None:
        session = self.session
        surface = session.choice.surface()
        if surface is None or not _is_fitted(surface):
            return
        kind = surface.recipe.kind.capitalize() if surface.recipe is not None else "Surface"
        self.title.setText(
            surface.name if surface.name.startswith(kind) else f"{kind}: {surface.name}"
        )
        if surface.recipe is None and self._page in SETTINGS:
            self.turn_to("shape")
            return
        self.page.show_only(
            [name for name, _ in PAGES if name not in SETTINGS or surface.recipe is not None]
        )
        self.together.setVisible(surface.made_by(PatchSettings) is not None)
        self.shape.refresh(surface)
        self._show_settings(surface)
        self._show_result(surface)
        searching = session.work.find(surface.id, "search") is not None
        self.progress.setVisible(searching)
        self.search.setText("Stop" if searching else "To tolerance")
        self.search.setVisible(surface.recipe is not None)
        ready = not session.job.is_loose(surface) and not surface.locked
        self.search.setEnabled(searching or ready)

    def _show_settings(self, surface: Surface) -> None:
        job = self.session.shown
        recipe = surface.recipe
        region = self.session.shown.measured(surface)
        if isinstance(region, PointList):
            self.about.setText(f"over {thousands(len(region.kept))} loose points of {region.name}")
        elif surface.made_by(PatchSettings) is not None:
            self.about.setText(
                "inside four borders"
                if region is None
                else f"inside four borders, {thousands(len(region.vertices))} points of"
                f" {job.items[region.scan].name}"
            )
        elif recipe is None:
            nu, nv = surface.geometry.counts
            judged = "" if region is None else f", judged by {job.items[surface.watches].name}"
            self.about.setText(f"{nu} × {nv} control points; follows nothing{judged}")
        elif region is None:
            self.about.setText("loose: the region it was made from is gone; its shape is kept")
        else:
            scan = job.items[region.scan].name
            self.about.setText(
                f"over region “{region.name}”, {thousands(len(region.vertices))} points of {scan}"
            )
        changeable = region is not None and not surface.locked
        for part in (
            self.nu,
            self.nv,
            self.degree,
            self.degrees,
            self.smoothness,
            self.reach,
            self.frame,
            self.plane,
            self.sides,
            self.knots,
            self.symmetric,
            self.closed,
            self.pull,
            *self.edges,
        ):
            part.setEnabled(changeable)
        if recipe is None:
            return
        settings = recipe.settings
        with (
            QSignalBlocker(self.nu),
            QSignalBlocker(self.nv),
            QSignalBlocker(self.degree),
            QSignalBlocker(self.plane),
        ):
            self.nu.setValue(settings.nu)
            self.nv.setValue(settings.nv)
            self.degree.setValue(settings.degree)
        self.smoothness.set_value(settings.smoothness)
        self.symmetric.set_value(settings.symmetric or "no")
        self.knots.set_value(next(word for word, rule in RULES.items() if rule == settings.knots))
        patch = isinstance(settings, PatchSettings)
        for row in self.rows[4:]:
            row.setVisible(self._page == "fit" and not patch)
        for row in self.holds[1:]:
            row.setVisible(self._page == "hold" and not patch)
        self.degrees.setVisible(not patch)
        self.joints.setVisible(self._page == "hold" and patch)
        if isinstance(settings, PatchSettings):
            self.joints.show_surface(surface)
            return
        self.plane.setCurrentText(settings.plane)
        self.reach.set_value(round(settings.reach * 100))
        self.frame.setCurrentText(settings.frame)
        self.sides.setCurrentText(settings.sides)
        self.degrees.set_value("best" if settings.any_degree else "this")
        self.closed.set_value(settings.closed or "no")
        self.plane.setVisible(settings.frame == "locked")
        self.pull.set_value(settings.pull or "no")
        for edge, rule in zip(self.edges, settings.edges, strict=True):
            edge.set_value(rule)
        # A pull lays the region flat by itself.
        for part in (self.frame, self.plane, self.sides):
            part.setEnabled(part.isEnabled() and not settings.pull)

    def _show_result(self, surface: Surface) -> None:
        session, job = self.session, self.session.shown
        report = job.report(surface)
        stale = is_stale(job, surface)
        if report is None:
            self.near.show_figure("…", "being fitted", dim=True)
            self.far.show_figure("…", "", dim=True)
        else:
            share = percent(job.tolerance.share)
            self.near.show_figure(
                f"{report.at_share:.3f} mm",
                "being fitted" if stale else f"{share} are nearer",
                stale,
            )
            self.far.show_figure(f"{report.max:.3f} mm", "farthest point", stale)
        known = session.sight.calm
        calm = known is not None and known[0] is surface.geometry
        self.figures.more.setVisible(calm)
        if known is not None and calm:
            times = known[1].times
            self.figures.more.show_figure(
                "not known" if times is None else f"{times:.2g} ×", "least bend"
            )
            self.figures.more.setToolTip(known[1].words)
        words = session.notes.get(surface.id, "")
        if session.sight.price is not None and session.sight.price[0] is surface.geometry:
            words = " ".join(filter(None, (words, session.sight.price[1])))
        self.words.setText(words)
        self.words.setVisible(bool(words))
        trouble = session.trouble.get(surface.id, "") if stale else ""
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))
