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
from usual_clay.core.scan.shapes import ShapeSettings, SimpleShape
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.demo.make import BACK_SEED
from usual_clay.demo.scan import pose
from usual_clay.files.errors import FileError
from usual_clay.files.job_file import VERSION, read_job, write_job
from usual_clay.files.picture_file import encoded
from usual_clay.job.items import (
    Curve,
    Followed,
    Picture,
    PointList,
    Region,
    Scan,
    Shape,
    Surface,
)
from usual_clay.job.job import Job, sample_of
from usual_clay.job.recipes import Recipe
from usual_clay.job.remake import basis_of, is_stale, remake, source_of, stale


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
    recipe = Recipe("cast", (region.id,), CastSettings(nu=5, nv=6, reach=0.2))
    blank = Surface(
        id=job.new_id("surface"),
        name="Skin",
        recipe=recipe,
        visible=False,
        locked=True,
        geometry=None,  # type: ignore[arg-type]
    )
    basis = basis_of(job, blank)
    assert basis is not None
    job = job.with_item(remake(blank, basis, [sample_of(job, region)])[0])
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
    items = (
        PointList(
            id="",
            name="Touched",
            points=np.zeros((3, 3)),
            recipe=Recipe("ball", (run.id,), BallSettings(0.5, "in")),
        ),
        PointList(
            id="",
            name="Cut",
            points=np.zeros((3, 3)),
            recipe=Recipe(
                "section", (scan.id,), SectionSettings("x", float(scan.mesh.box[:, 0].mean()), 0)
            ),
        ),
        PointList(
            id="",
            name="Drawn",
            points=np.zeros((3, 3)),
            recipe=Recipe(
                "outline", (picture.id,), OutlineSettings("edge", 0.2, ((1.5, 2.0), (9.0, 9.5)), 7)
            ),
        ),
        Shape(
            id="",
            name="Flat",
            geometry=SimpleShape("plane", np.zeros(3), np.eye(3)[2]),
            recipe=Recipe("shape", (region.id,), ShapeSettings("plane")),
        ),
        Curve(
            id="",
            name="Line",
            geometry=BSplineCurve(np.array([0.0, 0, 1, 1]), np.eye(3)[:2]),
            recipe=Recipe("spline", (run.id,), TraceSettings(9)),
        ),
    )
    for item in items:
        added = replace(item, id=job.new_id("item"))
        basis = basis_of(job, added)
        assert basis is not None
        if added.name != "Drawn":
            sources = [source_of(job, source) for source in basis.recipe.sources]
            added = remake(added, basis, sources)[0]
        job = job.with_item(added)
    return job


@pytest.fixture
def saved(small_job: Job, tmp_path: Path) -> Path:
    path = tmp_path / "small.uclay"
    write_job(path, small_job)
    return path


