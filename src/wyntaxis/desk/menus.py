"""The menu bar: every command, with its keys."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu

from wyntaxis.core.rig.model import PART_KINDS
from wyntaxis.core.steps import steps

if TYPE_CHECKING:
    from wyntaxis.desk.window import MainWindow

Keys = QKeySequence.StandardKey
FIRST_OF_SECOND_ROW = 10
NEW_JOINT = {"thread": "M42x0.75", "gender": "male"}
DEMOS = {
    "tarnfell-triplet-reduced": "Tarnfell triplet, reduced",
    "tarnfell-triplet-native": "Tarnfell triplet, native",
    "meadow-newtonian": "Meadow Newtonian",
}


class _Builder:
    """Adds actions to menus and keeps them by name."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self.actions: dict[str, QAction] = {}

    def menu(self, title: str) -> QMenu:
        bar = self.window.menuBar()
        assert bar is not None
        menu = bar.addMenu(title)
        assert menu is not None
        return menu

    def sub(self, menu: QMenu, title: str) -> QMenu:
        child = menu.addMenu(title)
        assert child is not None
        return child

    def add(
        self,
        menu: QMenu,
        name: str,
        action: Callable[[], object],
        keys: str | Keys | None = None,
        *,
        tick: bool = False,
    ) -> QAction:
        item = QAction(name, self.window)
        if keys is not None:
            item.setShortcut(QKeySequence(keys))
        item.setCheckable(tick)
        item.triggered.connect(lambda _checked: action())
        menu.addAction(item)
        self.actions[name] = item
        return item


def build(window: MainWindow) -> dict[str, QAction]:
    """Fill the menu bar and return the actions by name."""
    make = _Builder(window)
    _file_menu(make)
    _edit_menu(make)
    _part_menu(make)
    _variant_menu(make)
    _view_menu(make)
    _help_menu(make)
    return make.actions


def _file_menu(make: _Builder) -> None:
    window, menu = make.window, make.menu("&File")
    make.add(menu, "New rig", lambda: window.files.guard(window.files.open_new), Keys.New)
    make.add(menu, "Open …", lambda: window.files.guard(window.files.ask_open), Keys.Open)
    window.recent_menu = make.sub(menu, "Recent rigs")
    fill_recent(window)
    demos = make.sub(menu, "Demo rigs")
    for key, title in DEMOS.items():
        make.add(demos, title, partial(window.files.guard, partial(window.files.open_demo, key)))
    menu.addSeparator()
    make.add(menu, "Save", window.files.save, Keys.Save)
    make.add(menu, "Save as …", window.files.save_as, QKeySequence("Ctrl+Shift+S").toString())
    menu.addSeparator()
    make.add(menu, "Quit", window.close, "Ctrl+Q")


def fill_recent(window: MainWindow) -> None:
    """List the rigs opened last."""
    menu = window.recent_menu
    menu.clear()
    for path in window.settings.recent:
        item = QAction(f"{path.name}   {path.parent}".replace("&", "&&"), window)
        item.triggered.connect(lambda _checked, path=path: window.files.guard(lambda: window.files.open_path(path)))
        menu.addAction(item)
    menu.setEnabled(bool(window.settings.recent))


def _edit_menu(make: _Builder) -> None:
    window, menu = make.window, make.menu("&Edit")
    make.add(menu, "Undo", lambda: _step_back(window), Keys.Undo)
    make.add(menu, "Redo", lambda: _step_on(window), "Ctrl+Shift+Z")
    menu.addSeparator()
    make.add(menu, "Add a site", lambda: _add_site(window))


def _step_back(window: MainWindow) -> None:
    if window.session is not None:
        window.session.undo()


def _step_on(window: MainWindow) -> None:
    if window.session is not None:
        window.session.redo()


def _add_site(window: MainWindow) -> None:
    if window.session is not None and window.session.rig.site is None:
        site = {"name": "Site", "latitude_deg": 0, "longitude_deg": 0, "seeing_fwhm_arcsec": 3}
        window.session.set_value(("site",), site, "Add a site")
        window.show_step("scales")


