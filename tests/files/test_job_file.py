"""The job file: written whole, read back equal, and refused when it is not what it says."""

from __future__ import annotations

import io
import json
import resource
import signal
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.alike import assert_same
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.patch.meet import Ribbon
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.picture.look import Look
from usual_clay.core.picture.outline import OutlineSettings
from usual_clay.core.picture.placement import TRUE_PLANES, Placement
from usual_clay.core.points.ball import BallSettings
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.region import region_mesh
from usual_clay.core.scan.section import SectionSettings
from usual_clay.core.scan.shapes import ShapeSettings
from usual_clay.demo.make import BACK_SEED
from usual_clay.demo.scan import pose
from usual_clay.files.errors import FileError
from usual_clay.files.job_file import VERSION, read_job, write_job
from usual_clay.files.picture_file import encoded
from usual_clay.job.edits.make import add, planned
from usual_clay.job.items import (
    Curve,
    Followed,
    Picture,
    PointList,
    Region,
    Scan,
    Surface,
)
from usual_clay.job.job import Job
from usual_clay.job.recipe import Recipe
from usual_clay.job.recipes import KINDS
from usual_clay.job.remake import stale


@pytest.fixture(scope="module")
def small_job(lure: TriangleMesh) -> Job:
    """A job with everything in it, on a small piece of the scan."""
    middle = pose().to_scan(np.array([BACK_SEED]))
    mask = np.linalg.norm(lure.vertices - middle, axis=1) < 6
    mesh = TriangleMesh(*region_mesh(lure, mask))
    job = Job(name="Small", tolerance=Tolerance(0.07, 0.9))
    scan = Scan(id=job.new_id("scan"), name="Piece", mesh=mesh, source="piece.ply", unit="in")
    job = job.with_item(scan)
    inner = np.flatnonzero(np.arange(len(mesh.vertices)) % 7 > 0)
    region = Region(id=job.new_id("region"), name="Some", scan=scan.id, vertices=inner)
    job = job.with_item(region)
    settings = CastSettings(nu=5, nv=6, reach=0.2)
    job, skin, _ = add(job, "cast", settings, "Skin", measured=region.id)
    job = job.changed(skin.id, visible=False, locked=True)
    return with_references(job, scan, region)


def with_references(job: Job, scan: Scan, region: Region) -> Job:
    """Add a picture, runs that follow one another, a shape and a spline."""
    picture = Picture(
        id=job.new_id("picture"),
        name="Side",
        data=encoded(np.full((30, 40, 3), 200, np.uint8)),
        size=(40, 30),
        placement=Placement(TRUE_PLANES["top"], 80, 60, 3, -4, 0.1, 2.5, True),
        look=Look(0.4, clear=(1, 2, 3), depth="over"),
        source="side.png",
        colour="#93A67C",
    )
    job = job.with_item(picture)
    turn = np.linspace(0, 6, 60)
    run = PointList(
        id=job.new_id("points"),
        name="Run",
        points=np.stack([9 * np.cos(turn), 6 * np.sin(turn), 0 * turn], axis=1),
        out=np.array([3, 9]),
        closed=True,
        source="run.csv",
        unit="cm",
    )
    job = job.with_item(run)
    middle = float(scan.mesh.box[:, 0].mean())
    job = add(job, "ball", BallSettings(0.5, "in"), "Touched", points=run.id)[0]
    job = add(job, "section", SectionSettings("x", middle, 0), "Cut", scan=scan.id)[0]
    outline = OutlineSettings("edge", 0.2, ((1.5, 2.0), (9.0, 9.5)), 7)
    # Not made: a stale one with nothing in it comes back, too.
    job = job.with_item(planned(job, "outline", outline, "Drawn", picture=picture.id))
    job = add(job, "shape", ShapeSettings("plane"), "Flat", measured=region.id)[0]
    job, line, _ = add(job, "spline", TraceSettings(9), "Line", points=run.id)
    job = add(job, "twin", TwinSettings("x", 2.0), "Twin", curve=line.id)[0]
    return job.changed(line.id, watched=TraceSettings(7, corners=0.5))


