"""Point lists from files of every sort, and what is wrong with some."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import cKDTree

from usual_clay.cli.codes import BAD_INPUT, MET
from usual_clay.cli.main import main
from usual_clay.demo.points import true_outline, write_point_lists
from usual_clay.demo.probe import StandInProbe
from usual_clay.files.errors import FileError
from usual_clay.files.point_stream import PointStream, ReplayStream
from usual_clay.files.points_file import read_points, write_points


def put(folder: Path, name: str, content: str | bytes) -> Path:
    path = folder / name
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return path


@pytest.mark.parametrize(
    ("name", "content", "first", "unit"),
    [
        ("a.csv", "x,y,z\n1,2,3\n4,5,6\n", [1, 2, 3], "mm"),
        ("b.csv", "x [mm];y [mm]\n1,5;2,5\n3,0;4\n", [1.5, 2.5], "mm"),
        ("c.xyz", "1.0 2.0 3.0\n4 5 6\n", [1, 2, 3], "mm"),
        ("d.txt", "1,0 2,5\n4,0 5,25\n", [1, 2.5], "mm"),
        ("e.tsv", "unit: in\nx\ty\n1\t2\n", [25.4, 50.8], "in"),
        ("f.csv", "No,X,Y,Z\n1,10,20,30\n2,11,21,31\n", [10, 20, 30], "mm"),
        ("g.csv", "z,y,x\n3,2,1\n", [1, 2, 3], "mm"),
        ("h.csv", "cm\n1,2\n", [10, 20], "cm"),
        ("i.csv", "x (ft),y (ft)\n1,2\n", [304.8, 609.6], "ft"),
        ("j.csv", "x,y\r\n-1.5e-3,2E2\r\n", [-0.0015, 200], "mm"),
        ("utf16.csv", "x;y\n1,5;2\n".encode("utf-16"), [1.5, 2], "mm"),
        ("latin.csv", "Größe x;Größe y\n1;2\n".encode("latin-1"), [1, 2], "mm"),
        ("bom.csv", b"\xef\xbb\xbfx,y\n1,2\n", [1, 2], "mm"),
    ],
)
def test_text_is_understood(
    tmp_path: Path, name: str, content: str | bytes, first: list[float], unit: str
) -> None:
    read = read_points(put(tmp_path, name, content))
    assert read.points[0] == pytest.approx(first)
    assert read.unit == unit
    assert read.bad == ()


def test_bad_rows_are_listed_with_number_and_reason(tmp_path: Path) -> None:
    path = put(tmp_path, "a.csv", "x,y\n1,2\nfoo,3\n4\n\n5,nan\n,7\n6,7\n8;9\n")
    read = read_points(path)
    assert read.points.tolist() == [[1, 2], [6, 7]]
    told = {row.number: row.reason for row in read.bad}
    assert set(told) == {3, 4, 6, 7, 9}
    assert "'foo' is no number" in told[3]
    assert "1 of 2 columns" in told[4]
    assert "not finite" in told[6]
    assert "empty" in told[7]


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("a.csv", "", "is empty"),
        ("a.csv", "only words\nand more\n", "no row with two or more numbers"),
        ("a.csv", "\0\1\2\3 1 2", "no text file"),
        ("a.docx", "1,2", "points are read from"),
        ("a.xlsx", "no workbook", "no readable spreadsheet"),
        ("a.ods", "PK\3\4 no workbook", "no readable spreadsheet"),
    ],
)
def test_files_without_points_are_refused(
    tmp_path: Path, name: str, content: str, words: str
) -> None:
    with pytest.raises(FileError, match=words):
        read_points(put(tmp_path, name, content))


def workbook(path: Path, rows: str, merged: str = "") -> Path:
    """Write the least XLSX that a spreadsheet program would: a zip of open-standard XML."""
    kinds = "http://schemas.openxmlformats.org"
    main_kind = f"{kinds}/spreadsheetml/2006/main"
    parts = {
        "[Content_Types].xml": f'<Types xmlns="{kinds}/package/2006/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.'
        'relationships+xml"/><Default Extension="xml" ContentType="application/xml"/></Types>',
        "_rels/.rels": f'<Relationships xmlns="{kinds}/package/2006/relationships"><Relationship '
        f'Id="r1" Type="{kinds}/officeDocument/2006/relationships/officeDocument" '
        'Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'<workbook xmlns="{main_kind}" xmlns:r="{kinds}/officeDocument/2006/'
        'relationships"><sheets><sheet name="Probe" sheetId="1" r:id="r1"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{kinds}/package/2006/relationships">'
        f'<Relationship Id="r1" Type="{kinds}/officeDocument/2006/relationships/worksheet" '
        'Target="worksheets/sheet1.xml"/></Relationships>',
        "xl/worksheets/sheet1.xml": f'<worksheet xmlns="{main_kind}"><sheetData>{rows}</sheetData>'
        f"{merged}</worksheet>",
    }
    with zipfile.ZipFile(path, "w") as archive:
        for name, text in parts.items():
            archive.writestr(name, text)
    return path


def cells(number: int, *values: str | float) -> str:
    made = ""
    for column, value in zip("ABCDE", values, strict=False):
        place = f'r="{column}{number}"'
        if isinstance(value, float):
            made += f"<c {place}><v>{value}</v></c>"
        elif value.startswith("#"):
            made += f'<c {place} t="e"><f>1/0</f><v>{value}</v></c>'
        else:
            made += f'<c {place} t="inlineStr"><is><t>{value}</t></is></c>'
    return f'<row r="{number}">{made}</row>'


def test_a_spreadsheet_with_faults_is_read_row_by_row(tmp_path: Path) -> None:
    rows = [cells(1, "Outline in mm", "")]
    rows += [cells(2, "x", "z"), cells(3, 1.0, 2.0), cells(4, 3.0, "#DIV/0!"), cells(5, 5.0, 6.0)]
    merged = '<mergeCells count="1"><mergeCell ref="A1:B1"/></mergeCells>'
    read = read_points(workbook(tmp_path / "a.xlsx", "".join(rows), merged))
    assert read.points.tolist() == [[1, 2], [5, 6]]
    assert (read.unit, read.said_unit) == ("mm", True)
    assert [row.number for row in read.bad] == [4]


def test_a_locked_spreadsheet_is_told(tmp_path: Path) -> None:
    # An encrypted workbook is a compound file, not a zip.
    path = put(tmp_path, "a.xlsx", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + b"\0" * 600)
    with pytest.raises(FileError, match=r"a\.xlsx is no readable spreadsheet"):
        read_points(path)


def test_written_and_read_back(tmp_path: Path) -> None:
    points = np.random.default_rng(0).normal(size=(500, 3)) * 100
    write_points(tmp_path / "a.csv", points)
    assert (tmp_path / "a.csv").read_text().startswith("x,y,z\n")
    assert read_points(tmp_path / "a.csv").points == pytest.approx(points, abs=1e-6)


def test_points_command_mends_the_demo_outline(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    outline, _ = write_point_lists(tmp_path)
    out = tmp_path / "out.csv"
    code = main(
        [
            "points",
            str(outline),
            "--plane",
            "zx",
            "--ball",
            "3",
            "--side",
            "in",
            "--drop-slips",
            "--out",
            str(out),
        ]
    )
    assert code == MET
    told = capsys.readouterr().out
    assert told.count("\n") == 1
    assert "315 points read in mm; no rows skipped" in told
    assert "slips dropped" in told
    made = read_points(out).points
    from scipy.spatial import cKDTree

    distance = cKDTree(true_outline()[:, [0, 2]]).query(made[:, [0, 2]])[0]
    assert np.sqrt(np.mean(distance**2)) < 0.05
    assert np.abs(made[:, 1]).max() == 0


def test_points_command_tells_what_it_skips_and_drops(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = put(tmp_path, "a.csv", "x,y,z\n0,0,0\n1,0,4.2\nbad,0,0\n2,0,1\n3,0,1\n")
    out = tmp_path / "out.csv"
    assert main(["points", str(path), "--plane", "xy", "--unit", "cm", "--out", str(out)]) == MET
    told = capsys.readouterr().out
    assert "4 points read in cm" in told
    assert "1 rows skipped (4;" in told
    assert "z spans 42 mm and is dropped" in told
    assert read_points(out).points[:, 0].tolist() == [0, 10, 20, 30]


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (["--unit", "in"], "says its unit is mm, but in was asked for"),
        (["--ball", "3"], "belong together"),
        (["--ball", "-3", "--side", "in"], "must be more than 0"),
        (["--ball", "3", "--side", "in", "--out", "o.txt"], "written as .csv"),
    ],
)
def test_points_command_refuses_what_clashes(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], more: list[str], words: str
) -> None:
    path = put(tmp_path, "a.csv", "x [mm],y [mm]\n0,0\n1,0\n2,1\n3,0\n")
    command = ["points", str(path), "--out", str(tmp_path / "o.csv"), *more]
    assert main(command) == BAD_INPUT
    assert words in capsys.readouterr().err


def test_a_spoilt_piece_is_read_row_by_row_and_the_rest_at_once(tmp_path: Path) -> None:
    lines = [f"{n},{n / 2},1" for n in range(50_000)]
    lines[30_000] = "30000,slip,1"
    read = read_points(put(tmp_path, "a.csv", "x,y,z\n" + "\n".join(lines)))
    assert len(read.points) == 49_999
    assert [(row.number, row.reason) for row in read.bad] == [(30_002, "'slip' is no number")]
    assert read.points[29_999:30_001, 0].tolist() == [29_999, 30_001]


def test_columns_are_chosen_and_shown(tmp_path: Path) -> None:
    path = put(tmp_path, "a.csv", "no;label;e [cm];n [cm];h [cm]\n1;a;2;3;4\n2;b;5;6;7\n")
    read = read_points(path, columns=(2, 4))
    assert read.points.tolist() == [[20, 40], [50, 70]]
    assert read.heads == ("no", "label", "e [cm]", "n [cm]", "h [cm]")
    assert read.sample[0] == ("1", "a", "2", "3", "4")
    assert read.chosen == (2, 4)


def test_streams_pause_go_on_and_end(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    now = [100.0]
    monkeypatch.setattr("usual_clay.files.point_stream.time.monotonic", lambda: now[0])
    path = put(tmp_path, "run.csv", "x,y,z\n" + "\n".join(f"{n},0,0" for n in range(100)))
    streams: list[PointStream] = [ReplayStream(path, pace=10), StandInProbe(pace=10, spacing=2.4)]
    for stream in streams:
        assert len(stream.take()) == 0
        stream.start()
        now[0] += 2
        first = stream.take()
        assert len(first) == 20
        stream.pause()
        now[0] += 50
        assert len(stream.take()) == 0
        stream.start()
        now[0] += 1
        more = stream.take()
        assert len(more) == 10
        assert not stream.is_over
        now[0] += 1000
        rest = stream.take()
        assert stream.is_over
        assert len(stream.take()) == 0
        whole = np.concatenate([first, more, rest])
        steps = np.linalg.norm(np.diff(whole, axis=0), axis=1)
        spacing = 1 if isinstance(stream, ReplayStream) else 2.4
        assert np.median(steps) == pytest.approx(spacing, rel=0.02)
    # The stand-in's points are a ball's centres: its radius off the true outline, slips apart.
    probe = StandInProbe(spacing=1.0, noise=0.0, slips=0.0, ball=4.0)
    away = cKDTree(true_outline()).query(probe._points)[0]
    assert away == pytest.approx(np.full(len(away), 2.0), abs=0.02)
    slipped = cKDTree(true_outline()).query(StandInProbe(slips=5.0, seed=2)._points)[0]
    assert 3 < (slipped > 1.7).sum() < 60
    # Columns go where their names say.
    named = ReplayStream(put(tmp_path, "named.csv", "z [mm],y [mm]\n3,2\n6,5\n"))
    assert named._points.tolist() == [[0, 2, 3], [0, 5, 6]]
    with pytest.raises(FileError, match="is empty"):
        ReplayStream(put(tmp_path, "none.csv", ""))