def _part_menu(make: _Builder) -> None:
    window, menu = make.window, make.menu("&Part")
    adding = make.sub(menu, "Add after the chosen part")
    for kind in PART_KINDS:
        make.add(adding, kind.replace("_", " ").capitalize(), partial(add_part, window, kind))
    menu.addSeparator()
    make.add(menu, "Duplicate", lambda: _on_chosen(window, "duplicate_part"), "Ctrl+D")
    make.add(menu, "Take out", lambda: _on_chosen(window, "take_out"), "Ctrl+Del")
    make.add(menu, "Move toward the telescope", lambda: _on_chosen(window, "move_part", -1), "Ctrl+Left")
    make.add(menu, "Move toward the sensor", lambda: _on_chosen(window, "move_part", 1), "Ctrl+Right")
    menu.addSeparator()
    new_glass = {"name": "filter", "thickness_mm": 2, "index": 1.52}
    make.add(menu, "Add glass", lambda: _add_to_chosen(window, "glass", new_glass))
    make.add(menu, "Make adjustable", lambda: _make_adjustable(window))
    sensor = {"width_px": 6000, "height_px": 4000, "pixel_um": 3.8}
    make.add(menu, "Add sensor", lambda: _add_to_chosen(window, "sensor", sensor))
    prism = {"from_front_mm": 5, "edge_from_axis_mm": 14, "height_mm": 8, "width_mm": 8}
    make.add(menu, "Add prism", lambda: _add_to_chosen(window, "prism", prism))
    make.add(menu, "Describe front joint", lambda: _add_to_chosen(window, "front", NEW_JOINT))
    make.add(menu, "Describe rear joint", lambda: _add_to_chosen(window, "rear", NEW_JOINT))
    make.add(menu, "Describe the telescope's rear joint", lambda: _describe_telescope(window))
    menu.addSeparator()
    make.add(menu, "Change length", window.band.edit_length, "F2")


def add_part(window: MainWindow, kind: str) -> None:
    """Put a part in after the chosen one; before the camera where the camera is chosen."""
    session = window.session
    if session is None:
        return
    where, index = session.place_after_chosen(guide=window.step.key == "guide_branch")
    if kind == "camera":
        index = len(session.rig.guiding.path if where[0] == "guiding" else session.rig.train)
    session.add_part(where, index, kind)


def _on_chosen(window: MainWindow, method: str, *arguments: object) -> None:
    if window.session is not None and window.session.chosen_part is not None:
        getattr(window.session, method)(window.session.chosen_part, *arguments)


def _add_to_chosen(window: MainWindow, key: str, value: object) -> None:
    session = window.session
    if session is None or session.chosen is None:
        return
    place, part = session.chosen
    path = (*place, key, len(part.glass)) if key == "glass" else (*place, key)
    session.set_value(path, value, f"Add {key} to {part.title}")


def _describe_telescope(window: MainWindow) -> None:
    if window.session is not None:
        joint = {**NEW_JOINT, "gender": "female"}
        window.session.set_value(("telescope", "rear"), joint, "Describe the telescope's rear joint")
        window.show_step("scales")


def _own_telescope(window: MainWindow) -> None:
    """Give the variant shown a telescope of its own, to begin with a copy of the shared one."""
    session = window.session
    if session is not None and session.variant is not None:
        telescope = session.rig.telescope.model_dump(mode="json", exclude_unset=True)
        session.set_value(("telescope",), telescope, "Give the variant its own telescope")
        window.show_step("scales")


def _make_adjustable(window: MainWindow) -> None:
    session = window.session
    if session is None or session.chosen is None or session.chosen[1].adjustable is not None:
        return
    place, part = session.chosen
    span = {"min_mm": part.length_mm, "max_mm": part.length_mm + 10, "set_mm": part.length_mm}
    session.set_value((*place, "adjustable"), span, f"Make {part.title} adjustable")


def _variant_menu(make: _Builder) -> None:
    window, menu = make.window, make.menu("V&ariant")
    window.variants_menu = make.sub(menu, "Show")
    make.add(menu, "Next train", lambda: _next_variant(window), "Ctrl+T")
    make.add(menu, "Trains side by side", window.show_comparison, "Ctrl+Shift+T")
    menu.addSeparator()
    make.add(menu, "New variant of this train", lambda: window.session and window.session.add_variant())
    make.add(menu, "Own telescope for this variant", lambda: _own_telescope(window))
    make.add(menu, "Rename …", lambda: _rename(window))
    make.add(menu, "Remove this variant", lambda: window.session and window.session.remove_variant())


def _next_variant(window: MainWindow) -> None:
    session = window.session
    if session is not None and session.document.variants:
        names = [None, *(variant.name for variant in session.document.variants)]
        session.show_variant(names[(names.index(session.variant) + 1) % len(names)])


def _rename(window: MainWindow) -> None:
    """Ask for the train's name in the notice strip."""
    session = window.session
    if session is not None:
        window.notice.ask_text(
            "Name of this train:", session.rig.name, lambda name: session.set_value(("name",), name, "Rename the train")
        )


def _fill_variants(window: MainWindow) -> None:
    session = window.session
    menu = window.variants_menu
    menu.clear()
    if session is None:
        return
    for name in (None, *(variant.name for variant in session.document.variants)):
        item = QAction((name or session.document.name).replace("&", "&&"), window)
        item.setCheckable(True)
        item.setChecked(session.variant == name)
        item.triggered.connect(lambda _checked, name=name: session.show_variant(name))
        menu.addAction(item)


def step_key(number: int) -> str:
    """Return the key of a step by its place: one digit with Alt for the first nine, with Ctrl+Alt from the tenth on."""
    return f"Alt+{number}" if number < FIRST_OF_SECOND_ROW else f"Ctrl+Alt+{number - FIRST_OF_SECOND_ROW}"


