"""Saving, the journal, and files from outside that are damaged: nothing is lost, all is told."""

from __future__ import annotations

import os
import stat
import subprocess
import sys
import time
import zipfile
from pathlib import Path

import numpy as np
import pytest

from tests.fuzz import READERS, dose
from tests.kills import is_whole, kill, version
from usual_clay.files.atomic import BEGUN, ReadOnlyError, write_text
from usual_clay.files.errors import FileError
from usual_clay.files.job_file import read_job, write_job
from usual_clay.files.journal import Journal, drop, left_behind, recovered
from usual_clay.files.mesh_file import read_scan
from usual_clay.files.points_file import read_points
from usual_clay.files.svg_read import read_svg

SHEET = """<?xml version="1.0"?><worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/\
2006/main"><sheetData><row r="1"><c r="A1"><v>1</v></c></row><row r="1048576"><c r="XFD1048576">\
<v>2</v></c></row></sheetData></worksheet>"""


@pytest.mark.parametrize("name", sorted(READERS))
@pytest.mark.filterwarnings("ignore")
def test_damaged_files_are_told_and_nothing_else(name: str) -> None:
    # A file that ends the geometry kernel costs the time to load it again.
    count = 10 if READERS[name].suffix in (".step", ".igs") else 60
    assert dose(name, count, seed=1) == count


def test_kills_lose_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    told = kill(4, seed=3)
    assert told["saved"] == 4
    assert told["journal"] >= 3


def test_a_file_keeps_its_rights_its_link_and_its_protection(tmp_path: Path) -> None:
    real, link = tmp_path / "real.txt", tmp_path / "link.txt"
    write_text(real, "one")
    real.chmod(0o640)
    link.symlink_to(real)
    write_text(link, "two")
    assert link.is_symlink()
    assert real.read_text() == "two"
    assert stat.S_IMODE(real.stat().st_mode) == 0o640
    real.chmod(0o440)
    with pytest.raises(ReadOnlyError, match="read-only"):
        write_text(link, "three")
    assert real.read_text() == "two"
    with pytest.raises(FileError, match="is no file"):
        write_text(tmp_path, "four")


def test_leftovers_of_others_that_are_gone_are_removed(tmp_path: Path) -> None:
    gone = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"],
                          capture_output=True, text=True, check=True)  # fmt: skip
    dead = tmp_path / f"{BEGUN}{gone.stdout.strip()}-x.uclay"
    mine = tmp_path / f"{BEGUN}{os.getpid()}-x.uclay"
    other = tmp_path / ".mine"
    for path in (dead, mine, other):
        path.write_text("begun")
    write_text(tmp_path / "a.txt", "a")
    assert not dead.exists()
    assert mine.exists()
    assert other.exists()


@pytest.mark.parametrize("step", ["fsync", "replace", "chmod"])
def test_a_fault_at_any_step_of_writing_leaves_the_old_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, step: str
) -> None:
    path = tmp_path / "job.uclay"
    write_job(path, version(1))

    def fails(*_args: object, **_more: object) -> None:
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patch:
        if step == "chmod":
            patch.setattr(Path, "chmod", fails)
        else:
            patch.setattr(os, step, fails)
        with pytest.raises(FileError, match=r"the disk is full.*unchanged"):
            write_job(path, version(2))
    assert read_job(path).name == "job 1"
    assert list(tmp_path.iterdir()) == [path]


def test_a_journal_stores_arrays_once_and_is_opened_by_the_next(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    gone = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"],
                          capture_output=True, text=True, check=True)  # fmt: skip
    folder = tmp_path / "usual-clay" / "journal" / f"{gone.stdout.strip()}-1"
    journal, job = Journal(folder), version(5)
    journal.write(job, tmp_path / "five.uclay")
    arrays = {path: path.stat().st_mtime_ns for path in folder.glob("*.npy")}
    time.sleep(0.01)
    journal.write(job.changed("curve-2", visible=False), None)
    # What has not changed was not written again.
    assert {path: path.stat().st_mtime_ns for path in folder.glob("*.npy")} == arrays
    (left,) = left_behind()
    assert left.name == "job 5"
    assert left.items == 2
    back = read_job(recovered(left))
    assert is_whole(back)
    assert not back.items["curve-2"].visible
    drop(left)
    assert left_behind() == []
    # One that is still being written by somebody is nobody else's.
    mine = Journal()
    mine.write(job, None)
    assert left_behind() == []
    mine.end()
    assert not mine.folder.exists()


