"""One action as one value; rail, menus, finder, key list, hint line and cards read it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from PySide6.QtCore import QObject, QSettings, Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QPushButton, QWidget

from usual_clay.bench.widgets import button
from usual_clay.job.items import Item

# Stations of the work, in its order; each has a file of commands here.
STATIONS = ("Gather", "Trace", "Surface", "Check", "Body", "Deliver")


@dataclass(frozen=True)
class Command:
    """Something the user can do.

    Attributes
    ----------
    name : str
        How the program names it.
    words : str
        How the user reads it.
    run : callable
        Does it, given the bench.
    also : str
        Other words that people use for it; the finder knows them.
    key : str
        The key it is shipped with; empty for none.
    station : str
        In which station's rail it stands; empty for none.
    icon : str
    short : str
        Its words where there is little room: under its icon, on a card's button.
    tip : str
        What it does, in a line, where its words do not say all of it.
    hint : str
        What the hint line says while its tool or its card is in hand.
    hand : str
        The tool that it takes in hand, or the card that it asks for; empty for neither.
    why_not : callable or None
        Given the bench, says why it cannot be done now; empty where it can.
    fits : tuple of item classes
        In whose menu it stands.
    """

    name: str
    words: str
    run: Callable[..., object]
    also: str = ""
    key: str = ""
    station: str = ""
    icon: str = ""
    short: str = ""
    tip: str = ""
    hint: str = ""
    hand: str = ""
    why_not: Callable[..., str] | None = None
    fits: tuple[type[Item], ...] = ()

    @property
    def brief(self) -> str:
        return self.short or self.words


class Commands(QObject):
    """The table of commands, with the user's own keys.

    Signals
    -------
    refused : why something cannot be done now
    """

    refused = Signal(str)

    def __init__(self, window: QWidget) -> None:
        super().__init__(window)
        self._window = window
        self._bench: object = None
        self._commands: dict[str, Command] = {}
        self._shortcuts: dict[str, QShortcut] = {}

    def serve(self, bench: object) -> None:
        """Set what the commands work on."""
        self._bench = bench

    def add(self, *commands: Command) -> None:
        for command in commands:
            assert command.name not in self._commands, f"two commands are called {command.name}"
            self._commands[command.name] = command
            shortcut = QShortcut(QKeySequence(self.key(command.name)), self._window)
            shortcut.setContext(Qt.ShortcutContext.WindowShortcut)
            shortcut.activated.connect(lambda name=command.name: self.run(name))
            self._shortcuts[command.name] = shortcut

    def __iter__(self) -> Iterator[Command]:
        return iter(list(self._commands.values()))

    def __getitem__(self, name: str) -> Command:
        return self._commands[name]

    def of_station(self, station: str) -> list[Command]:
        return [command for command in self if command.station == station]

    def fitting(self, kind: type[Item]) -> list[Command]:
        """Return what stands in the menu of an item of a kind."""
        return [command for command in self if kind in command.fits]

    def hint_of(self, hand: str | None) -> str:
        """Return what the hint line says while a tool or a card is in hand."""
        return next((c.hint for c in self if hand and c.hand == hand and c.hint), "")

    def why_not(self, name: str) -> str:
        """Return why a command cannot be done now, or nothing."""
        test = self._commands[name].why_not
        return "" if test is None else test(self._bench)

    def run(self, name: str) -> None:
        """Do it, or say why it cannot be done."""
        reason = self.why_not(name)
        if reason:
            self.refused.emit(reason)
        else:
            self._commands[name].run(self._bench)

    def button(self, name: str, words: str = "", role: str = "") -> QPushButton:
        """Return a card's button that does it."""
        command = self._commands[name]
        key = self.key(name)
        tip = command.tip or command.words
        made = button(
            words or command.brief, f"{tip} ({key})" if key else tip, role,
            clicked=lambda: self.run(name),
        )  # fmt: skip
        made.setProperty("command", name)
        return made

    # ---- keys ----------------------------------------------------------------------------

    def key(self, name: str) -> str:
        """Return the key of a command, the user's own if it was changed."""
        shipped = self._commands[name].key
        return str(QSettings().value(f"keys/{name}", shipped))

    def set_key(self, name: str, key: str) -> Command | None:
        """Change a key; where another command has it, change nothing and return that one."""
        for other in self:
            if key and other.name != name and self.key(other.name) == key:
                return other
        QSettings().setValue(f"keys/{name}", key)
        self._shortcuts[name].setKey(QKeySequence(key))
        return None

    def reset(self) -> None:
        """Give every command the key it was shipped with."""
        QSettings().remove("keys")
        for name, shortcut in self._shortcuts.items():
            shortcut.setKey(QKeySequence(self._commands[name].key))
