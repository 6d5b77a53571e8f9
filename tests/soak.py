"""Works a window at random, by its own commands, mouse and keys, and watches what it comes to.

python -m tests.soak [MINUTES] [SEED] [--small]

With `--small` not the demo job but one of a few small things, whose edits take far less time.
"""

from __future__ import annotations

import os
import random
import sys
import tempfile
import threading
import time
import traceback
from collections import Counter
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPoint, QRectF, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from tests.alike import difference
from tests.true_shapes import SHAPES
from usual_clay.bench.guard import faults
from usual_clay.bench.still import open_demo, settle
from usual_clay.bench.window import Window
from usual_clay.core.build.combine import CopySettings, TwinSettings
from usual_clay.core.build.loft import LoftSettings
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.memory import give_back
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.files.job_file import read_job
from usual_clay.files.sources import with_region
from usual_clay.job.edits import make
from usual_clay.job.edits.scans import with_scan
from usual_clay.job.edits.shaping import places_of
from usual_clay.job.items import Curve, Floating, PointList, Surface
from usual_clay.job.job import Job

# What asks for a file, ends the window, or opens another job.
LEFT_OUT = {
    "bring in scan", "bring in points", "bring in curves", "pin", "replay", "report", "new", "open",
    "open demo", "first surface", "save", "save as", "quit", "finder", "undo", "redo",
}  # fmt: skip
# After so many edits all is undone, done again, saved and opened.
ROUND = 25
# A step may take so long, s; it is over when so often nothing was left to do, and of a small job
# sooner.
LONGEST, RESTS, RESTS_SMALL = 20.0, 12, 2
# So many things are no small job any more.
MOST_SMALL = 40


@dataclass
class Told:
    """What came of it."""

    steps: int = 0
    edits: int = 0
    refused: int = 0
    rounds: int = 0
    faults: list[str] = field(default_factory=list)
    memory: list[float] = field(default_factory=list)
    threads: list[int] = field(default_factory=list)
    done: Counter[str] = field(default_factory=Counter)


