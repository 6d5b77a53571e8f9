"""Bodies in the window: joined, mended, rounded, judged, afloat, saved and made anew."""

from __future__ import annotations

import re
import shutil
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from tests.bench.hands import Hands
from tests.solids import box_faces, square
from usual_clay.bench.cards.body import BodyCard
from usual_clay.bench.cards.floating import FloatingCard
from usual_clay.core.body.afloat import axes_of
from usual_clay.core.body.triangles import triangles_at
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.files.job_file import read_job, write_job
from usual_clay.files.mesh_file import read_mesh
from usual_clay.files.sources import take_faces
from usual_clay.files.step_out import Piece, write_exchange
from usual_clay.job.edits.afloat import holds_of
from usual_clay.job.edits.bodies import cost_of
from usual_clay.job.edits.judging import watching
from usual_clay.job.edits.scans import with_scan
from usual_clay.job.items import Body, Curve, Floating, Surface
from usual_clay.job.job import Job
from usual_clay.job.remake import is_stale


def named(hands: Hands, name: str) -> Any:
    return next(item for item in hands.session.job.items.values() if item.name == name)


@pytest.fixture
def with_faces(hands: Hands) -> Hands:
    """A window with the six faces of a block; its lid lies 0.03 mm too high."""
    job = hands.session.job
    for name, face in box_faces(0.03):
        job = job.with_item(Surface(id=job.new_id("surface"), name=name, geometry=face))
    for name, side in square(30.03):
        job = job.with_item(Curve(id=job.new_id("curve"), name=name, geometry=side))
    hands.session.commit(job, "faces")
    hands.window.set_station("Body")
    hands.window.stage.fit()
    hands.wait()
    return hands


def begin(hands: Hands, kind: str, *names: str) -> Any:
    """Begin a task at the Body station and pick its sources."""
    hands.session.choice.choose(named(hands, names[0]).id)
    hands.window.commands.run(f"task {kind}")
    card = hands.window.cards.get("task")
    for box, name in zip(card.sources, names, strict=False):
        box.setCurrentIndex(box.findData(named(hands, name).id if name else ""))
    hands.wait()
    return card


def keep(hands: Hands, card: Any) -> Any:
    hands.key(Qt.Key.Key_Return, widget=card)
    hands.wait()
    return hands.session.job.items[hands.session.choice.item]


def join(hands: Hands) -> Body:
    card = begin(hands, "join", "floor", "lid", "front", "back", "left", "right")
    body = keep(hands, card)
    assert isinstance(body, Body)
    return body


def test_a_gap_is_in_the_table_a_click_flies_there_and_the_limit_mends_it(
    with_faces: Hands,
) -> None:
    hands = with_faces
    body = join(hands)
    assert not body.shape.is_solid
    # What it is made of stands no longer beside it.
    assert not named(hands, "lid").visible
    card = hands.window.cards.card
    assert isinstance(card, BodyCard)
    rows = [row for row in card.gaps.rows if "0.030 mm" in getattr(row, "text", str)()]
    assert len(rows) == 4
    assert "open" in rows[0].text()
    before = hands.pane.view.camera
    QTest.mouseClick(rows[0], Qt.MouseButton.LeftButton)
    hands.wait()
    assert hands.pane.view.camera.height < 0.5 * before.height
    shown = [sign for sign in hands.session.sight.signs if sign.ring]
    assert [sign.words for sign in shown] == ["here"]
    gap = card._pages["join"][2].parts["gap"][0]
    gap.setValue(0.05)
    hands.wait()
    mended = hands.session.job.get(body.id, Body)
    assert mended.shape.is_solid
    assert mended.shape.volume == pytest.approx(6000, rel=2e-3)
    assert all(each.closed for each in mended.gaps)
    assert "joined" in card.gaps.rows[1].text()
    assert cost_of(hands.session.job, mended) == 24


