"""Every command of the menus, declared once: where it stands, its keys, what it does, and when it can be done."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Literal

from PyQt6.QtGui import QKeySequence

from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.parts import PART_KINDS, Part
from wyntaxis.core.steps import steps
from wyntaxis.desk.rig_files import RigFiles
from wyntaxis.desk.session import Session
from wyntaxis.desk.workplace import Workplace

Keys = QKeySequence.StandardKey
FIRST_OF_SECOND_ROW = 10
NEW_JOINT = {"thread": "M42x0.75", "gender": "male"}
NEW_GLASS = {"name": "filter", "thickness_mm": 2, "index": 1.52}
NEW_SENSOR = {"width_px": 6000, "height_px": 4000, "pixel_um": 3.8}
NEW_PRISM = {"from_front_mm": 5, "edge_from_axis_mm": 14, "height_mm": 8, "width_mm": 8}
NEW_SITE = {"name": "Site", "latitude_deg": 0, "longitude_deg": 0, "seeing_fwhm_arcsec": 3}
DEMOS = {
    "tarnfell-triplet-reduced": "Tarnfell triplet, reduced",
    "tarnfell-triplet-native": "Tarnfell triplet, native",
    "meadow-newtonian": "Meadow Newtonian",
}


@dataclass(frozen=True)
class Desk:
    """What an action works on: the window, and the rig files behind it."""

    window: Workplace
    files: RigFiles


def _nothing(_desk: Desk) -> None:
    return None


def _always(_session: Session) -> bool:
    return True


@dataclass(frozen=True)
class Action:
    """One command of the menu bar.

    ``menu`` names the menu, with its submenu after a slash; ``new_group`` sets a rule before it. ``can`` says whether
    it can be done now, ``text`` what it is called now, and ``ticked`` whether it shows a tick. One with ``entries`` is
    a submenu whose entries change: the recent rigs, or the variants of the rig. Keys that change a text are the text's
    while one is edited: then they do not ask for an action that says ``spares_text``.
    """

    menu: str
    title: str
    do: Callable[[Desk], object]
    keys: str | Keys | None = None
    also: str = ""
    """A second key, where keyboards differ."""
    can: Callable[[Session], bool] = _always
    text: Callable[[Session], str] | None = None
    ticked: Callable[[Workplace], bool] | None = None
    new_group: bool = False
    entries: Literal["recent", "variants"] | None = None
    spares_text: bool = False


def step_key(number: int) -> str:
    """Return the key of a step by its place: one digit with Alt for the first nine, with Ctrl+Alt from the tenth on."""
    return f"Alt+{number}" if number < FIRST_OF_SECOND_ROW else f"Ctrl+Alt+{number - FIRST_OF_SECOND_ROW}"


def _in_session(work: Callable[[Session], object]) -> Callable[[Desk], object]:
    """Return an action that works on the session, and does nothing without one."""

    def do(desk: Desk) -> object:
        return None if desk.window.session is None else work(desk.window.session)

    return do


def _copy_summary(session: Session) -> None:
    """Put the rig on the clipboard as a page of text, without site, serial numbers, hosts and people."""
    from PyQt6.QtWidgets import QApplication

    from wyntaxis.core.dossier.summary_text import summary_text

    clipboard = QApplication.clipboard()
    if clipboard is not None:
        clipboard.setText(summary_text(session.evaluation))


def _on_chosen(work: Callable[[Session, str], object]) -> Callable[[Desk], object]:
    """Return an action that works on the chosen part, and does nothing without one."""

    def on_part(session: Session) -> object:
        return None if session.chosen_part is None else work(session, session.chosen_part)

    return _in_session(on_part)


def _leaving(work: Callable[[RigFiles], object]) -> Callable[[Desk], object]:
    """Return an action that leaves the open rig, after asking where it has unsaved edits."""
    return lambda desk: desk.files.guard(lambda: work(desk.files))


def _some_part(session: Session) -> bool:
    return session.chosen is not None


def _part_where(test: Callable[[Part], bool]) -> Callable[[Session], bool]:
    return lambda session: session.chosen is not None and test(session.chosen[1])


# Edit and Part


def _add_site(desk: Desk) -> None:
    session = desk.window.session
    if session is not None and session.rig.site is None:
        session.fill_in(("site",), NEW_SITE, "Add a site")
        desk.window.show_step("scales")


def _add_part(desk: Desk, kind: str) -> None:
    """Put a part in after the chosen one; before the camera where the camera is chosen."""
    session = desk.window.session
    if session is None:
        return
    where, index = session.place_after_chosen(guide=desk.window.step.key == "guide_branch")
    if kind == "camera":
        index = len(session.rig.guiding.path if where[0] == "guiding" else session.rig.train)
    session.add_part(where, index, kind)
    desk.window.leave_start()


def _add_to_chosen(session: Session, key: str, value: object) -> None:
    if session.chosen is None:
        return
    place, part = session.chosen
    path = (*place, key, len(part.glass)) if key == "glass" else (*place, key)
    session.fill_in(path, value, f"Add {key} to {part.title}")


def _make_adjustable(session: Session) -> None:
    if session.chosen is None or session.chosen[1].adjustable is not None:
        return
    place, part = session.chosen
    span = {"min_mm": part.length_mm, "max_mm": part.length_mm + 10, "set_mm": part.length_mm}
    limits = tuple((*place, "adjustable", key) for key in ("min_mm", "max_mm"))
    session.apply(Change(f"Make {part.title} adjustable", (((*place, "adjustable"), span),), limits))


def _describe_telescope(desk: Desk) -> None:
    if desk.window.session is not None:
        joint = {**NEW_JOINT, "gender": "female"}
        desk.window.session.set_value(("telescope", "rear"), joint, "Describe the telescope's rear joint")
        desk.window.show_step("scales")


# Variants


def _next_variant(session: Session) -> None:
    if session.document.variants:
        names = [None, *(variant.name for variant in session.document.variants)]
        session.show_variant(names[(names.index(session.variant) + 1) % len(names)])


def _own_telescope(desk: Desk) -> None:
    """Give the variant shown a telescope of its own, to begin with a copy of the shared one."""
    session = desk.window.session
    if session is not None and session.variant is not None:
        telescope = session.rig.telescope.model_dump(mode="json", exclude_unset=True)
        session.set_value(("telescope",), telescope, "Give the variant its own telescope")
        desk.window.show_step("scales")


def _shares_telescope(session: Session) -> bool:
    own = next((v for v in session.document.variants if v.name == session.variant), None)
    return own is not None and own.telescope is None


def _shares_settings(session: Session) -> bool:
    own = next((v for v in session.document.variants if v.name == session.variant), None)
    return own is not None and not own.sets_otherwise


def _rename(desk: Desk) -> None:
    """Ask for the train's name in the notice strip."""
    session = desk.window.session
    if session is not None:
        desk.window.notice.ask_text(
            "Name of this train:", session.rig.name, lambda name: session.set_value(("name",), name, "Rename the train")
        )