@pytest.fixture
def saved(small_job: Job, tmp_path: Path) -> Path:
    path = tmp_path / "small.uclay"
    write_job(path, small_job)
    return path


def test_a_job_comes_back_as_it_was(small_job: Job, saved: Path) -> None:
    assert_same(small_job, read_job(saved))


def test_a_rational_surface_and_one_without_recipe_come_back(
    small_job: Job, tmp_path: Path
) -> None:
    surface = next(small_job.all(Surface))
    weights = np.linspace(0.5, 2, surface.control_points).reshape(surface.geometry.counts)
    geometry = replace(surface.geometry, weights=weights)
    drawn = replace(
        surface,
        id="surface-9",
        geometry=geometry,
        recipe=None,
        signed=None,
        candidates=(),
        made_of=None,
    )
    write_job(tmp_path / "a.uclay", small_job.with_item(drawn))
    back = read_job(tmp_path / "a.uclay").items["surface-9"]
    assert isinstance(back, Surface)
    assert np.array_equal(back.geometry.weights, weights)
    assert back.recipe is None


def test_a_stale_surface_comes_back_stale(small_job: Job, tmp_path: Path) -> None:
    surface = next(small_job.all(Surface))
    assert surface.recipe is not None
    recipe = replace(surface.recipe, settings=replace(surface.recipe.settings, smoothness=0.5))
    edited = small_job.changed(surface.id, recipe=recipe, locked=False)
    write_job(tmp_path / "a.uclay", edited)
    assert surface.id in stale(read_job(tmp_path / "a.uclay"))


def test_a_first_version_is_still_read(small_job: Job, saved: Path) -> None:
    def older(told: dict[str, Any]) -> None:
        told["version"] = 1
        tolerance = told.pop("tolerance")
        told["aim"] = {"tolerance": tolerance["deviation"], "share": tolerance["share"]}
        told["items"] = [one for one in told["items"] if one["kind"] in ("scan", "region")]
        for one in told["items"]:
            one.pop("colour")
            one.pop("colours", None)

    rewrite(saved, older)
    assert [type(one) for one in read_job(saved).items.values()] == [Scan, Region]


VERSION_2 = Path(__file__).parent / "data" / "version-2.uclay"


def test_a_job_of_the_second_version_is_read_with_its_recipes_by_role(tmp_path: Path) -> None:
    """It was written by the last program that knew version 2, and holds a recipe of each kind."""
    job = read_job(VERSION_2)
    recipes = {item.recipe.kind: item.recipe for item in job.all(Followed) if item.recipe}
    newer = ("from_curves", "bodies", "measuring")
    later = {kind.name for kind in KINDS.values() if kind.make.__module__.endswith(newer)}
    assert set(recipes) == set(KINDS) - later - {"chain", "across", "laid", "in surface", "onto"}
    assert recipes["cast"].all("measured") == ("region-2",)
    assert len(recipes["patch"].all("borders")) == 4
    assert (job.tolerance.deviation, job.tolerance.share) == (0.07, 0.9)
    held = recipes["held"].settings.holds
    assert [hold.kind for hold in held] == ["fixed", "upright"]
    # Nothing of it is stale but what was, and what judges is named.
    assert stale(job) == []
    surfaces = {surface.name: surface for surface in job.all(Surface)}
    assert surfaces["Skin"].watches == "region-2"
    assert job.measured(surfaces["Skin"]) is job.items["region-2"]
    for item in job.all(Surface):
        report = job.report(item)
        assert report is not None
        assert report.points > 100
    write_job(tmp_path / "now.uclay", job)
    assert_same(read_job(tmp_path / "now.uclay"), job)


def test_a_newer_version_is_refused_with_a_reason(saved: Path) -> None:
    rewrite(saved, lambda told: told.update(version=VERSION + 1))
    with pytest.raises(FileError, match="newer version of Usual Clay"):
        read_job(saved)


def test_a_cut_off_file_is_refused_at_any_length(saved: Path) -> None:
    whole = saved.read_bytes()
    for share in (0.0, 0.1, 0.5, 0.9, 0.999):
        saved.write_bytes(whole[: int(len(whole) * share)])
        with pytest.raises(FileError, match=r"small\.uclay is damaged"):
            read_job(saved)