def test_a_place_is_marked_an_edge_rounded_and_a_radius_too_large_keeps_the_last_shape(
    with_faces: Hands,
) -> None:
    hands = with_faces
    body = join(hands)
    hands.window.cards.card._pages["join"][2].parts["gap"][0].setValue(0.05)
    hands.wait()
    card = begin(hands, "round", body.name)
    fields = card.fields
    mark, clear = fields.parts["edges"]
    assert clear.isHidden()
    QTest.mouseClick(mark, Qt.MouseButton.LeftButton)
    assert hands.session.hand.marking is not None
    hands.click_at((4.0, 0.0, 29.5))
    assert len(card._settings.edges) == 3
    # Esc ends the marking, not the card.
    hands.key(Qt.Key.Key_Escape, widget=hands.pane)
    assert hands.window.cards.asked == "task"
    rounded = keep(hands, card)
    assert rounded.shape.names.count("Round") == 1
    good = rounded.shape
    hands.window.cards.card._pages["round"][2].parts["size"][0].setValue(40)
    hands.wait()
    kept = hands.session.job.get(rounded.id, Body)
    assert kept.shape is good
    assert "cannot be made at 40 mm" in hands.window.cards.card.trouble.text()
    # Everything else goes on: what it is made from may change.
    lid = named(hands, "lid")
    higher = replace(lid.geometry, points=lid.geometry.points - np.array([0, 0, 0.03]))
    hands.window.cards.card._pages["round"][2].parts["size"][0].setValue(2)
    hands.session.commit(hands.session.job.changed(lid.id, geometry=higher), "lower the lid")
    hands.wait()
    assert named(hands, body.name).shape.volume == pytest.approx(6000)
    assert named(hands, rounded.name).shape.volume < 6000


def test_a_body_is_judged_by_a_scan_floats_and_comes_back_from_its_file(
    with_faces: Hands, tmp_path: Path
) -> None:
    hands = with_faces
    body = join(hands)
    hands.window.cards.card._pages["join"][2].parts["gap"][0].setValue(0.05)
    hands.wait()
    body = hands.session.job.get(body.id, Body)
    # A scan of the block that is 0.1 mm too large all round.
    vertices, triangles = triangles_at(body.shape, 0.1)
    middle = np.array([5.0, 10.0, 15.0])
    grown = middle + (vertices - middle) * (1 + 0.1 / np.array([5.0, 10.0, 15.0]))
    job, scan = with_scan(hands.session.job, TriangleMesh(grown, triangles), "block.stl", "mm")
    hands.session.commit(watching(job, body, scan), "judge")
    hands.wait()
    judged = hands.session.job.get(body.id, Body)
    assert judged.signed is not None
    assert judged.signed == pytest.approx(np.full(len(grown), np.sqrt(3) * 0.1), abs=0.02)
    assert "0.1" in hands.window.cards.card.judged.text()
    assert hands.window.balance.histogram.isVisible()
    card = begin(hands, "afloat", body.name, "a")
    floating = keep(hands, card)
    assert isinstance(floating, Floating)
    assert floating.lying is not None
    assert isinstance(hands.window.cards.card, FloatingCard)
    assert hands.window.cards.card.plot.isVisible()
    # Half as heavy as water, it lies half under: on its broad side.
    assert floating.lying.afloat.wet.volume == pytest.approx(3000, rel=2e-3)
    assert floating.id in hands.window.stage.scene.layers()
    drawn, areas = hands.window.cards.card.area.getData()
    width = np.gradient(drawn)
    # What the chart shows adds up to what it displaces.
    assert float((areas * width).sum()) == pytest.approx(3000, rel=0.05)
    # By hand: its water is lifted at its side, and it heels; the arms come when the hand rests.
    before = floating.lying.afloat
    held = next(each for each in holds_of(floating.lying) if each.what == "heel")
    hands.window.stage.fit()
    hands.wait()
    x, y = hands.pane.view.project(np.stack([held.tip, 2 * held.tip - held.foot]))[:, :2].T
    hands.drag([QPoint(round(a), round(b)) for a, b in zip(x, y, strict=True)])
    floating = hands.session.job.get(floating.id, Floating)
    assert floating.recipe.settings.by == "draft"
    turned = floating.lying.afloat
    assert turned.up @ before.up < np.cos(np.radians(1))
    # About its length alone.
    assert turned.up @ axes_of(before.up)[0] == pytest.approx(0, abs=1e-4)
    assert len(floating.lying.arms) > 10
    path = tmp_path / "block.uclay"
    write_job(path, hands.session.job)
    back = read_job(path)
    again = back.the(body.id, Body)
    assert again.shape.brep == judged.shape.brep
    assert again.gaps == judged.gaps
    assert np.array_equal(again.signed, judged.signed)
    # How it floats is read, not worked out anew; damaged, it is.
    lying = back.the(floating.id, Floating).lying
    assert lying.arms == floating.lying.arms
    assert lying.under == floating.lying.under
    assert lying.waterline == pytest.approx(floating.lying.waterline)
    assert lying.words == floating.lying.words
    assert not is_stale(back, back.the(floating.id, Floating))
    _without(path, tmp_path / "dry.uclay", f"arrays/{floating.id}.arms.npy")
    dry = read_job(tmp_path / "dry.uclay")
    assert is_stale(dry, dry.the(floating.id, Floating))
    # With its shape damaged it opens all the same, and is made anew.
    bad = tmp_path / "damaged.uclay"
    _without(path, bad, f"bodies/{body.id}.brep")
    hands.session.commit(hands.session.job, "nothing")
    assert hands.session.open(bad)
    hands.wait()
    whole = hands.session.job.get(body.id, Body)
    assert whole.shape.is_solid
    assert whole.shape.volume == pytest.approx(judged.shape.volume)
    assert hands.session.job.get(floating.id, Floating).lying is not None


