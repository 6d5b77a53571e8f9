"""Reference pictures from PNG, JPEG, TIFF, WebP and PDF files, checked before they are believed."""

from __future__ import annotations

import io
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image, ImageOps, UnidentifiedImageError

from usual_clay.files.errors import FileError
from usual_clay.files.limited import read_apart

SUFFIXES = (".png", ".jpg", ".jpeg", ".tif", ".tiff", ".webp", ".pdf")
FORMATS = ("PNG", "JPEG", "TIFF", "WEBP")
LARGEST_FILE = 1 << 30
# The stage shows no more pixels than this along a side.
SHOWN_SIDE = 2048
# Bytes that a decoded pixel takes while it is worked on, and the share of free memory allowed.
BYTES_A_PIXEL, FREE_SHARE = 8, 0.5
PDF_DPI = 200
ORIENTATION, SIDEWAYS = 0x0112, (5, 6, 7, 8)
MM_PER_INCH = 25.4

# Sizes are checked here, against the memory there is, before anything is decoded.
Image.MAX_IMAGE_PIXELS = None


@dataclass(frozen=True, eq=False)
class PictureRead:
    """A picture's file.

    Attributes
    ----------
    data : bytes
        A whole file in one of `FORMATS`.
    size : (int, int)
        Width and height in pixels, upright.
    mm_per_pixel : float or None
        What the file says, where that can be believed.
    """

    data: bytes
    size: tuple[int, int]
    mm_per_pixel: float | None


def read_picture(path: Path, page: int = 0) -> PictureRead:
    """Read a picture, or a page of a PDF, in a process of its own.

    Raises
    ------
    FileError
        When it is missing, damaged, cut off, of another kind, or too large for the memory here.
    """
    if path.suffix.lower() not in SUFFIXES:
        raise FileError(f"{path.name}: pictures are read from {', '.join(SUFFIXES)} files")
    return read_apart(path, _read_picture, page)


def _read_picture(path: Path, page: int) -> PictureRead:
    """Read a picture, or a page of a PDF.

    Raises
    ------
    FileError
        When it is missing, damaged, cut off, of another kind, or too large for the memory here.
    """
    try:
        if path.stat().st_size > LARGEST_FILE:
            raise FileError(f"{path.name} is larger than 1 GB: save a smaller copy")
        data = path.read_bytes()
    except OSError as error:
        raise FileError(f"{path.name} cannot be opened: {error.strerror}") from error
    if not data:
        raise FileError(f"{path.name} is empty")
    if path.suffix.lower() == ".pdf":
        return _pdf_page(data, path.name, page)
    size = checked_size(data, path.name)
    # To the end once, so that a file cut off in the middle is known now and not later.
    decode(data, SHOWN_SIDE, path.name)
    return PictureRead(data, size, _said_scale(data))


def checked_size(data: bytes, name: str) -> tuple[int, int]:
    """Return a picture's size, upright; refuse one that is a line, or that memory will not hold.

    Raises
    ------
    FileError
    """
    width, height = size_of(data, name)
    if width < 2 or height < 2:
        raise FileError(f"{name} is only {width} × {height} pixels")
    needed, free = width * height * BYTES_A_PIXEL, FREE_SHARE * free_memory()
    if needed > free:
        raise FileError(
            f"{name} is {width} × {height} pixels: to work on it takes {needed / 1e9:.1f} GB, and"
            f" {free / 1e9:.1f} GB can be spared here. Save a smaller copy"
        )
    return width, height


def size_of(data: bytes, name: str) -> tuple[int, int]:
    """Return a picture's size, upright, from its header.

    Raises
    ------
    FileError
    """
    try:
        with Image.open(io.BytesIO(data), formats=FORMATS) as opened:
            width, height = opened.size
            # Asked of a PNG, this would decode all of it; cameras write none.
            told = opened.getexif().get(ORIENTATION, 1) if opened.format != "PNG" else 1
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, MemoryError) as error:
        raise FileError(f"{name} is no readable picture. Save it again as PNG or JPEG") from error
    return (height, width) if told in SIDEWAYS else (width, height)


def decode(data: bytes, most: int | None = None, name: str = "the picture") -> np.ndarray:
    """Return a picture's pixels, (h, w, 3 or 4) bytes, reduced to `most` along its longer side.

    Raises
    ------
    FileError
        When the data are cut off or damaged.
    """
    try:
        with Image.open(io.BytesIO(data), formats=FORMATS) as opened:
            if most is not None:
                # A JPEG is decoded at a fraction of its size at once.
                opened.draft("RGB", (most, most))
            opened.load()
            upright = opened if opened.format == "PNG" else ImageOps.exif_transpose(opened)
            mode = "RGBA" if "A" in upright.getbands() or "transparency" in upright.info else "RGB"
            if upright.mode.startswith("I;16"):
                upright = upright.point(lambda value: value / 257).convert("L")
            if most is not None and max(upright.size) > most:
                upright.thumbnail((most, most), Image.Resampling.BOX)
            return np.asarray(upright.convert(mode))
    except (OSError, ValueError, SyntaxError, EOFError) as error:
        raise FileError(f"{name} is cut off or damaged: save it again as PNG or JPEG") from error
    except MemoryError as error:
        raise FileError(f"{name} needs more memory than there is") from error


@lru_cache(maxsize=6)
def shown_pixels(data: bytes) -> np.ndarray:
    """Return the reduced copy that the stage shows."""
    return decode(data, SHOWN_SIDE)


def encoded(pixels: np.ndarray) -> bytes:
    """Return pixels, (h, w, 3 or 4) bytes, as a PNG file."""
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "PNG", compress_level=3)
    return buffer.getvalue()


def free_memory() -> float:
    """Return the memory that can be had, in bytes."""
    try:
        for line in Path("/proc/meminfo").read_text(encoding="ascii").splitlines():
            if line.startswith("MemAvailable:"):
                return float(line.split()[1]) * 1024
    except (OSError, ValueError, IndexError):
        pass
    return 2e9


def _said_scale(data: bytes) -> float | None:
    with Image.open(io.BytesIO(data), formats=FORMATS) as opened:
        dpi: Any = opened.info.get("dpi")
    try:
        across, down = float(dpi[0]), float(dpi[1])
    except (TypeError, ValueError, IndexError):
        return None
    # 72 and 96 are what programs write that know nothing.
    odd = abs(across - down) > 1 or not 100 <= across <= 10_000
    return None if odd else MM_PER_INCH / across


def _pdf_page(data: bytes, name: str, page: int) -> PictureRead:
    import pypdfium2

    try:
        document = pypdfium2.PdfDocument(data)
        if not 0 <= page < len(document):
            raise FileError(f"{name} has {len(document)} pages: there is no page {page + 1}")
        sheet = document[page]
        inches = max(sheet.get_size()) / 72
        scale = min(PDF_DPI / 72, 8000 / max(inches * 72, 1))
        pixels = np.asarray(sheet.render(scale=scale).to_pil().convert("RGB"))
    except pypdfium2.PdfiumError as error:
        raise FileError(f"{name} is no readable PDF, or is locked: {error}") from error
    return PictureRead(
        encoded(pixels), (pixels.shape[1], pixels.shape[0]), MM_PER_INCH / (72 * scale)
    )