def _view_menu(make: _Builder) -> None:
    window, menu = make.window, make.menu("&View")
    for number, step in enumerate(steps(), start=1):
        make.add(menu, step.title, partial(window.show_step, step.key), step_key(number))
    make.add(menu, "Next step", partial(window.go_steps, 1), "Alt+PgDown")
    make.add(menu, "Step before", partial(window.go_steps, -1), "Alt+PgUp")
    menu.addSeparator()
    make.add(
        menu,
        "Night palette",
        lambda: window.set_palette_by_name("day" if window.palette_in_use.name == "night" else "night"),
        "Ctrl+Shift+N",
        tick=True,
    )
    make.add(menu, "Larger text", lambda: window.change_text(1), Keys.ZoomIn)
    make.add(menu, "Smaller text", lambda: window.change_text(-1), Keys.ZoomOut)
    make.add(menu, "Base text size", lambda: window.change_text(0), "Ctrl+0")
    menu.addSeparator()
    make.add(menu, "Zoom section in", lambda: window.band.zoom(1.25), "Alt++")
    make.add(menu, "Zoom section out", lambda: window.band.zoom(0.8), "Alt+-")
    make.add(menu, "Whole section", window.band.fit, "Alt+0")
    make.add(menu, "Go to the section", window.band.setFocus, "F6")


def _help_menu(make: _Builder) -> None:
    window, menu = make.window, make.menu("&Help")
    make.add(menu, "Keys", lambda: show_text(window, KEYS_TEXT), "F1")
    make.add(menu, "About the demo rigs", lambda: show_demo_notes(window))
    make.add(menu, "About Wyntaxis", lambda: show_text(window, about_text()))


KEYS_TEXT = (
    "Section: ← → choose a part, ↑ ↓ between train and guide path, Enter or a digit edits its length, + − zoom. "
    "F6 goes to the section, Alt+1 to Alt+9 to the first nine steps, Ctrl+Alt+0 to Ctrl+Alt+9 to the tenth and on, "
    "Alt+PgUp and Alt+PgDown to the step before and after, Tab through fields; Enter on a ledger row opens its legs. "
    "Ctrl+Z undo, Ctrl+Shift+Z redo, Ctrl+← → moves the chosen part, Ctrl+D duplicates it, Ctrl+Del takes it out."
)


def about_text() -> str:
    """Return what the application is and under which licences it and its typeface come."""
    from wyntaxis import __version__

    return (
        f"Wyntaxis {__version__}, free software under the GNU General Public License, version 3 or later, without "
        "any warranty. Typeface B612: SIL Open Font License 1.1."
    )


def show_text(window: MainWindow, text: str) -> None:
    """Show a text in the notice strip."""
    window.notice.tell(text)


def show_demo_notes(window: MainWindow) -> None:
    """Show which mistakes are planted in the demo rigs."""
    from wyntaxis import demo

    lines = [line.strip("# ") for line in demo.NOTES.read_text("utf-8").splitlines()]
    window.notice.tell("\n".join(line for line in lines if line))


def refresh(window: MainWindow) -> None:
    """Enable what can be done now, and say what undo and redo would do."""
    session, actions = window.session, window.actions_by_name
    if session is None:
        return
    undo, redo = session.history.undo_label, session.history.redo_label
    for name, label in (("Undo", undo), ("Redo", redo)):
        actions[name].setEnabled(label is not None)
        actions[name].setText(f"{name}: {label}".replace("&", "&&") if label else name)
    _fill_variants(window)
    actions["Next train"].setEnabled(bool(session.document.variants))
    actions["Remove this variant"].setEnabled(session.variant is not None)
    chosen = session.chosen
    for name in ("Duplicate", "Take out", "Move toward the telescope", "Move toward the sensor", "Add glass"):
        actions[name].setEnabled(chosen is not None)
    actions["Make adjustable"].setEnabled(chosen is not None and chosen[1].adjustable is None)
    actions["Add sensor"].setEnabled(chosen is not None and chosen[1].kind == "camera" and chosen[1].sensor is None)
    actions["Describe front joint"].setEnabled(chosen is not None and chosen[1].front is None)
    actions["Describe rear joint"].setEnabled(chosen is not None and chosen[1].rear is None)
    actions["Describe the telescope's rear joint"].setEnabled(session.rig.telescope.rear is None)
    own = next((v for v in session.document.variants if v.name == session.variant), None)
    actions["Own telescope for this variant"].setEnabled(own is not None and own.telescope is None)
    actions["Add prism"].setEnabled(
        chosen is not None and chosen[1].kind == "off_axis_guider" and chosen[1].prism is None
    )
    actions["Add a site"].setEnabled(session.rig.site is None)
    actions["Night palette"].setChecked(window.palette_in_use.name == "night")