def _without(path: Path, out: Path, name: str) -> None:
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(out, "w") as new:
        for entry in old.infolist():
            data = old.read(entry)
            if entry.filename == name:
                data = data[: len(data) // 2] + bytes(len(data) - len(data) // 2)
            new.writestr(entry, data)


def test_work_that_painting_begins_is_told_when_the_paint_is_dry(
    with_faces: Hands, qtlog: Any
) -> None:
    """Its progress was shown at once, and painted the window within its own painting."""
    hands = with_faces
    body = join(hands)
    hands.window.commands.run("judge greatest")
    hands.wait()
    begin(hands, "mirror and unite", body.name)
    assert not [r.message for r in qtlog.records if "paint" in r.message]


def test_combs_run_through_all_that_is_cut(with_faces: Hands) -> None:
    hands, sight = with_faces, with_faces.session.sight
    hands.window.set_station("Check")
    hands.window.commands.run("combs")
    hands.wait()
    assert len(sight.combs) == 4
    card = hands.window.cards.card
    card.fields.parts["at"][0].number.setValue(0.9)
    hands.wait()
    places = np.concatenate([comb.points for comb in sight.combs])
    assert np.ptp(places[:, 0]) < 1e-9
    assert "straight" in card.words.text()
    hands.press("along u")
    hands.wait()
    assert len(sight.combs) == 6 * 8
    hands.window.cards.close_asked()
    assert not sight.combs


def test_what_is_handed_over_is_told_before_and_done_again_by_one_key(
    with_faces: Hands, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    hands, window = with_faces, with_faces.window
    named_body = join(hands)
    # A gap of 0.03 mm is left open: the body is an open shell.
    assert not named_body.shape.is_solid
    window.set_station("Deliver")
    window.commands.run("deliver")
    hands.wait()
    card = window.cards.card
    assert card.settings.what == "chosen"
    assert f"{named_body.name}" in card.rows[1].text()
    assert "is open" in card.rows[1].text()
    hands.press("STL")
    hands.wait(lambda: "triangles" in card.words.text())
    told = int(re.search(r"([\d ]+) triangles", card.words.text())[1].replace(" ", ""))  # type: ignore[index]
    path = tmp_path / "block.stl"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    hands.press("Write ...")
    hands.wait(path.exists)
    assert len(read_mesh(path).triangles) == told
    hands.press("visible")
    hands.press("SVG")
    hands.wait()
    assert "SVG does not hold" in card.words.text() + card.trouble.text()
    path.unlink()
    held = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
    QTest.keyClick(window, Qt.Key.Key_E, held)
    hands.wait(path.exists)


def test_a_body_goes_out_and_comes_in_with_names(with_faces: Hands, tmp_path: Path) -> None:
    hands = with_faces
    body = join(hands)
    hands.window.cards.card._pages["join"][2].parts["gap"][0].setValue(0.05)
    hands.wait()
    body = hands.session.job.get(body.id, Body)
    path = tmp_path / "block.step"
    hands.hand_over(path)
    hands.wait()
    text = path.read_text()
    assert f"PRODUCT('{body.name}'" in text
    assert "Usual Clay" in text
    assert "Unknown" not in text
    job, (first,) = take_faces(Job(), path, "mm")
    back = job.the(first, Body)
    assert back.shape.is_solid
    assert back.name == body.name
    assert back.shape.volume == pytest.approx(body.shape.volume, rel=1e-9)
    write_exchange(path, [Piece("Clay", body.shape, "#a8623f"), Piece("Lid", box_faces()[1][1])])
    assert "COLOUR_RGB" in path.read_text()
    shutil.rmtree(tmp_path)