def assert_same(one: Job, other: Job) -> None:
    assert (one.name, one.tolerance, one.next_number) == (
        other.name,
        other.tolerance,
        other.next_number,
    )
    assert list(one.items) == list(other.items)
    for a, b in zip(one.items.values(), other.items.values(), strict=True):
        assert type(a) is type(b)
        assert (a.id, a.name, a.visible, a.locked) == (b.id, b.name, b.visible, b.locked)
        assert a.colour == b.colour
        if isinstance(a, Followed) and isinstance(b, Followed):
            assert a.recipe == b.recipe
            assert is_stale(one, a) == is_stale(other, b)
        if isinstance(a, Scan) and isinstance(b, Scan):
            assert np.array_equal(a.mesh.vertices, b.mesh.vertices)
            assert np.array_equal(a.mesh.triangles, b.mesh.triangles)
            assert (a.source, a.unit) == (b.source, b.unit)
        elif isinstance(a, Picture) and isinstance(b, Picture):
            assert (a.data, a.size, a.placement) == (b.data, b.size, b.placement)
            assert (a.look, a.source) == (b.look, b.source)
        elif isinstance(a, PointList) and isinstance(b, PointList):
            assert np.array_equal(a.points, b.points)
            assert np.array_equal(a.out, b.out)
            assert (a.closed, a.source, a.unit) == (b.closed, b.source, b.unit)
        elif isinstance(a, Shape) and isinstance(b, Shape):
            assert np.array_equal(a.geometry.point, b.geometry.point)
            assert np.array_equal(a.geometry.axis, b.geometry.axis)
            assert a.geometry.span == pytest.approx(b.geometry.span)
            assert one.report(a) == other.report(b)
        elif isinstance(a, Curve) and isinstance(b, Curve):
            assert np.array_equal(a.geometry.points, b.geometry.points)
            assert one.report(a) == other.report(b)
        elif isinstance(a, Region) and isinstance(b, Region):
            assert np.array_equal(a.vertices, b.vertices)
        elif isinstance(a, Surface) and isinstance(b, Surface):
            assert np.array_equal(a.geometry.points, b.geometry.points)
            assert np.array_equal(a.geometry.knots_u, b.geometry.knots_u)
            assert one.report(a) == other.report(b)
            assert [(c.nu, c.nv) for c in a.candidates] == [(c.nu, c.nv) for c in b.candidates]
            assert is_stale(one, a) == is_stale(other, b)


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
    assert np.array_equal(back.geometry.weights, weights)  # type: ignore[arg-type]
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
        told["items"] = [one for one in told["items"] if one["kind"] in ("scan", "region")]
        for one in told["items"]:
            one.pop("colour")
            one.pop("colours", None)

    rewrite(saved, older)
    assert [type(one) for one in read_job(saved).items.values()] == [Scan, Region]


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
        lambda told: told["aim"].update(tolerance=-1),
        lambda told: told["items"].append(told["items"][0]),
        lambda told: item(told, "region").update(scan="scan-77"),
        lambda told: item(told, "scan").update(kind="sculpture"),
        lambda told: item(told, "scan").update(vertices="arrays/none.npy"),
        lambda told: item(told, "surface")["recipe"].update(kind="conjure"),
        lambda told: item(told, "surface")["recipe"]["settings"].update(nu=1),
        lambda told: item(told, "surface")["recipe"]["settings"].update(magic=1),
        lambda told: item(told, "surface")["candidates"].update(counts=[[4, 4]] * 9),
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
    held = CastSettings(nu=6, nv=5, pull="z", edges=edges)  # type: ignore[arg-type]
    job = small_job.changed(surface.id, recipe=replace(surface.recipe, settings=held))
    scan = next(job.all(Scan))
    curves = [curve.id for curve in job.all(Curve)][:1] * 4
    ribbon = Ribbon(2, (0.0, 1.0, 2.0), (0.0, 0.0, 1.0, 1.0), ((1.0, 0.0, 0.0), (0.0, 1.0, 0.5)))
    patch = replace(
        surface,
        id=job.new_id("surface"),
        name="Patch",
        made_of=None,
        recipe=Recipe("patch", (scan.id, *curves), PatchSettings(ribbons=(ribbon,))),
    )
    job = job.with_item(patch)
    write_job(tmp_path / "held.uclay", job)
    kept = read_job(tmp_path / "held.uclay")
    assert kept.items[surface.id].recipe.settings == held  # type: ignore[attr-defined]
    assert kept.items[patch.id].recipe.settings.ribbons == (ribbon,)  # type: ignore[attr-defined]
    for bad in ({"border": 4}, {"knots": [0, 0, 1]}, {"inward": [[0, 0, 1], [0, 1, None]]}):

        def spoil(told: dict[str, Any], bad: dict = bad) -> None:
            part = next(each for each in told["items"] if each["id"] == patch.id)
            part["recipe"]["settings"]["ribbons"][0].update(bad)

        write_job(tmp_path / "bad.uclay", job)
        rewrite(tmp_path / "bad.uclay", spoil)
        with pytest.raises(FileError, match="damaged or no job file"):
            read_job(tmp_path / "bad.uclay")
