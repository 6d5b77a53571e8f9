"""Checks and reports by command line, and as cards of the window."""

from __future__ import annotations

import json
import re
from itertools import pairwise
from pathlib import Path

import numpy as np
import pypdfium2
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMenu
from scipy.spatial.transform import Rotation

from tests.bench.conftest import app, hands  # noqa: F401
from tests.bench.hands import Hands
from tests.solids import block, box_faces, made
from usual_clay.bench.gestures.look import FULL_TURN
from usual_clay.bench.number_field import NumberField
from usual_clay.bench.stage.judging import Scaling
from usual_clay.bench.stage.legend_menu import fill_judging_menu
from usual_clay.cli.main import main
from usual_clay.core.body.settings import JoinSettings, RoundSettings
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.spline.tessellate import grid_triangles
from usual_clay.files.job_file import read_job, write_job
from usual_clay.files.mesh_file import write_mesh
from usual_clay.files.step_out import write_exchange
from usual_clay.job.edits.scans import with_scan
from usual_clay.job.items import Body, Surface
from usual_clay.job.job import Job
from usual_clay.job.reporting import report_of


def block_job() -> Job:
    """Return a block as a body, and a scan of it with a dent in its lid."""
    shape = made("join", JoinSettings(), faces=box_faces()).shape
    x, y = (part.ravel() for part in np.meshgrid(np.linspace(0, 10, 41), np.linspace(0, 20, 81),
                                                 indexing="ij"))  # fmt: skip
    dent = 0.2 * (np.hypot(x - 5, y - 10) < 3)
    vertices, triangles = np.stack([x, y, 30 - dent], axis=1), grid_triangles(41, 81)
    job = Job("Block")
    job = job.with_item(Body(id="body-1", name="Block", shape=shape, density=0.5))
    return with_scan(job, TriangleMesh(vertices, triangles), "block.stl", "mm")[0]


