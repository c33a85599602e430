"""The menu bar: made of the declared actions, and of the two lists that change, recent rigs and variants."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.desk.actions import Action, Desk, declared_actions
from wyntaxis.desk.rig_files import RigFiles
from wyntaxis.desk.workplace import Workplace


class Menus:
    """The menus of a window; ``by_name`` holds its actions by the title that they declare."""

    def __init__(self, window: Workplace, files: RigFiles) -> None:
        self._window, self._files = window, files
        self._menus: dict[str, QMenu] = {}
        self.lists: dict[str, QMenu] = {}
        self._shown: list[tuple[Action, QAction]] = []
        self._listed_variants: tuple[object, ...] = ()
        self.by_name: dict[str, QAction] = {}
        desk = Desk(window, files)
        for action in declared_actions():
            if action.entries is None:
                self._add(desk, action)
            else:
                self.lists[action.entries] = self._menu(f"{action.menu}/{action.title}")
        self.fill_recent()

    def _menu(self, name: str) -> QMenu:
        if name not in self._menus:
            parent, _, title = name.rpartition("/")
            bar = self._menu(parent) if parent else self._window.menuBar()
            assert bar is not None
            made = bar.addMenu(title)
            assert made is not None
            self._menus[name] = made
        return self._menus[name]

    def _add(self, desk: Desk, action: Action) -> None:
        menu = self._menu(action.menu)
        item = QAction(action.title, self._window)
        if action.keys is not None:
            keys = [QKeySequence(action.keys), *([QKeySequence(action.also)] if action.also else [])]
            item.setShortcuts(keys)
        item.setCheckable(action.ticked is not None)
        item.triggered.connect(lambda _checked: self._do(action, desk))
        if action.new_group:
            menu.addSeparator()
        menu.addAction(item)
        self._shown.append((action, item))
        self.by_name[action.title] = item

    def doable(self) -> list[tuple[str, QAction]]:
        """Return what can be done now: the menu with its submenu, and the action."""
        return [(action.menu, item) for action, item in self._shown if item.isEnabled()]

    def _do(self, action: Action, desk: Desk) -> None:
        """Take what is being typed as entered, then do an action: all of them read the rig."""
        if self._window.finish_typing():
            action.do(desk)

    def spares_text(self, keys: QKeySequence) -> bool:
        """Return whether keys ask for an action that leaves them to a text that is being edited."""
        return any(action.spares_text and item.shortcut() == keys for action, item in self._shown)

    def _add_to_list(self, menu: QMenu, text: str, do: Callable[[], object], *, ticked: bool | None = None) -> None:
        item = QAction(plain(text).replace("&", "&&"), menu)  # a menu takes its own entries with it when cleared
        if ticked is not None:
            item.setCheckable(True)
            item.setChecked(ticked)
        item.triggered.connect(lambda _checked: do() if self._window.finish_typing() else None)
        menu.addAction(item)

    def fill_recent(self) -> None:
        """List the rigs opened last."""

        def opening(path: Path) -> Callable[[], object]:
            return lambda: self._files.guard(lambda: self._files.open_path(path))

        menu, recent = self.lists["recent"], self._window.settings.recent
        menu.clear()
        for path in recent:
            self._add_to_list(menu, f"{path.name}   {path.parent}", opening(path))
        menu.setEnabled(bool(recent))

    def _fill_variants(self) -> None:
        session = self._window.session
        assert session is not None

        def showing(name: str | None) -> Callable[[], object]:
            return lambda: session.show_variant(name)

        menu, names = self.lists["variants"], [None, *(variant.name for variant in session.document.variants)]
        listed = (session, session.document.name, *names)
        if listed != self._listed_variants:
            self._listed_variants = listed
            menu.clear()
            for name in names:
                self._add_to_list(menu, name or session.document.name, showing(name), ticked=False)
        for name, item in zip(names, menu.actions(), strict=True):
            item.setChecked(name == session.variant)

    def refresh(self) -> None:
        """Enable what can be done now, and say what undo and redo would do."""
        session = self._window.session
        if session is None:
            return
        self._fill_variants()
        for action, item in self._shown:
            item.setEnabled(action.can(session))
            if action.text is not None:
                item.setText(action.text(session))
            if action.ticked is not None:
                item.setChecked(action.ticked(self._window))
