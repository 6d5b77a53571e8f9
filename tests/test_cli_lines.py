"""Lines plans: cut where they must be, drawn at true scale, kept as curves that follow."""

from __future__ import annotations

import argparse
import re
from pathlib import Path

import ezdxf
import numpy as np
import pypdfium2
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.bench.conftest import app, hands  # noqa: F401
from tests.bench.hands import Hands
from tests.solids import flat
from tests.test_cli_check import block_job
from usual_clay.cli.main import _parser, main
from usual_clay.core.check.lines_plan import LinesError, LinesSettings, lines_plan, sheet_of
from usual_clay.core.spline.curve import curve_points
from usual_clay.files.job_file import write_job
from usual_clay.job.drawing import plan_of
from usual_clay.job.items import Curve, Surface
from usual_clay.job.job import Job


def bowl_job() -> Job:
    """Return a half pipe of a parabola, z = x²/20, 40 mm long along y."""
    plate = flat((-10, 0, 5), (10, 0, 5), (10, 40, 5), (-10, 40, 5))
    knots = np.array([0.0, 0, 0, 1, 1, 1])
    x, low = np.array([-10.0, 0, 10]), np.array([5.0, -5, 5])
    points = np.stack([np.stack([x, 0 * x + y, low], axis=1) for y in (0.0, 40.0)], axis=1)
    pipe = type(plate)(knots, plate.knots_v, points)
    return Job("Pipe").with_item(Surface(id="surface-1", name="Pipe", geometry=pipe))


def test_every_family_is_cut_where_it_must_be() -> None:
    plan = plan_of(bowl_job(), LinesSettings(x=0, y=2, at_z=(1.25, 3.2)))
    assert [(each.axis, each.at) for each in plan.stations] == [
        (1, 10.0), (1, 30.0), (2, 1.25), (2, 3.2),
    ]  # fmt: skip
    for station in plan.stations[:2]:
        (line,) = station.lines
        assert np.abs(line[:, 2] - line[:, 0] ** 2 / 20).max() < 0.01
    # A waterline runs along the pipe on both sides.
    for station, x in zip(plan.stations[2:], (5.0, 8.0), strict=True):
        assert sorted(round(float(line[:, 0].mean())) for line in station.lines) == [-x, x]
    with pytest.raises(LinesError, match="nothing lies at z = 9"):
        plan_of(bowl_job(), LinesSettings(at_z=(9.0,)))
    with pytest.raises(LinesError, match="no surface"):
        lines_plan([], LinesSettings())


def test_a_sheet_is_at_true_scale_in_each_format(tmp_path: Path) -> None:
    job = block_job()
    write_job(tmp_path / "block.uclay", job)
    # A block of 10, 20 and 30 mm: two sections, a lengthwise cut, given waterlines.
    command = ["lines", str(tmp_path / "block.uclay"), "--x", "2", "--y", "1", "--z", "10;12,5"]
    for ending in ("svg", "dxf", "pdf"):
        assert main([*command, "--out", str(tmp_path / f"block.{ending}")]) == 0
    drawing = ezdxf.readfile(tmp_path / "block.dxf")
    assert drawing.units == ezdxf.units.MM
    cuts = drawing.modelspace().query('LWPOLYLINE[layer=="sections"]')
    assert len(cuts) == 2
    for cut in cuts:
        assert np.ptp(np.array(cut.get_points("xy")), axis=0) == pytest.approx([20, 30])
    waters = drawing.modelspace().query('LWPOLYLINE[layer=="waterlines"]')
    assert [np.ptp(np.array(w.get_points("xy")), axis=0).tolist() for w in waters] == [[10, 20]] * 2
    words = (tmp_path / "block.svg").read_text()
    told = re.search(r'width="([\d.]+)mm" height="([\d.]+)mm"', words)
    assert told is not None
    width, height = map(float, told.groups())
    sheet = sheet_of(plan_of(job, LinesSettings(x=2, y=1, at_z=(10.0, 12.5))))
    assert [width, height] == pytest.approx(sheet.size + 24)
    drawn = re.findall(r'class="sections" points="([^"]+)"', words)
    places = np.array([[float(x) for x in pair.split(",")] for pair in drawn[0].split()])
    assert np.ptp(places, axis=0) == pytest.approx([20, 30])
    page = pypdfium2.PdfDocument(tmp_path / "block.pdf")[0]
    assert np.array(page.get_size()) * 25.4 / 72 == pytest.approx([width, height], abs=0.4)
    # Something is drawn where the side view's first section line must be.
    picture = np.array(page.render(scale=4).to_pil().convert("L"))
    assert (picture < 200).mean() > 0.002
    assert "12.5" in page.get_textpage().get_text_range()
    assert main([*command[:-1], "99;3", "--out", str(tmp_path / "x.svg")]) != 0
    write_job(tmp_path / "pipe.uclay", bowl_job())
    own = ["lines", str(tmp_path / "pipe.uclay"), "--x", "-5;5", "--y", "0", "--z", "0"]
    assert main([*own, "--out", str(tmp_path / "pipe.dxf")]) == 0
    cuts = ezdxf.readfile(tmp_path / "pipe.dxf").modelspace().query('LWPOLYLINE[layer=="sections"]')
    spans = [np.ptp(np.array(cut.get_points("xy")), axis=0).tolist() for cut in cuts]
    assert spans == pytest.approx(np.array([[40.0, 0.0]] * 2), abs=1e-6)


def test_the_manual_page_tells_every_command() -> None:
    page = (Path(__file__).parents[1] / "packaging" / "usual-clay.1").read_text()
    known = next(
        each for each in _parser()._actions if isinstance(each, argparse._SubParsersAction)
    )
    told = re.findall(r"^\.B (\w+)", page[page.index("COMMANDS") : page.index("EXIT")], re.M)
    assert sorted(told) == sorted(known.choices)


def test_lines_are_live_on_the_stage_and_kept_as_curves(hands: Hands, tmp_path: Path) -> None:  # noqa: F811
    hands.session.commit(bowl_job(), "pipe")
    hands.window.set_station("Check")
    hands.wait()
    hands.window.rail.tools["lines"].click()
    hands.wait()
    card = hands.window.cards.card
    assert len(card.plan.stations) == 9 + 3 + 5
    assert len(hands.session.sight.lit) == sum(len(each.lines) for each in card.plan.stations)
    card.fields.parts["x"][0].setValue(2)
    card.fields.parts["z"][0].setValue(0)
    hands.wait()
    assert len(card.plan.stations) == 2 + 3
    card._documents.sheet_to(tmp_path / "pipe.pdf", card.plan)
    assert pypdfium2.PdfDocument(tmp_path / "pipe.pdf").get_metadata_dict()["Title"] == "Pipe"
    QTest.mouseClick(card.keep, Qt.MouseButton.LeftButton)
    hands.wait()
    kept = [curve for curve in hands.session.job.all(Curve) if curve.recipe is not None]
    assert len(kept) == 5
    arch = next(curve for curve in kept if " y 20" in curve.name)
    places = curve_points(arch.geometry, np.linspace(0, 1, 50))
    assert np.abs(places[:, 2] - places[:, 0] ** 2 / 20).max() < 0.02
    hands.key(Qt.Key.Key_Escape, widget=hands.pane)
    assert not hands.session.sight.lit