def test_check_tells_joints_faces_and_spots(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    faces, report = tmp_path / "faces.step", tmp_path / "report.json"
    write_exchange(faces, box_faces(0.03))
    assert main(["check", str(faces), "--report", str(report)]) == 3
    told = json.loads(report.read_text())
    assert len(told["joints"]) == 12
    wide = [joint for joint in told["joints"] if joint["class"] == "open"]
    assert len(wide) == 4
    assert wide[0]["gap"] == pytest.approx(0.03, abs=1e-6)
    assert told["faces"][0]["control_points"] == [2, 2]
    assert told["faces"][0]["smallest_radius"] is None
    write_exchange(faces, box_faces())
    assert main(["check", str(faces), "--report", str(report)]) == 0
    assert main(["check", str(faces), "--wanted", "G1"]) == 3
    scan = tmp_path / "scan.stl"
    mesh = next(item.mesh for item in block_job().items.values() if hasattr(item, "mesh"))
    write_mesh(scan, mesh.vertices, mesh.triangles)
    code = main(["check", str(faces), "--scan", str(scan), "--tolerance", "0.05",
                 "--share", "0.999", "--report", str(report)])  # fmt: skip
    told = json.loads(report.read_text())
    assert code == 3
    (spot,) = told["spots"]
    assert abs(spot["greatest"]) == pytest.approx(0.2, abs=1e-6)
    assert spot["at"][2] == pytest.approx(29.8)
    # Against another version, whose lid lies 0.12 mm higher: a part of 36 in its area.
    write_exchange(scan := tmp_path / "other.step", box_faces(0.12))
    code = main(["check", str(faces), "--against", str(scan), "--tolerance", "0.05",
                 "--share", "0.999", "--report", str(report)])  # fmt: skip
    told = json.loads(report.read_text())
    assert code == 3
    (spot,) = told["spots"]
    assert abs(spot["greatest"]) == pytest.approx(0.12, abs=1e-6)
    assert told["within_share"] == pytest.approx(1 - spot["area"] / 2200, abs=0.02)
    assert spot["area"] == pytest.approx(200, rel=0.1)
    assert main(["check", str(faces), "--against", str(faces), "--tolerance", "0.05"]) == 0
    # Of a body it is what is left of its faces that counts, seen from outside.
    rounded = made("round", RoundSettings(size=2.0, edges=(5.0, 0.0, 0.0)), body=block()).shape
    write_exchange(faces, [("Block", rounded)])
    assert main(["check", str(faces), "--report", str(report)]) == 0
    told = json.loads(report.read_text())["faces"]
    radii = [face["smallest_radius"] for face in told]
    assert [radius for radius in radii if radius is not None] == [pytest.approx(2.0)]
    # The floor, and the round edge beside it, face away from a pull upwards.
    assert sorted(face["undercut"] for face in told) == pytest.approx([0] * 5 + [1, 1], abs=1e-9)
    capsys.readouterr()
    assert main(["check", str(tmp_path / "no.step")]) == 2
    assert len(capsys.readouterr().err.strip().splitlines()) == 1


def test_a_report_is_a_searchable_paper_a_page_and_figures(tmp_path: Path) -> None:
    job = tmp_path / "block.uclay"
    write_job(job, block_job())
    for suffix in (".pdf", ".html", ".json"):
        assert main(["report", str(job), "--out", str(tmp_path / f"r{suffix}")]) == 0
    told = json.loads((tmp_path / "r.json").read_text())
    assert told["bodies"][0]["mass"] == pytest.approx(3.0)
    assert len(told["joints"]) == 12
    page = (tmp_path / "r.html").read_text()
    assert "data:image/png;base64," in page
    assert page.count("<tr>") >= 12
    paper = pypdfium2.PdfDocument(tmp_path / "r.pdf")
    text = "".join(sheet.get_textpage().get_text_range() for sheet in paper)
    assert "6.000" in text
    assert "Joints" in text
    assert main(["report", str(job), "--out", str(tmp_path / "r.doc")]) == 2


def test_joints_and_spots_are_listed_in_the_window_and_stripes_shown(
    hands: Hands,  # noqa: F811
    tmp_path: Path,
) -> None:
    job = block_job()
    for name, face in box_faces(0.03, (1, 2)):
        job = job.with_item(Surface(id=job.new_id("surface"), name=name, geometry=face))
    hands.session.commit(job.changed("body-1", visible=False), "block")
    hands.window.set_station("Check")
    hands.window.stage.fit()
    hands.wait()
    hands.window.rail.tools["joints"].click()
    hands.wait()
    card = hands.window.cards.card
    (joint,) = card.joints
    assert joint.grade == "open"
    before = hands.pane.view.camera.height
    QTest.mouseClick(card.rows[0], Qt.MouseButton.LeftButton)
    hands.wait()
    assert hands.pane.view.camera.height < before
    assert card.mend.isEnabled()
    assert "in the mean gap 0.0300 mm, 90.000°" in card.rows[0].toolTip()
    # What mends it begins with its two surfaces.
    ids = {item.name: item.id for item in hands.session.job.all(Surface)}
    for press in (card.mend, card.blend):
        QTest.mouseClick(press, Qt.MouseButton.LeftButton)
        hands.wait()
        task = hands.window.cards.card
        assert task.rows.picked()[:2] == tuple(ids[name] for name in joint.between)
        hands.key(Qt.Key.Key_Escape, widget=hands.pane)
        hands.window.rail.tools["joints"].click()
        hands.wait()
        QTest.mouseClick(card.rows[0], Qt.MouseButton.LeftButton)
        hands.wait()
    # It is measured anew as something changes.
    lid = next(item for item in hands.session.job.all(Surface) if item.name == "lid")
    lower = lid.geometry.points - np.array([0, 0, 0.03])
    from dataclasses import replace

    hands.session.commit(
        hands.session.job.changed(lid.id, geometry=replace(lid.geometry, points=lower)), "lower"
    )
    hands.wait()
    assert card.joints[0].grade == "G0"
    hands.session.commit(hands.session.job.changed("body-1", visible=True), "show")
    hands.wait()
    assert len(card.joints) > 12
    card.order.setCurrentText("length")
    hands.wait()
    lengths = [float(re.search(r"over ([\d.]+) mm", row.toolTip())[1]) for row in card.rows]
    assert lengths == sorted(lengths, reverse=True)
    assert lengths[0] == 30.0 > lengths[-1]
    hands.key(Qt.Key.Key_Escape, widget=hands.pane)
    hands.window.rail.tools["spots"].click()
    hands.wait()
    assert len(hands.window.cards.card.rows) == 1
    assert "0.2" in hands.window.cards.card.rows[0].text()
    # A dent in the original is accepted, with a note; it counts apart, also in the report.
    card = hands.window.cards.card
    before = card.found.report.within_share
    QTest.mouseClick(card.rows[0], Qt.MouseButton.LeftButton)
    QTest.keyClicks(card.note, "Dent in the lid")
    QTest.mouseClick(card.take, Qt.MouseButton.LeftButton)
    hands.wait()
    assert not card.found.spots
    assert card.found.report.within_share > before
    assert "Dent in the lid" in card.rows[0].text()
    write_job(tmp_path / "accepted.uclay", hands.session.job)
    told = report_of(read_job(tmp_path / "accepted.uclay"))["against_scan"]
    assert [row["note"] for row in told["accepted"]] == ["Dent in the lid"]
    assert told["spots_in_all"] == 0
    hands.session.undo()
    hands.wait()
    assert len(card.found.spots) == 1
    # The surface before and now: as it was saved, and with its lid higher.
    hands.session.commit(hands.session.job.changed("body-1", visible=False), "hide")
    assert hands.session.save(tmp_path / "saved.uclay")
    raised = lower + np.array([0, 0, 0.07])
    moved = replace(lid, geometry=replace(lid.geometry, points=raised))
    hands.session.commit(hands.session.job.with_item(moved), "raise")
    hands.wait()
    QTest.mouseClick(card.saved, Qt.MouseButton.LeftButton)
    hands.wait(lambda: card.scan.currentText() == "Version: saved")
    hands.wait()
    assert card.found.report.max == pytest.approx(0.07, abs=1e-6)
    hands.session.commit(hands.session.job.changed("body-1", visible=True), "show")
    hands.key(Qt.Key.Key_Escape, widget=hands.pane)
    plain = hands.picture()
    hands.window.commands.run("judge stripes")
    hands.wait()
    assert np.abs(hands.picture() - plain).max() > 60
    assert hands.pane.legend_is_shown()
    hands.window.commands.run("judge stripes")
    hands.wait()
    assert hands.window.stage.scene.shown.judging == ""
    sights, seen = hands.window.stage.scene.sights, []
    for name in ("room", "lamp", "walls", "slope"):
        hands.window.commands.run(f"judge {name}")
        hands.wait()
        seen.append(hands.picture())
        assert np.abs(seen[-1] - plain).max() > 60
    assert all(np.abs(one - other).max() > 20 for one, other in pairwise(seen))
    hands.window.commands.run("judge walls")
    hands.wait()
    block = hands.session.job.the("body-1", Body)
    portrait = hands.window.stage.scene.bodies.judged_portrait(block)
    thick = sights.of_body(block, portrait)
    assert set(np.round(thick[np.isfinite(thick)], 4)) == {10.0, 20.0, 30.0}
    # The legend's menu sets the scale.
    menu = QMenu()
    fill_judging_menu(menu, "walls", sights)
    low, high = menu.findChildren(NumberField)
    assert (low.value(), high.value()) == pytest.approx(sights.scale())
    high.setValue(12.5)
    assert sights.scale() == pytest.approx((low.value(), 12.5))
    hands.window.commands.run("judge lamp")
    hands.wait()
    before, menu = hands.picture(), QMenu()
    fill_judging_menu(menu, "lamp", sights)
    next(action for action in menu.actions() if action.text() == "Fine").trigger()
    hands.wait()
    assert sights.eye.mirror.count == 28
    assert np.abs(hands.picture() - before).max() > 60
    # The hand moves the lamp: what faced the eye is lit as it were at the side.
    hands.window.commands.run("move lamp")
    camera, middle = hands.pane.view.camera, hands.pane.rect().center()
    half = QPoint(round(hands.pane.view.size[1] / FULL_TURN * np.pi / 4), 0)
    hands.drag([middle, middle + half, middle + 2 * half])
    turned = Rotation.from_rotvec(sights.eye.mirror.turn).apply(-camera.sight)
    assert turned == pytest.approx(camera.right, abs=0.02)
    hands.window.commands.run("judge slope")
    assert hands.session.hand.tool is None


def test_bodies_are_coloured_by_how_their_faces_bend(hands: Hands) -> None:  # noqa: F811
    """A rounded block: its round edge bends by its radius, its flat faces not at all."""
    settings = RoundSettings(size=2.0, edges=(5.0, 0.0, 0.0))
    shape = made("round", settings, body=block()).shape
    hands.session.commit(Job().with_item(Body(id="body-1", name="Block", shape=shape)), "block")
    hands.window.commands.run("judge radius")
    hands.wait()
    scene = hands.window.stage.scene
    body = hands.session.job.the("body-1", Body)
    portrait = scene.bodies.judged_portrait(body)
    radius = scene.sights.of_body(body, portrait)
    curved = np.flatnonzero(radius < 100)
    assert radius[curved] == pytest.approx(2.0, abs=1e-6)
    away = np.linalg.norm(portrait.vertices[curved][:, 1:] - 2.0, axis=1)
    assert len(curved) > 10
    assert away == pytest.approx(2.0, abs=0.01)
    # Seen from outside it bulges; lines of equal figures lie where it begins to.
    hands.window.commands.run("judge greatest")
    scene.sights.set_scaling(Scaling(low=-0.7, high=0.7, contours=True))
    hands.wait()
    bends = scene.sights.of_body(body, portrait), scene.layers()["body-1 contours"]
    assert np.abs(bends[0]).max() == pytest.approx(0.0, abs=1e-9)