def test_scans_that_were_cut_off_are_told(tmp_path: Path) -> None:
    corners = "\n".join(f"{x} {y} 0" for x in range(4) for y in range(4))
    faces = "\n".join(f"3 {k} {k + 1} {k + 4}" for k in range(8))
    ply = f"ply\nformat ascii 1.0\nelement vertex 16\nproperty float x\nproperty float y\n\
property float z\nelement face 8\nproperty list uchar int vertex_indices\nend_header\n{corners}\n"
    off = f"OFF\n16 8 0\n{corners}\n"
    for name, text in (("a.ply", ply), ("a.off", off)):
        path = tmp_path / name
        path.write_text(text + faces + "\n")
        assert read_scan(path).mesh is not None
        path.write_text(text + "\n".join(faces.splitlines()[:3]) + "\n")
        with pytest.raises(FileError):
            read_scan(path)
    stl = tmp_path / "a.stl"
    stl.write_bytes(bytes(80) + (1000).to_bytes(4, "little") + bytes(50 * 400))
    with pytest.raises(FileError, match="1000 triangles, and 400"):
        read_scan(stl)


def test_a_sheet_with_a_far_corner_and_a_drawing_of_itself_end_in_one_line(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    import usual_clay.files.limited as limited

    sheet = tmp_path / "corner.xlsx"
    with zipfile.ZipFile(sheet, "w") as book:
        book.writestr("[Content_Types].xml", "<Types/>")
        book.writestr("xl/workbook.xml", '<workbook xmlns="http://schemas.openxmlformats.org/'
                      'spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/'
                      'officeDocument/2006/relationships"><sheets><sheet name="a" sheetId="1"'
                      ' r:id="rId1"/></sheets></workbook>')  # fmt: skip
        book.writestr("xl/_rels/workbook.xml.rels", '<Relationships xmlns="http://schemas.'
                      'openxmlformats.org/package/2006/relationships"><Relationship Id="rId1"'
                      ' Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/'
                      'worksheet" Target="worksheets/sheet1.xml"/></Relationships>')  # fmt: skip
        book.writestr("xl/worksheets/sheet1.xml", SHEET)
    with pytest.raises(FileError, match="corner"):
        read_points(sheet)
    nested = "".join(
        f'<g id="g{k}"><use href="#g{k + 1}"/><use href="#g{k + 1}"/></g>' for k in range(40)
    )
    drawing = tmp_path / "use.svg"
    drawing.write_text(
        f'<svg xmlns="http://www.w3.org/2000/svg"><defs>{nested}<g id="g40"><path'
        ' d="M0 0L1 1"/></g></defs><use href="#g0"/></svg>'
    )
    monkeypatch.setattr(limited, "SECONDS", 2.0)
    with pytest.raises(FileError):
        read_svg(drawing)
    empty = tmp_path / "empty.svg"
    empty.write_text("<a><b/></a>")
    with pytest.raises(FileError, match="empty"):
        read_svg(empty)


def test_points_that_are_not_finite_after_their_unit_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "far.csv"
    path.write_text("x [m],y [m],z [m]\n" + "\n".join(["1e307,0,0"] * 4))
    with pytest.raises(FileError):
        read_points(path)
    assert np.isfinite(read_points(_plain(tmp_path)).points).all()


def _plain(folder: Path) -> Path:
    path = folder / "plain.csv"
    path.write_text("x [m],y [m],z [m]\n1,0,0\n2,0,0\n")
    return path
