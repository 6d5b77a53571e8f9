"""A report as PDF: the same page as HTML, laid out on paper, with sharp pictures of the stage."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from usual_clay.core.check.lines_plan import Sheet
from usual_clay.core.progress import Progress, silent, stretch
from usual_clay.files.atomic import whole_file, write_text
from usual_clay.files.errors import FileError
from usual_clay.files.report_html import report_html
from usual_clay.files.sheet_file import page_of, svg_of
from usual_clay.job.job import Job
from usual_clay.job.reporting import report_of

if TYPE_CHECKING:
    from PySide6.QtGui import QImage

SUFFIXES = (".pdf", ".html", ".json")
SIZES = ("A4", "Letter")
# Pictures of the stage, in pixels: sharp at the width that they have on paper.
PICTURE = (1400, 800)
MARGIN = 16.0
# Of a sheet, in an inch.
DOTS = 1200


def write_report_file(
    path: Path, job: Job, size: str = "A4", progress: Progress = silent,
    pictures: Sequence[tuple[str, bytes]] | None = None,
) -> dict[str, Any]:  # fmt: skip
    """Write a report by the file's ending; return what it tells.

    Parameters
    ----------
    pictures : sequence of (str, bytes), optional
        PNG files; without them pictures are made here.

    Raises
    ------
    FileError
    """
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise FileError(f"{path.name}: a report is written as {', '.join(SUFFIXES)}")
    if size not in SIZES:
        raise FileError(f"a report's pages are {' or '.join(SIZES)}, not {size}")
    told = report_of(job, stretch(progress, 0.0, 0.8))
    if suffix == ".json":
        write_text(path, json.dumps(told, indent=2) + "\n")
        return told
    shown = pictures_of(job) if pictures is None else pictures
    page = report_html(told, shown)
    if suffix == ".html":
        write_text(path, page)
    else:
        with whole_file(path) as temporary:
            _print(temporary, page, size)
    return told


def print_sheet(path: Path, sheet: Sheet, title: str) -> None:
    """Write a sheet as a PDF of one page of its own size: at 100 % it is at true scale.

    Raises
    ------
    FileError
    """
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QByteArray, QMarginsF, QSizeF
    from PySide6.QtGui import QPageSize, QPainter, QPdfWriter
    from PySide6.QtSvg import QSvgRenderer

    from usual_clay.bench.application import make_application

    make_application()
    width, height = (float(side) for side in page_of(sheet))
    drawn = QSvgRenderer(QByteArray(svg_of(sheet, title).encode()))
    with whole_file(path) as temporary:
        writer = QPdfWriter(str(temporary))
        writer.setTitle(title)
        writer.setResolution(DOTS)
        writer.setPageSize(QPageSize(QSizeF(width, height), QPageSize.Unit.Millimeter))
        writer.setPageMargins(QMarginsF(0, 0, 0, 0))
        painter = QPainter()
        if not painter.begin(writer):
            raise FileError(f"{path.name} cannot be written as a page of {width:.0f} mm")
        drawn.render(painter)
        painter.end()


def pictures_of(job: Job) -> list[tuple[str, bytes]]:
    """Return pictures of a job by itself, without a window or a display."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from usual_clay.bench.application import make_application
    from usual_clay.bench.camera import free_view
    from usual_clay.bench.session import Session
    from usual_clay.bench.stage.scene import Scene
    from usual_clay.bench.stage.view import View

    app = make_application()
    session = Session()
    session.history.amend(job)
    scene, view = Scene(session), View()
    found = []
    for words, name, scan in (
        ("All that is visible, by its deviation", "", False),
        ("As it mirrors level stripes", "stripes", False),
    ):
        scene.shown = replace(scene.shown, judging=name, scan=scan, pictures=False, net=False)
        _settle(app, session, scene)
        outline = scene.outline()
        if outline is None:
            continue
        view.camera = free_view()
        view.resize(*PICTURE)
        view.fit(outline)
        scene.sights.look_from(view.camera)
        view.set_layers(scene.layers())
        found.append((words, png_of(view.image())))
    session.work.cancel_all()
    return found


def _settle(app: Any, session: Any, scene: Any) -> None:
    end = time.monotonic() + 60
    quiet = 0
    while quiet < 5 and time.monotonic() < end:
        scene.layers()
        app.processEvents()
        quiet = 0 if session.work.is_busy() else quiet + 1
        time.sleep(0.01)


def png_of(image: QImage) -> bytes:
    """Return a picture as a PNG file."""
    from PySide6.QtCore import QBuffer, QIODevice

    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")  # type: ignore[call-overload]
    return bytes(buffer.data().data())


def _print(path: Path, page: str, size: str) -> None:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QMarginsF, QSizeF
    from PySide6.QtGui import QFont, QPageLayout, QPageSize, QPdfWriter, QTextDocument

    from usual_clay.bench.application import make_application

    make_application()
    writer = QPdfWriter(str(path))
    writer.setResolution(200)
    writer.setCreator("Usual Clay")
    writer.setPageLayout(
        QPageLayout(
            QPageSize(getattr(QPageSize.PageSizeId, size)),
            QPageLayout.Orientation.Portrait,
            QMarginsF(MARGIN, MARGIN, MARGIN, MARGIN),
            QPageLayout.Unit.Millimeter,
        )
    )
    document = QTextDocument()
    # Without figures of one width: their glyphs have no letters that a search would find.
    document.setDefaultFont(QFont("Inter", 9))
    document.documentLayout().setPaintDevice(writer)
    document.setHtml(page)
    document.setPageSize(QSizeF(writer.width(), writer.height()))
    document.print_(writer)
