"""The tool rail: the tools of one station, each an icon and a word."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QToolButton, QVBoxLayout, QWidget

from usual_clay.bench.command import Commands
from usual_clay.bench.session import Session
from usual_clay.bench.theme.looks import put_icon
from usual_clay.bench.widgets import label
from usual_clay.core.fit.parameterize.region import CastSettings

WIDTH = 78


class ToolRail(QWidget):
    """The tools of the station at hand; the one in use is marked."""

    def __init__(self, session: Session, commands: Commands) -> None:
        super().__init__()
        self.session, self._table = session, commands
        self.setObjectName("panel")
        self.setFixedWidth(WIDTH)
        self.tools: dict[str, QToolButton] = {}
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(6, 10, 6, 10)
        self._column.setSpacing(4)
        session.seen_changed.connect(self.refresh)
        session.choice.changed.connect(self.refresh)

    def show_station(self, station: str) -> None:
        """Show the tools of a station."""
        while (item := self._column.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.hide()
                old.deleteLater()
        self.tools = {}
        for action in self._table.of_station(station):
            made = QToolButton()
            made.setProperty("role", "tool")
            made.setText(action.brief)
            put_icon(made, action.icon)
            made.setIconSize(QSize(22, 22))
            made.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            made.setFixedSize(WIDTH - 12, 50)
            key = self._table.key(action.name)
            made.setToolTip(f"{action.words} ({key})" if key else action.words)
            made.setAccessibleName(action.words)
            made.setCheckable(bool(action.hand) or action.name == "cast")
            made.clicked.connect(lambda _=False, name=action.name: self._run(name))
            self._column.addWidget(made)
            self.tools[action.name] = made
        if not self.tools:
            none = label("No tools here yet", role="small", wraps=True)
            none.setAlignment(Qt.AlignmentFlag.AlignHCenter)
            self._column.addWidget(none)
        self._column.addStretch(1)
        self.refresh()

    def _run(self, name: str) -> None:
        self._table.run(name)
        # A tool that could not be taken must not stay marked.
        self.refresh()

    def refresh(self) -> None:
        surface = self.session.choice.surface()
        cast = surface is not None and surface.made_by(CastSettings) is not None
        for name, made in self.tools.items():
            casts = name == "cast" and cast and self.session.hand.tool is None
            made.setChecked(self.session.hand.tool == name or casts)
            put_icon(made, self._table[name].icon, "accent_ink" if made.isChecked() else "ink")