class Soak:
    """A hand that cares for nothing."""

    def __init__(self, window: Window, seed: int, rests: int = RESTS) -> None:
        self.window, self.session, self.rests = window, window.session, rests
        self.shown = window.stage.scene.shown
        self.chance = random.Random(seed)
        self.told = Told()
        self.names = [c.name for c in window.commands if c.name not in LEFT_OUT]
        self._last = ""
        faults.came.connect(self._fault)
        sys.excepthook = lambda kind, error, trace: self._fault(
            "", "".join(traceback.format_exception(kind, error, trace))
        )
        threading.excepthook = lambda gone: self._fault(
            "", "".join(traceback.format_exception(gone.exc_value))
        )
        window.commands.refused.connect(lambda _words: self._count_refused())

    def _settle(self) -> None:
        settle(self.window, LONGEST, self.rests)

    def _fault(self, _words: str, details: str) -> None:
        self.told.faults.append(f"after {self._last}:\n{details}")

    def _count_refused(self) -> None:
        self.told.refused += 1

    def step(self) -> None:
        """Do one thing."""
        way = self.chance.choice(
            (self._choose, self._choose, self._command, self._command, self._drag, self._key,
             self._nudge)
        )  # fmt: skip
        before = self.session.job
        try:
            way()
        except Exception as error:
            # What Qt calls is guarded; this was called from here.
            self._fault("", "".join(traceback.format_exception(error)))
        self._settle()
        self.told.steps += 1
        self.told.edits += self.session.job is not before

    def _choose(self) -> None:
        items = list(self.session.job.items.values())
        if items:
            item = self.chance.choice(items)
            self._last = f"choosing {item.name}"
            self.session.choice.choose(item.id)
            if isinstance(item, Curve | Surface) and self.chance.random() < 0.4:
                count = len(places_of(item, self.session.choice.point_kind))
                self.session.choice.choose_points([self.chance.randrange(count)])

    def _nudge(self) -> None:
        shaped = [*self.session.job.all(Curve), *self.session.job.all(Surface)]
        if not shaped:
            return
        item = self.chance.choice(shaped)
        self._last = f"a nudge of {item.name}"
        self.session.choice.choose(item.id)
        count = len(places_of(item, self.session.choice.point_kind))
        self.session.choice.choose_points([self.chance.randrange(count)])
        for _ in range(self.chance.randrange(1, 4)):
            key = self.chance.choice((Qt.Key.Key_Up, Qt.Key.Key_Left, Qt.Key.Key_Right))
            QTest.keyClick(self.window.stage.large, key)

    def _command(self) -> None:
        # Now and then what cannot be done is tried too.
        able = [name for name in self.names if not self.window.commands.why_not(name)]
        name = self.chance.choice(able if self.chance.random() < 0.9 else self.names)
        self._last = f"command {name}"
        self.told.done[name] += 1
        self.window.commands.run(name)
        self._settle()
        if self.window.cards.asked is not None:
            if self.chance.random() < 0.6:
                self.window.cards.accept_asked()
                self._settle()
            self.window.cards.close_asked()

    def _drag(self) -> None:
        pane = self.chance.choice((self.window.stage.free, self.window.stage.side))
        if not pane.isVisible():
            return
        self._last = f"a drag with {self.session.hand.tool} in hand"
        start = QPoint(
            self.chance.randrange(5, max(6, pane.width() - 5)),
            self.chance.randrange(5, max(6, pane.height() - 5)),
        )
        chosen = self.session.shown.items.get(self.session.choice.item or "")
        if isinstance(chosen, Curve | Surface) and self.chance.random() < 0.6:
            places = chosen.geometry.points.reshape(-1, 3)
            place = places[self.chance.randrange(len(places))]
            x, y, _ = pane.view.project(place[None])[0]
            # What lies outside the view cannot be pressed.
            if QRectF(pane.rect()).contains(x, y):
                start = QPoint(round(x), round(y))
        button = self.chance.choice((Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton))
        QTest.mousePress(pane, button, pos=start)
        for _ in range(self.chance.randrange(4)):
            start += QPoint(self.chance.randrange(-20, 21), self.chance.randrange(-20, 21))
            QTest.mouseMove(pane, start)
            QApplication.processEvents()
        QTest.mouseRelease(pane, button, pos=start)

    def _key(self) -> None:
        keys = (Qt.Key.Key_Escape, Qt.Key.Key_Return, Qt.Key.Key_Delete, Qt.Key.Key_Up,
                Qt.Key.Key_Left, Qt.Key.Key_Tab, Qt.Key.Key_BracketRight)  # fmt: skip
        key = self.chance.choice(keys)
        self._last = f"key {key.name} with {self.session.hand.tool} in hand"
        QTest.keyClick(self.window.stage.large, key)

    def round(self, folder: Path) -> None:
        """Undo all, do it again, save and open; then look at memory and threads.

        Raises
        ------
        AssertionError
            Where something is not the same.
        """
        session = self.session
        session.hand.take(None)
        self.window.cards.close_asked()
        self._settle()
        # What follows has come to rest: with that the present step counts.
        now, count = session.job, 0
        while session.history.undo_words is not None:
            session.undo()
            count += 1
        for _ in range(count):
            session.redo()
        self._settle()
        wrong = difference(now, session.job, "job") if not _late(now) else ""
        assert not wrong, f"done again it is not the same: {wrong}"
        path = folder / "soak.uclay"
        assert session.save(path), "it could not be saved"
        wrong = difference(_kept(session.job), _kept(read_job(path)), "job")
        assert not wrong, f"opened again it is not the same: {wrong}"
        self.told.rounds += 1
        # As it was looked at first: a way to judge keeps pictures of all surfaces while it is on.
        self.window.stage.scene.shown = self.shown
        self.session.choice.choose(None)
        self._settle()
        give_back()
        self.told.memory.append(_megabytes())
        self.told.threads.append(threading.active_count())


def _kept(job: Job) -> Job:
    """Return a job as a file keeps it: how things float is worked out when it is opened."""
    for item in list(job.all(Floating)):
        job = job.with_item(replace(item, lying=None))
    return job


