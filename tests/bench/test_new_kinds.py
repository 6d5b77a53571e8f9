"""One more kind costs one row: of recipe in `KINDS`, of item in each of its three tables."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from tests.alike import assert_same
from tests.bench.hands import Hands
from usual_clay.bench.cards.item import ItemCard
from usual_clay.bench.cards.recipe import RecipeCard
from usual_clay.bench.edits.making import set_settings
from usual_clay.bench.item_views import ITEM_VIEWS, ItemView
from usual_clay.bench.stage.models import line_data
from usual_clay.bench.stage.view import Layer
from usual_clay.cli.main import main
from usual_clay.core.errors import FitError
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.four_borders import make_compatible
from usual_clay.core.spline.surface import BSplineSurface, surface_grid
from usual_clay.files.deliver import write_item
from usual_clay.files.item_files import ITEM_FILES, ItemFile
from usual_clay.files.job_file import read_job, write_job
from usual_clay.files.take_in import read_splines
from usual_clay.job.edits import make
from usual_clay.job.items import Curve, Followed, Surface
from usual_clay.job.job import Job
from usual_clay.job.kinds import ITEM_KINDS, ItemKind
from usual_clay.job.made import SurfaceMade
from usual_clay.job.recipe_kind import Kind, Role
from usual_clay.job.recipes import KINDS, put_surface
from usual_clay.job.remake import is_stale


@dataclass(frozen=True)
class SpanSettings:
    """What the user sets of a span between two curves."""

    rise: float = 0.0
    rows: int = 3

    def __post_init__(self) -> None:
        if not 2 <= self.rows <= 9:
            raise FitError("a span has 2 to 9 rows")


def make_span(settings: SpanSettings, given: Any, progress: Any, _found: Any) -> SurfaceMade:
    """Blend straight from one curve to the other, the middle raised."""
    progress(0.0, "")
    pair = [given.one("left"), given.one("right")]
    one, two = make_compatible(pair, max(c.degree for c in pair), np.zeros(0))
    share = np.linspace(0, 1, settings.rows)[:, None, None]
    net = (1 - share) * one.points + share * two.points
    net = net + settings.rise * (4 * share * (1 - share)) * [0, 0, 1]
    knots = even_knots(settings.rows, 1)
    return SurfaceMade(BSplineSurface(knots, one.knots, net), f"{settings.rows} rows")


SPAN = Kind(
    "span", "Span", (Role("left", (Curve,)), Role("right", (Curve,))),
    SpanSettings, Surface, make_span, put_surface, about="A surface between two curves",
    suffix="Span", quick=True,
)  # fmt: skip


def bowed(y: float, count: int, lift: float = 0.0) -> BSplineCurve:
    x = np.linspace(0, 40, count)
    points = np.stack([x, np.full(count, y), lift + 3 * np.sin(x / 40 * np.pi)], axis=1)
    return BSplineCurve(even_knots(count, 3), points)


@pytest.fixture
def with_pair(hands: Hands) -> Hands:
    job = hands.session.job
    for number, (y, count) in enumerate(((-10.0, 5), (10.0, 7), (25.0, 6))):
        curve = Curve(id=job.new_id("curve"), name=f"Rail {number}", geometry=bowed(y, count))
        job = job.with_item(curve)
    hands.session.commit(job, "rails")
    hands.wait()
    return hands


def saved_and_run(job: Job, span: str, rails: tuple[str, str], folder: Path) -> None:
    """Write the job and read it; make the same from files by the command line."""
    made = job.the(span, Surface).geometry
    # Saved and opened.
    path = folder / "span.uclay"
    write_job(path, job)
    opened = read_job(path)
    assert_same(job, opened)
    recipe = opened.the(span, Surface).recipe
    assert recipe is not None
    assert recipe.settings == SpanSettings(rise=5.0)
    assert recipe.all("right") == (rails[1],)

    # By the command line from files.
    for number, rail_id in enumerate(rails):
        write_item(folder / f"{number}.step", job.items[rail_id], 0.01)
    out, report = folder / "out.step", folder / "out.json"
    sources = [f"left={folder / '0.step'}", f"right={folder / '1.step'}"]
    told = ["--set", "rise=5", "--out", str(out), "--report", str(report)]
    assert main(["make", "span", *sources, *told]) == 0
    ((_, surface),) = read_splines(out)
    grid = np.linspace(0, 1, 21)
    assert surface_grid(surface, grid, grid) == pytest.approx(
        surface_grid(made, grid, grid), abs=1e-9
    )
    assert json.loads(report.read_text())["control_points"] == list(made.counts)


def test_a_kind_of_recipe_is_one_row(
    with_pair: Hands, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: Any
) -> None:
    monkeypatch.setitem(KINDS, "span", SPAN)
    session, window = with_pair.session, with_pair.window
    left, right, third = (curve.id for curve in session.job.all(Curve))

    # Made, and shown on the stage.
    job, span, _ = make.add(session.job, "span", SpanSettings(), left=left, right=right)
    session.commit(job, "span")
    session.choice.choose(span.id)
    window.stage.fit()
    with_pair.wait()
    window.stage.switch("net", False)
    with_pair.wait()
    middle = window.stage.free.view.project(np.array([[20.0, 0.0, 3.0]]))[0]
    target = window.stage.free.target_at(middle[0], middle[1])
    assert target is not None
    assert target.item == span.id
    shown = with_pair.picture()
    session.set_flag(span.id, "visible", False)
    with_pair.wait()
    assert (np.abs(shown - with_pair.picture()).max(axis=2) > 20).sum() > 5000
    session.undo()

    def made() -> BSplineSurface:
        return session.job.the(span.id, Surface).geometry

    # Edited on its card: a setting, and who takes a role; what makes no sense is told.
    card = window.cards.card
    assert isinstance(card, RecipeCard)
    assert card.title.text() == "Span: Span"
    before = made()
    _, rows, fields = card._pages["span"]
    fields.parts["rise"][0].setValue(5.0)
    with_pair.wait()
    assert made().points[1, :, 2] - before.points[1, :, 2] == pytest.approx(5.0)
    fields.parts["rows"][0].setValue(40)
    with_pair.wait()
    assert window.cards.told.text() == "A span has 2 to 9 rows."
    box = rows.boxes[1]
    box.setCurrentIndex(box.findData(third))
    with_pair.wait()
    assert made().points[-1, :, 1] == pytest.approx(25.0)

    # Nothing measured judges it and it has no search: neither Balance nor To tolerance mind.
    assert "Nothing measured judges it" in window.balance.nothing.text()
    assert window.commands.why_not("to tolerance")
    window.commands.run("to tolerance")
    with_pair.wait()
    assert not window.cards.copy.isVisible()

    # Undone, step by step.
    after = made()
    session.undo()
    session.undo()
    assert made() is before
    session.redo()
    session.redo()
    with_pair.wait()
    assert made() is after

    # Remade when a source moves, while a hand drags it too; kept as it is when the source is gone.
    rail = session.job.the(third, Curve)
    lifted = replace(
        rail, geometry=replace(rail.geometry, points=np.add(rail.geometry.points, [0, 0, 9]))
    )
    session.show_moved(lifted)
    dragged = session.shown.the(span.id, Surface).geometry.points[-1]
    assert dragged[:, 2] == pytest.approx(after.points[-1, :, 2] + 9)
    session.propose(None)
    session.commit(session.job.with_item(lifted), "lift")
    with_pair.wait()
    assert not is_stale(session.job, session.job.the(span.id, Followed))
    assert made().points[-1, :, 2] == pytest.approx(after.points[-1, :, 2] + 9)

    saved_and_run(session.job, span.id, (left, third), tmp_path)
    with pytest.raises(SystemExit):
        main(["make", "span", "--help"])
    assert "rise" in capsys.readouterr().out

    session.delete(third)
    assert np.array_equal(made().points, session.job.the(span.id, Surface).geometry.points)
    assert session.job.is_loose(session.job.the(span.id, Followed))


@dataclass(frozen=True, eq=False, kw_only=True)
class Marker(Followed):
    """A made-up kind of item: a cross at a place."""

    place: np.ndarray
    size: float = 5.0


def _cross(marker: Marker) -> Layer:
    arms = [
        np.stack([marker.place - marker.size * axis, marker.place + marker.size * axis])
        for axis in np.eye(3)
    ]
    return Layer(line_data(arms), line=marker.colour or "#00FF00", width=3.0)


def _read_marker(told: Any, common: Any, read: Any, _items: Any) -> Marker:
    return Marker(**common, place=read(told["place"], "f", (3,)), size=float(told["size"]))


def _write_marker(marker: Marker, put: Any) -> dict[str, Any]:
    put("place", marker.place)
    return {"size": marker.size}


@dataclass(frozen=True)
class AtEndSettings:
    size: float = 5.0


def _put_marker(item: Marker, made: Any, _finished: bool) -> Marker:
    return replace(item, place=made[0], size=made[1])


def test_a_kind_of_item_is_one_row_in_each_table(
    with_pair: Hands, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(ITEM_KINDS, "marker", ItemKind(
        "marker", Marker, "marker", "markers", lambda _, marker: (marker.place,),
        lambda _, marker, __: marker.place,
        lambda id_, name, recipe: Marker(id=id_, name=name, recipe=recipe, place=np.zeros(3)),
    ))  # fmt: skip
    monkeypatch.setitem(ITEM_FILES, "marker", ItemFile(_write_marker, _read_marker))
    monkeypatch.setitem(ITEM_VIEWS, "marker", ItemView(
        "Markers", ("item", "ItemCard"),
        lambda scene, marker: {marker.id: scene.cached(
            marker.id, (marker.place, marker.colour), lambda: _cross(marker))},
        extent=lambda marker: marker.place[None],
        figure=lambda marker: (f"{marker.size:g}", "mm"),
    ))  # fmt: skip
    monkeypatch.setitem(KINDS, "at end", Kind(
        "at end", "At the end", (Role("curve", (Curve,)),), AtEndSettings, Marker,
        lambda settings, given, *_: (given.one("curve").points[-1], settings.size),
        _put_marker, quick=True,
    ))  # fmt: skip
    session, window = with_pair.session, with_pair.window
    marker = Marker(id=session.job.new_id("marker"), name="Nose", place=np.array([20.0, 0, 8]))
    session.commit(session.job.with_item(marker), "marker")
    session.choice.choose(marker.id)
    window.stage.fit()
    with_pair.wait()

    def green() -> int:
        picture = with_pair.picture()
        return int(((picture[..., 1] > 180) & (picture[..., 0] < 90)).sum())

    # On the stage, in the Shelf under its own heading, and on a card.
    assert green() > 60
    row = window.shelf.rows[marker.id]
    assert row.accessibleName() == "Nose, marker"
    texts = [part.text() for part in row.parent().findChildren(type(window.cards.told))]
    assert "Markers" in texts
    assert "5" in texts
    card = window.cards.card
    assert isinstance(card, ItemCard)
    assert (card.title.text(), card.about.text()) == ("Nose", "marker, 5 mm")
    # Hidden by its eye, coloured, locked: then it is not deleted.
    eye = row.findChildren(QPushButton)[0]
    QTest.mouseClick(eye, Qt.MouseButton.LeftButton)
    with_pair.wait()
    assert green() < 10
    session.set_flag(marker.id, "visible", True)
    session.set_colour(marker.id, "#00FF00")
    session.set_flag(marker.id, "locked", True)
    session.delete(marker.id)
    assert "locked" in window.cards.told.text()
    session.set_flag(marker.id, "locked", False)

    # One that a recipe makes follows its source, and undo goes back.
    rail = next(session.job.all(Curve))
    job, tip, _ = make.add(session.job, "at end", AtEndSettings(2.0), curve=rail.id)
    session.commit(job, "tip")
    assert tip.place == pytest.approx(rail.geometry.points[-1])
    away = np.add(rail.geometry.points, [0, 0, 4])
    session.commit(session.job.changed(rail.id, geometry=replace(rail.geometry, points=away)), "up")
    with_pair.wait()
    assert session.job.the(tip.id, Marker).place == pytest.approx(away[-1])
    set_settings(session, session.job.the(tip.id, Marker), AtEndSettings(3.0), "size")
    with_pair.wait()
    assert session.job.the(tip.id, Marker).size == 3.0
    session.undo()
    with_pair.wait()
    assert session.job.the(tip.id, Marker).size == 2.0

    path = tmp_path / "markers.uclay"
    write_job(path, session.job)
    opened: Job = read_job(path)
    assert_same(session.job, opened)
    assert opened.the(marker.id, Marker).place == pytest.approx([20, 0, 8])
    session.delete(marker.id)
    with_pair.wait()
    assert marker.id not in session.job.items
    assert marker.id not in window.shelf.rows
