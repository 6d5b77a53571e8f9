"""The top bar: the job, the stations of the work, the one tolerance, and the finder."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QFrame, QHBoxLayout, QSizePolicy, QWidget

from usual_clay.bench.command import STATIONS
from usual_clay.bench.guard import Guarded
from usual_clay.bench.session import Session
from usual_clay.bench.theme.looks import put_icon
from usual_clay.bench.widgets import button, label, number
from usual_clay.core.check.deviation import Tolerance

TIPS = {
    "Gather": "References: scans, pictures and points are brought in here",
    "Trace": "Spline curves",
    "Surface": "Surfaces fitted to the scan",
    "Check": "How far it is off, and how it looks",
    "Body": "Surfaces joined to a body",
    "Deliver": "Files for others",
}


# What the finder's button says, in a window so wide and in a narrower one.
FIND, WIDE = ("Find an action   Ctrl+Space", "Find"), 1180


class TopBar(Guarded, QWidget):
    """Signals
    -------
    station_chosen : name
    finder_wanted
    """

    station_chosen = Signal(str)
    finder_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("panel")
        self.setFixedHeight(45)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 14, 0)
        row.setSpacing(4)
        self.name = label()
        self.name.setStyleSheet("font-weight: 600;")
        self.state = label(role="small")
        row.addWidget(self.name)
        row.addSpacing(4)
        row.addWidget(self.state)
        row.addStretch(1)
        self.stations: dict[str, QWidget] = {}
        group = QButtonGroup(self)
        for name in STATIONS:
            made = button(name, TIPS[name], role="station", checkable=True)
            made.clicked.connect(lambda _=False, name=name: self.station_chosen.emit(name))
            group.addButton(made)
            row.addWidget(made)
            self.stations[name] = made
        row.addStretch(1)
        row.addWidget(self._aim_field(), 0, Qt.AlignmentFlag.AlignVCenter)
        row.addSpacing(8)
        self.finder = button(FIND[0], "Every action by name (Ctrl+Space)", role="find")
        put_icon(self.finder, "magnifying-glass", "soft_ink")
        self.finder.clicked.connect(self.finder_wanted)
        row.addWidget(self.finder)
        session.job_changed.connect(self.refresh)
        self.refresh()

    def resizeEvent(self, _event: object) -> None:
        # In a narrow window the finder's words give way, so that nothing else is squeezed.
        self.finder.setText(FIND[0] if self.width() >= WIDE else FIND[1])

    def _aim_field(self) -> QFrame:
        frame = QFrame()
        frame.setObjectName("aim")
        frame.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Preferred)
        row = QHBoxLayout(frame)
        row.setContentsMargins(10, 1, 8, 1)
        row.setSpacing(2)
        tip = "The deviation tolerance of the whole job, in mm"
        self.tolerance = number(0.001, 100, 3, "", tip, tip, 56)
        self.tolerance.setSingleStep(0.005)
        self.tolerance.unit = "mm"
        tip = "The share of points that must lie within it, in per cent"
        self.share = number(50, 100, 1, "", tip, tip, 48)
        for spin in (self.tolerance, self.share):
            spin.valueChanged.connect(self._aimed)
        row.addWidget(label("within", role="soft"))
        row.addWidget(self.tolerance)
        row.addWidget(label("mm", role="soft"))
        row.addSpacing(6)
        row.addWidget(self.share)
        row.addWidget(label("%", role="soft"))
        return frame

    def _aimed(self) -> None:
        self.session.set_tolerance(Tolerance(self.tolerance.value(), self.share.value() / 100))

    def set_station(self, name: str) -> None:
        self.stations[name].setChecked(True)  # type: ignore[attr-defined]

    def refresh(self) -> None:
        job = self.session.job
        metrics = self.name.fontMetrics()
        self.name.setText(metrics.elidedText(job.name, Qt.TextElideMode.ElideRight, 150))
        self.name.setToolTip(str(self.session.path or "not saved yet"))
        if self.session.path is None:
            state = "not saved yet" if job.items else ""
        else:
            state = "saved" if self.session.is_saved else "changed"
        self.state.setText(state)
        with QSignalBlocker(self.tolerance), QSignalBlocker(self.share):
            self.tolerance.setValue(job.tolerance.deviation)
            self.share.setValue(job.tolerance.share * 100)