# View and Help


def _is_night(window: Workplace) -> bool:
    return window.palette_in_use.name == "night"


def _show_step(desk: Desk, key: str) -> None:
    desk.window.show_step(key)


def _change_palette(desk: Desk) -> None:
    desk.window.set_palette_by_name("day" if _is_night(desk.window) else "night")


def _go_to_sheet(desk: Desk) -> None:
    from wyntaxis.desk.keyboard import give_keyboard

    give_keyboard(desk.window.stack.currentWidget())


KEYS_TEXT = (
    "F1 opens the guide at the step, Shift+F1 searches it. "
    "Section: ← → choose a part, ↑ ↓ between train and guide path, Enter or a digit edits its length, + − zoom. "
    "Ctrl+K goes anywhere by typing: step, device, part, finding, command, guide. "
    "Ctrl+Shift+M lists all numbers, Ctrl+Shift+I incidents. "
    "F8 and Shift+F8 go to the next finding and the one before. "
    "F9 and Shift+F9 show the next picture of a step that measures and the one before. "
    "F6 goes to the drawing, Shift+F6 to the sheet's first field, F7 folds the drawing or unfolds it. "
    "Alt+1 to Alt+9 to the first nine steps, Ctrl+Alt+0 to Ctrl+Alt+9 to the tenth and on, "
    "Alt+PgUp and Alt+PgDown to the step before and after, Tab through fields; Enter on a row of numbers opens its "
    "values. "
    "Ctrl+Enter asks what comes next on an open path. "
    "Ctrl+Z undo, Ctrl+Shift+Z redo, Ctrl+← → moves the chosen part, Ctrl+D duplicates it, Ctrl+Del takes it out."
)


def about_text() -> str:
    """Return what the application is and under which licences it and its typeface come."""
    from wyntaxis import __version__

    return (
        f"Wyntaxis {__version__}, free software under the GNU General Public License, version 3 or later, without "
        "any warranty. Typeface B612: SIL Open Font License 1.1."
    )


