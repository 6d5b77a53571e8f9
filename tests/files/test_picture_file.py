"""Picture files: every kind read, and what is cut off, huge or a trap refused with its reason."""

from __future__ import annotations

import io
import struct
import zlib
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from usual_clay.files import picture_file
from usual_clay.files.errors import FileError
from usual_clay.files.picture_file import SHOWN_SIDE, decode, encoded, read_picture


def ramp(width: int = 60, height: int = 40) -> np.ndarray:
    x, y = np.meshgrid(np.arange(width), np.arange(height))
    return np.stack([4 * x, 6 * y, 120 + 0 * x], axis=-1).astype(np.uint8)


@pytest.mark.parametrize("name", ["a.png", "a.tif", "a.webp", "a.jpg"])
def test_every_kind_is_read(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    options = {"lossless": True} if name.endswith("webp") else {"quality": 97}
    Image.fromarray(ramp()).save(path, dpi=(254, 254), **options)
    read = read_picture(path)
    assert read.size == (60, 40)
    close = 0 if not name.endswith("jpg") else 8
    assert np.abs(decode(read.data).astype(int) - ramp()).max() <= close
    if not name.endswith("webp"):
        assert read.mm_per_pixel == pytest.approx(0.1, rel=1e-3)


def test_a_camera_held_upright_gives_an_upright_picture(tmp_path: Path) -> None:
    path = tmp_path / "turned.jpg"
    exif = Image.Exif()
    exif[0x0112] = 6
    Image.fromarray(ramp()).save(path, exif=exif, quality=97)
    read = read_picture(path)
    assert read.size == (40, 60)
    assert decode(read.data).shape == (60, 40, 3)


def test_clear_and_deep_pictures_keep_what_they_show(tmp_path: Path) -> None:
    clear = np.dstack([ramp(), np.full((40, 60), 77, np.uint8)])
    Image.fromarray(clear).save(tmp_path / "clear.png")
    assert np.array_equal(decode(read_picture(tmp_path / "clear.png").data), clear)
    deep = (np.arange(2400).reshape(40, 60) * 27).astype(np.uint16)
    Image.fromarray(deep).save(tmp_path / "deep.png")
    shown = decode(read_picture(tmp_path / "deep.png").data)
    assert np.abs(shown[..., 0].astype(float) - deep / 257).max() < 1.01
    assert np.array_equal(decode(encoded(ramp())), ramp())


def test_a_page_of_a_pdf_comes_to_scale(tmp_path: Path) -> None:
    path = tmp_path / "drawing.pdf"
    sheet = Image.fromarray(ramp(720, 360))
    sheet.save(path, save_all=True, append_images=[sheet], resolution=72.0)
    read = read_picture(path, page=1)
    # Ten by five inches.
    assert read.mm_per_pixel is not None
    assert read.size[0] * read.mm_per_pixel == pytest.approx(254, abs=0.5)
    assert read.size[1] * read.mm_per_pixel == pytest.approx(127, abs=0.5)
    with pytest.raises(FileError, match="no page 3"):
        read_picture(path, page=2)
    (tmp_path / "bad.pdf").write_bytes(b"%PDF-1.4 nonsense")
    with pytest.raises(FileError, match="no readable PDF"):
        read_picture(tmp_path / "bad.pdf")


def test_pictures_cut_off_in_the_middle_are_refused(tmp_path: Path) -> None:
    for name in ("a.png", "a.jpg", "a.tif", "a.webp"):
        whole = tmp_path / name
        noise = np.random.default_rng(0).integers(0, 255, (80, 90, 3), dtype=np.uint8)
        Image.fromarray(noise).save(whole)
        data = whole.read_bytes()
        for share in (0.0, 0.05, 0.5, 0.9):
            whole.write_bytes(data[: int(share * len(data))])
            with pytest.raises(FileError, match=name):
                read_picture(whole)
    letter = tmp_path / "letter.png"
    letter.write_text("a letter")
    with pytest.raises(FileError, match="no readable picture"):
        read_picture(letter)
    with pytest.raises(FileError, match="are read from"):
        read_picture(tmp_path / "a.svg")
    with pytest.raises(FileError, match="cannot be opened"):
        read_picture(tmp_path / "gone.png")


def bomb(width: int, height: int) -> bytes:
    """A PNG of a few kilobytes that says it is as large as told."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        body = kind + data
        return struct.pack(">I", len(data)) + body + struct.pack(">I", zlib.crc32(body))

    header = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    packed = zlib.compress(b"\0" * 2_000_000)
    return (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", packed) + chunk(b"IEND", b"")
    )


def test_a_bomb_is_refused_by_its_header(tmp_path: Path) -> None:
    path = tmp_path / "bomb.png"
    path.write_bytes(bomb(200_000, 200_000))
    assert path.stat().st_size < 10_000
    with pytest.raises(FileError, match=r"200000 × 200000 pixels.*GB can be spared"):
        read_picture(path)


def test_a_huge_picture_is_shown_through_a_reduced_copy(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "long.png"
    Image.fromarray(np.tile(ramp(60, 30), (1, 500, 1))).save(path)
    read = read_picture(path)
    assert read.size == (30_000, 30)
    assert decode(read.data, SHOWN_SIDE).shape[1] == SHOWN_SIDE
    assert decode(read.data).shape == (30, 30_000, 3)
    monkeypatch.setattr(picture_file, "free_memory", lambda: 10e6)
    with pytest.raises(FileError, match="smaller copy"):
        picture_file._read_picture(path, 0)


def test_the_size_is_that_of_the_file(tmp_path: Path) -> None:
    buffer = io.BytesIO()
    Image.new("RGB", (1, 5)).save(buffer, "PNG")
    (tmp_path / "thin.png").write_bytes(buffer.getvalue())
    with pytest.raises(FileError, match="only 1 × 5"):
        read_picture(tmp_path / "thin.png")