def test_a_changed_byte_is_seen_or_does_no_harm(small_job: Job, saved: Path) -> None:
    whole = saved.read_bytes()
    random = np.random.default_rng(7)
    refused = 0
    for place in random.integers(0, len(whole), 150):
        broken = bytearray(whole)
        broken[place] ^= int(random.integers(1, 256))
        saved.write_bytes(bytes(broken))
        try:
            back = read_job(saved)
        except FileError:
            refused += 1
        else:
            assert_same(small_job, back)
    assert refused > 100


def rewrite(
    path: Path,
    change: Callable[[dict[str, Any]], object] | None = None,
    entries: dict[str, bytes] | None = None,
) -> None:
    """Write a job file anew with its JSON changed or entries put in place."""
    with zipfile.ZipFile(path) as archive:
        content = {name: archive.read(name) for name in archive.namelist()}
    told = json.loads(content["job.json"])
    if change is not None:
        change(told)
    content["job.json"] = json.dumps(told).encode()
    content.update(entries or {})
    with zipfile.ZipFile(path, "w") as archive:
        for name, data in content.items():
            archive.writestr(name, data)


def npy(array: np.ndarray, pickled: bool = False) -> bytes:
    buffer = io.BytesIO()
    np.save(buffer, array, allow_pickle=pickled)
    return buffer.getvalue()


def item(told: dict[str, Any], kind: str) -> dict[str, Any]:
    return next(item for item in told["items"] if item["kind"] == kind)


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("arrays/scan-1.vertices.npy", npy(np.array([{}], dtype=object), True), "wrong shape"),
        ("arrays/scan-1.vertices.npy", npy(np.full((9, 3), np.nan)), "not finite"),
        ("arrays/scan-1.vertices.npy", npy(np.zeros((9, 3))), "point past"),
        ("arrays/scan-1.vertices.npy", npy(np.zeros((9, 2))), "wrong shape"),
        ("arrays/scan-1.vertices.npy", npy(np.zeros((9, 3)))[:-8], "shorter or longer"),
        ("arrays/scan-1.vertices.npy", b"no array", "damaged"),
        (
            "arrays/region-2.vertices.npy",
            npy(np.array([5, 4], dtype=np.int32)),
            "does not fit its points",
        ),
        ("arrays/region-2.vertices.npy", npy(np.array([10**9], dtype=np.int32)), "does not fit"),
        ("arrays/surface-3.knots_u.npy", npy(np.linspace(0, 1, 9)), "clamped"),
        ("arrays/surface-3.points.npy", npy(np.zeros((5, 7, 3))), "do not fit|knots"),
        ("pictures/picture-4.data", b"no picture", "no readable picture"),
        ("../outside.npy", b"x", "points outside"),
        ("/outside.npy", b"x", "points outside"),
    ],
)
def test_arrays_that_lie_are_refused(saved: Path, name: str, data: bytes, words: str) -> None:
    rewrite(saved, entries={name: data})
    with pytest.raises(FileError, match=words):
        read_job(saved)


@pytest.mark.parametrize(
    "change",
    [
        lambda told: told.update(format="other"),
        lambda told: told.update(version="1"),
        lambda told: told.update(name=17),
        lambda told: told.pop("items"),
        lambda told: told["tolerance"].update(deviation=-1),
        lambda told: told["items"].append(told["items"][0]),
        lambda told: item(told, "region").update(scan="scan-77"),
        lambda told: item(told, "scan").update(kind="sculpture"),
        lambda told: item(told, "scan").update(vertices="arrays/none.npy"),
        lambda told: item(told, "surface")["recipe"].update(kind="conjure"),
        lambda told: item(told, "surface")["recipe"]["settings"].update(nu=1),
        lambda told: item(told, "surface")["recipe"]["settings"].update(magic=1),
        lambda told: item(told, "surface").update(counts=[[4, 4]] * 9),
        lambda told: item(told, "surface")["recipe"].update(sources={}),
        lambda told: item(told, "surface")["recipe"].update(sources={"magic": ["region-2"]}),
        lambda told: item(told, "surface")["recipe"].update(sources={"measured": ["scan-1"]}),
        lambda told: item(told, "picture").update(size=[40, 31]),
        lambda told: item(told, "picture")["placement"].update(width=0),
        lambda told: item(told, "picture")["placement"]["plane"].update(up=[1, 0, 0.1]),
        lambda told: item(told, "picture")["look"].update(sparkle=1),
        lambda told: item(told, "shape")["shape"].update(kind="blob"),
        lambda told: item(told, "shape")["shape"].update(point=[0, None, 1]),
        lambda told: item(told, "curve").update(knots="arrays/none.npy"),
    ],
)
def test_json_that_makes_no_sense_is_refused(
    saved: Path, change: Callable[[dict[str, Any]], object]
) -> None:
    rewrite(saved, change)
    with pytest.raises(FileError, match=r"damaged or no job file.*Nothing was opened"):
        read_job(saved)