def demo_notes() -> str:
    """Return which mistakes are planted in the demo rigs."""
    from wyntaxis import demo

    lines = [line.strip("# ") for line in demo.NOTES.read_text("utf-8").splitlines()]
    return "\n".join(line for line in lines if line)


def _named(word: str, label: str | None) -> str:
    return f"{word}: {label}".replace("&", "&&") if label else word


def declared_actions() -> tuple[Action, ...]:
    """Return every action, in the order of the menus."""
    file, edit, part, variant, view, help_ = "&File", "&Edit", "&Part", "V&ariant", "&View", "&Help"
    adding, sizes = f"{part}/Add after the chosen part", f"{view}/Text size"
    return (
        Action(file, "New rig", _leaving(RigFiles.open_new), Keys.New),
        Action(file, "Draft from frames, ports, files …", lambda desk: desk.window.show_start(), "Ctrl+Shift+D"),
        Action(file, "Open …", _leaving(RigFiles.ask_open), Keys.Open),
        Action(file, "Recent rigs", _nothing, entries="recent"),
        *(
            Action(f"{file}/Demo rigs", title, _leaving(partial(RigFiles.open_demo, name=name)))
            for name, title in DEMOS.items()
        ),
        Action(file, "Save", lambda desk: desk.files.save(), Keys.Save, new_group=True),
        Action(file, "Save as …", lambda desk: desk.files.save_as(), "Ctrl+Shift+S"),
        Action(file, "Save a private copy …", lambda desk: desk.files.save_private()),
        Action(file, "Copy a summary to ask for help", _in_session(_copy_summary)),
        Action(file, "Quit", lambda desk: desk.window.close(), "Ctrl+Q", new_group=True),
        Action(
            edit,
            "Undo",
            _in_session(Session.undo),
            Keys.Undo,
            can=lambda session: session.history.undo_label is not None,
            text=lambda session: _named("Undo", session.history.undo_label),
        ),
        Action(
            edit,
            "Redo",
            _in_session(Session.redo),
            "Ctrl+Shift+Z",
            can=lambda session: session.history.redo_label is not None,
            text=lambda session: _named("Redo", session.history.redo_label),
        ),
        Action(edit, "Add a site", _add_site, can=lambda session: session.rig.site is None, new_group=True),
        *(Action(adding, kind.replace("_", " ").capitalize(), partial(_add_part, kind=kind)) for kind in PART_KINDS),
        Action(part, "What comes next? …", lambda desk: desk.window.band.ask_next(), "Ctrl+Return"),
        Action(
            part,
            "Duplicate",
            _on_chosen(Session.duplicate_part),
            "Ctrl+D",
            can=_some_part,
            new_group=True,
            spares_text=True,
        ),
        Action(part, "Take out", _on_chosen(Session.take_out), "Ctrl+Del", can=_some_part, spares_text=True),
        Action(
            part,
            "Move toward the telescope",
            _on_chosen(lambda session, chosen: session.move_part(chosen, -1)),
            "Ctrl+Left",
            can=_some_part,
            spares_text=True,
        ),
        Action(
            part,
            "Move toward the sensor",
            _on_chosen(lambda session, chosen: session.move_part(chosen, 1)),
            "Ctrl+Right",
            can=_some_part,
            spares_text=True,
        ),
        Action(
            part,
            "Add glass",
            _in_session(lambda session: _add_to_chosen(session, "glass", NEW_GLASS)),
            can=_some_part,
            new_group=True,
        ),
        Action(part, "Make adjustable", _in_session(_make_adjustable), can=_part_where(lambda p: p.adjustable is None)),
        Action(
            part,
            "Add sensor",
            _in_session(lambda session: _add_to_chosen(session, "sensor", NEW_SENSOR)),
            can=_part_where(lambda p: p.kind == "camera" and p.sensor is None),
        ),
        Action(
            part,
            "Add prism",
            _in_session(lambda session: _add_to_chosen(session, "prism", NEW_PRISM)),
            can=_part_where(lambda p: p.kind == "off_axis_guider" and p.prism is None),
        ),
        Action(
            part,
            "Describe front joint",
            _in_session(lambda session: _add_to_chosen(session, "front", NEW_JOINT)),
            can=_part_where(lambda p: p.front is None),
        ),
        Action(
            part,
            "Describe rear joint",
            _in_session(lambda session: _add_to_chosen(session, "rear", NEW_JOINT)),
            can=_part_where(lambda p: p.rear is None),
        ),
        Action(
            part,
            "Describe the telescope's rear joint",
            _describe_telescope,
            can=lambda session: session.rig.telescope.rear is None,
        ),
        Action(part, "Change length", lambda desk: desk.window.band.edit_length(), "F2", new_group=True),
        Action(variant, "Show", _nothing, entries="variants"),
        Action(
            variant,
            "Next train",
            _in_session(_next_variant),
            "Ctrl+T",
            can=lambda session: bool(session.document.variants),
        ),
        Action(variant, "Trains side by side", lambda desk: desk.window.stack.show_comparison(), "Ctrl+Shift+T"),
        Action(variant, "New variant of this train", _in_session(Session.add_variant), new_group=True),
        Action(variant, "Own telescope for this variant", _own_telescope, can=_shares_telescope),
        Action(
            variant,
            "Own settings for this variant",
            _in_session(Session.set_apart),
            can=_shares_settings,
        ),
        Action(variant, "Rename …", _rename),
        Action(
            variant,
            "Remove this variant",
            _in_session(Session.remove_variant),
            can=lambda session: session.variant is not None,
        ),
        *(
            Action(view, step.title, partial(_show_step, key=step.key), step_key(number))
            for number, step in enumerate(steps(), start=1)
        ),
        Action(view, "Not given yet", lambda desk: desk.window.show_start(), new_group=True),
        Action(view, "Go to …", lambda desk: desk.window.go_anywhere(), "Ctrl+K"),
        Action(view, "All numbers", lambda desk: desk.window.stack.show_numbers(), "Ctrl+Shift+M"),
        Action(view, "Incidents", lambda desk: desk.window.stack.show_incidents(), "Ctrl+Shift+I"),
        Action(view, "Choose a train", lambda desk: desk.window.stack.show_chooser(), "Ctrl+Shift+L"),
        Action(view, "Live view of a folder", lambda desk: desk.window.stack.show_live(), "Ctrl+Shift+W"),
        Action(view, "Tonight", lambda desk: desk.window.stack.show_run_up(), "Ctrl+Shift+R"),
        Action(view, "Next finding", lambda desk: desk.window.go_findings(1), "F8"),
        Action(view, "Finding before", lambda desk: desk.window.go_findings(-1), "Shift+F8"),
        Action(view, "Next step", lambda desk: desk.window.go_steps(1), "Alt+PgDown"),
        Action(view, "Step before", lambda desk: desk.window.go_steps(-1), "Alt+PgUp"),
        Action(view, "Night palette", _change_palette, "Ctrl+Shift+N", ticked=_is_night, new_group=True),
        Action(
            view,
            "Night palette from dusk to dawn",
            lambda desk: desk.window.palette_clock.turn(),
            ticked=lambda window: window.palette_clock.is_on,
        ),
        Action(sizes, "Larger text", lambda desk: desk.window.change_text(1), Keys.ZoomIn, also="Ctrl+="),
        Action(sizes, "Smaller text", lambda desk: desk.window.change_text(-1), Keys.ZoomOut),
        Action(sizes, "Base text size", lambda desk: desk.window.change_text(0), "Ctrl+0"),
        Action(view, "Zoom section in", lambda desk: desk.window.band.zoom(1.25), "Alt++", new_group=True),
        Action(view, "Zoom section out", lambda desk: desk.window.band.zoom(0.8), "Alt+-"),
        Action(view, "Whole section", lambda desk: desk.window.band.fit(), "Alt+0"),
        Action(view, "Next picture", lambda desk: desk.window.drawing.show_next_picture(), "F9"),
        Action(view, "Picture before", lambda desk: desk.window.drawing.show_next_picture(-1), "Shift+F9"),
        Action(view, "Fold the drawing", lambda desk: desk.window.drawing.toggle_collapsed(), "F7"),
        Action(view, "Go to the drawing", lambda desk: desk.window.drawing.take_keyboard(), "F6"),
        Action(view, "Go to the sheet", _go_to_sheet, "Shift+F6"),
        Action(help_, "Guide at this step", lambda desk: desk.window.guide.toggle(), "F1"),
        Action(help_, "Search the guide", lambda desk: desk.window.guide.search(), "Shift+F1"),
        Action(help_, "Keys", lambda desk: desk.window.notice.tell(KEYS_TEXT), "Ctrl+F1"),
        Action(help_, "About the demo rigs", lambda desk: desk.window.notice.tell(demo_notes())),
        Action(help_, "About Wyntaxis", lambda desk: desk.window.notice.tell(about_text())),
    )