def _megabytes() -> float:
    """Return how much memory the process has."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6


def _put_away() -> None:
    """Close whatever waits for an answer."""
    for each in (QApplication.activePopupWidget(), QApplication.activeModalWidget()):
        if each is not None:
            each.close()


def open_small(window: Window) -> None:
    """Open a job of a few small things: a scan, a cast, curves, points, and what follows them."""
    shape = next(each for each in SHAPES if each.name == "hills")
    job, scan = with_scan(Job(), shape.scan(1500), "hills.ply", "mm")
    job, (region,) = with_region(job, scan, np.ones(len(scan.mesh.vertices), dtype=bool))
    job, cast, _ = make.add(job, "cast", CastSettings(7, 6), measured=region)
    job, _, _ = make.add(job, "surface twin", TwinSettings("y", -40.0), surface=cast.id)
    sections = []
    for k in range(3):
        y = 60.0 + 20 * k
        net = np.column_stack([np.linspace(0, 30, 6), np.full(6, y), [0, 2, 5, 4, 3, k]])
        spline = BSplineCurve(even_knots(6, 3), net)
        curve = Curve(id=job.new_id("curve"), name=f"Section {k}", geometry=spline)
        job, sections = job.with_item(curve), [*sections, curve.id]
    job, _, _ = make.add(job, "loft", LoftSettings(), sections=sections)
    job, _, _ = make.add(job, "copy", CopySettings("z", 15.0), curve=sections[0])
    points = PointList(id=job.new_id("points"), name="Points", points=-net)
    window.session.new()
    window.session.commit(job.with_item(points), "small things")
    settle(window)


def _late(job: object) -> bool:
    """Tell whether something was still to be made when it was looked at."""
    from usual_clay.job.remake import stale

    return bool(stale(job))  # type: ignore[arg-type]


def soak(
    window: Window, seconds: float, seed: int = 0, rounds: int = 0, small: bool = False
) -> Told:
    """Work a window that has a job; return what came of it.

    Parameters
    ----------
    rounds : int
        End after so many, whatever the time; 0 for the time alone.
    small : bool
        Whether its job is a small one.
    """
    hand, end = Soak(window, seed, RESTS_SMALL if small else RESTS), time.monotonic() + seconds
    window.documents.may_leave = lambda: True  # type: ignore[method-assign]
    # Nobody answers: a menu or a question would wait for ever.
    clock = QTimer(window, interval=40)
    clock.timeout.connect(_put_away)
    clock.start()
    with tempfile.TemporaryDirectory() as folder:
        while time.monotonic() < end and (not rounds or hand.told.rounds < rounds):
            for _ in range(ROUND):
                hand.step()
            hand.round(Path(folder))
            fewest, most = (4, MOST_SMALL) if small else (20, sys.maxsize)
            if not fewest <= len(window.session.job.items) <= most:
                # Little is left to do anything with, or more than is small.
                (open_small if small else open_demo)(window)
    return hand.told


def main() -> None:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    # What it leaves unsaved is nobody's job.
    with tempfile.TemporaryDirectory(prefix="usual-clay-", ignore_cleanup_errors=True) as state:
        os.environ["XDG_STATE_HOME"] = state
        window, faults = _soaked()
    # The window is not taken apart.
    os._exit(1 if window and faults else 0)


def _soaked() -> tuple[Window, int]:
    """Work a window, say what came of it, and return it and how many faults there were."""
    from usual_clay.bench.application import make_application

    make_application()
    small, asked = "--small" in sys.argv, [word for word in sys.argv[1:] if word != "--small"]
    minutes = float(asked[0]) if asked else 5.0
    seed = int(asked[1]) if len(asked) > 1 else random.randrange(10**6)
    window = Window()
    if small:
        # What is drawn is the sooner drawn.
        window.resize(window.minimumSizeHint())
    window.show()
    (open_small if small else open_demo)(window)
    told = soak(window, 60 * minutes, seed, small=small)
    _report(seed, told)
    return window, len(told.faults)


def _report(seed: int, told: Told) -> None:
    for fault in dict.fromkeys(told.faults):
        print(fault)
    memory = told.memory
    print(
        f"seed {seed}: {told.steps} steps, {told.edits} edits, {told.refused} refused,"
        f" {told.rounds} rounds of undo, redo, save and open; {len(told.faults)} faults."
    )
    if len(memory) > 5:
        grown = 100 * (memory[-1] / memory[4] - 1)
        print(f"{memory[4]:.0f} MB after the fifth round, {memory[-1]:.0f} MB at the end"
              f" ({grown:+.0f} %); threads {told.threads[4]} and {told.threads[-1]}.")  # fmt: skip
    sys.stdout.flush()


if __name__ == "__main__":
    main()
