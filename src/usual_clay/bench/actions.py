"""Every action once: its name, its key, and what it does. Menus, rail and finder read this."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QWidget


@dataclass(frozen=True)
class Action:
    """Something the user can do.

    Attributes
    ----------
    name : str
        How the program names it.
    words : str
        How the user reads it.
    key : str
        The key it is shipped with; empty for none.
    run : callable
    station : str
        Where it stands in the tool rail; empty for nowhere.
    icon : str
    tip : str
    """

    name: str
    words: str
    key: str
    run: Callable[[], object]
    station: str = ""
    icon: str = ""
    tip: str = ""


class Actions:
    """The table of actions, with the user's own keys."""

    def __init__(self, window: QWidget) -> None:
        self._window = window
        self._actions: dict[str, Action] = {}
        self._shortcuts: dict[str, QShortcut] = {}

    def add(self, action: Action) -> None:
        self._actions[action.name] = action
        shortcut = QShortcut(QKeySequence(self.key(action.name)), self._window)
        shortcut.setContext(Qt.ShortcutContext.WindowShortcut)
        shortcut.activated.connect(action.run)
        self._shortcuts[action.name] = shortcut

    def all(self) -> list[Action]:
        return list(self._actions.values())

    def of_station(self, station: str) -> list[Action]:
        return [action for action in self._actions.values() if action.station == station]

    def run(self, name: str) -> None:
        self._actions[name].run()

    def key(self, name: str) -> str:
        """Return the key of an action, the user's own if it was changed."""
        shipped = self._actions[name].key
        return str(QSettings().value(f"keys/{name}", shipped))

    def set_key(self, name: str, key: str) -> Action | None:
        """Change a key; where another action has it, change nothing and return that one."""
        for other in self._actions.values():
            if key and other.name != name and self.key(other.name) == key:
                return other
        QSettings().setValue(f"keys/{name}", key)
        self._shortcuts[name].setKey(QKeySequence(key))
        return None

    def reset(self) -> None:
        """Give every action the key it was shipped with."""
        QSettings().remove("keys")
        for name, shortcut in self._shortcuts.items():
            shortcut.setKey(QKeySequence(self._actions[name].key))