def test_files_that_are_no_zip_or_not_there_are_refused(tmp_path: Path) -> None:
    text = tmp_path / "text.uclay"
    text.write_text("solid words")
    with pytest.raises(FileError, match="damaged or no job file"):
        read_job(text)
    with pytest.raises(FileError, match="not there"):
        read_job(tmp_path / "none.uclay")


@contextmanager
def small_disk(most: int) -> Iterator[None]:
    """Let no file grow past `most` bytes, as on a full disk."""
    old = resource.getrlimit(resource.RLIMIT_FSIZE)
    ignored = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (most, old[1]))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, old)
        signal.signal(signal.SIGXFSZ, ignored)


def test_a_full_disk_leaves_the_old_file_whole(small_job: Job, saved: Path) -> None:
    before = saved.read_bytes()
    renamed = replace(small_job, name="Newer")
    with small_disk(20_000), pytest.raises(FileError, match=r"disk is full.*unchanged"):
        write_job(saved, renamed)
    assert saved.read_bytes() == before
    assert [path.name for path in saved.parent.iterdir()] == [saved.name]
    write_job(saved, renamed)
    assert read_job(saved).name == "Newer"


def test_a_place_that_is_not_there_is_told(small_job: Job, tmp_path: Path) -> None:
    with pytest.raises(FileError, match="could not be written"):
        write_job(tmp_path / "none" / "a.uclay", small_job)


def test_what_a_fit_is_held_to_comes_back_and_is_checked(small_job: Job, tmp_path: Path) -> None:
    surface = next(s for s in small_job.all(Surface) if s.recipe is not None)
    assert surface.recipe is not None
    edges = ("flat", "free", "straight", "free")
    held = CastSettings(nu=6, nv=5, pull="z", edges=edges)
    job = small_job.changed(surface.id, recipe=replace(surface.recipe, settings=held))
    scan = next(job.all(Scan))
    curves = [curve.id for curve in job.all(Curve)][:1] * 4
    ribbon = Ribbon(2, (0.0, 1.0, 2.0), (0.0, 0.0, 1.0, 1.0), ((1.0, 0.0, 0.0), (0.0, 1.0, 0.5)))
    patch = replace(
        surface,
        id=job.new_id("surface"),
        name="Patch",
        made_of=None,
        recipe=Recipe.of(
            "patch", PatchSettings(ribbons=(ribbon,)), scan=scan.id, borders=tuple(curves)
        ),
    )
    job = job.with_item(patch)
    write_job(tmp_path / "held.uclay", job)
    kept = read_job(tmp_path / "held.uclay")
    assert kept.items[surface.id].recipe.settings == held
    assert kept.items[patch.id].recipe.settings.ribbons == (ribbon,)
    for bad in ({"border": 4}, {"knots": [0, 0, 1]}, {"inward": [[0, 0, 1], [0, 1, None]]}):

        def spoil(told: dict[str, Any], bad: dict = bad) -> None:
            part = next(each for each in told["items"] if each["id"] == patch.id)
            part["recipe"]["settings"]["ribbons"][0].update(bad)

        write_job(tmp_path / "bad.uclay", job)
        rewrite(tmp_path / "bad.uclay", spoil)
        with pytest.raises(FileError, match="damaged or no job file"):
            read_job(tmp_path / "bad.uclay")
