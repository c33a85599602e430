"""The Footprint sheet: the frame on the sky, moved and turned, with objects, panels, other trains, and the horizon."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QBoxLayout,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.places import home
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.quantities.fields import footprint
from wyntaxis.core.rig import store
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig, variant_rig
from wyntaxis.core.sky import objects as catalogue
from wyntaxis.core.sky.coordinates import coordinates_text, separation_deg
from wyntaxis.core.sky.footprint import DEFAULT_OVERLAP, Footprint, angle_caveat
from wyntaxis.core.sky.objects import SkyObject
from wyntaxis.core.steps import FOOTPRINT, Step
from wyntaxis.core.wording import number, short
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel, list_item
from wyntaxis.desk.rig_files import RIG_FILTER
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.footprint_export import FootprintExport
from wyntaxis.desk.sheets.framing_fields import FramingFields
from wyntaxis.desk.sky_patch import SkyPatch
from wyntaxis.desk.tables import TextTable

PATCH_HEIGHT_EM = 34
SIDE_WIDTH_EM = 21
BESIDE_FROM_EM = 17
"""How wide the sky must be at the least, in sizes of the text, to have the fields beside it."""
MAX_PX = 16777215
HALF_WAY = 0.5
MAX_OBJECTS_LISTED = 40
SAVE_FILTER = "STC-S (*.txt);;CSV (*.csv);;PNG (*.png)"


@sheet_of(FOOTPRINT)
class FootprintSheet(StepSheet):
    """What of the sky falls on the sensor."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self.catalogue_read = False
        self._added: list[Rig] = []
        self._shown: tuple[object, ...] = ()
        self._looked_at: object = None
        self._reported: object = None
        body = QWidget()
        self._row = QHBoxLayout(body)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(12)
        self.patch = SkyPatch()
        self.export = FootprintExport(session, self.patch)
        self.framing = FramingFields(session)
        self.patch.palette_in_use = palette
        self.patch.moved.connect(self._moved)
        self.patch.entered.connect(self._entered)
        self.patch.target_chosen.connect(self.framing.choose_target)
        self._row.addWidget(self.patch, 1, Qt.AlignmentFlag.AlignTop)
        self._side = self._build_side()
        self._row.addWidget(self._side)
        self.add_wide(body)
        self.objects = TextTable(
            "Objects on the sensor",
            ("Object", "Kind", "Size\n′", "Angle\n°", "Magnitude", "On the sensor\n%"),
            left=(0, 1),
            stretch=1,
        )
        self.objects.most_rows = 6
        self.objects.cellDoubleClicked.connect(lambda row, _column: self.framing.choose_target(self._listed[row][0]))
        self.add_below(self.objects)
        self._listed: list[tuple[SkyObject, float]] = []
        self.night_section = CollapsibleSection("Horizon and night path", self._build_night, self._refresh_night)
        self.add_below(self.night_section)
        credit = PlainLabel(f"Objects: {catalogue.CREDIT}. Outlines are the ellipses of the catalogued axes.")
        credit.setProperty("role", "faded")
        credit.setWordWrap(True)
        self.add_below(credit)
        self.job = Job(self)
        self.job.done.connect(self.catalogue_ready)
        self.job.failed.connect(session.refused)
        self.fit_to_font()

    # Building

    def _build_side(self) -> QWidget:
        side = QWidget()
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(self.framing)
        self.words = PlainLabel()
        self.words.setWordWrap(True)
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        column.addWidget(self.words)
        buttons = QGridLayout()
        actions = (
            ("Copy centre", "Copy centre and position angle", self.export.copy_center),
            ("Copy corners", "Copy the corners' coordinates", self.export.copy_corners),
            ("Save …", "Save as IVOA STC-S text, CSV or PNG", self.export.ask_save),
            ("Add a rig …", "Lay another rig's frame over this one, at its own position angle", self.ask_add),
        )
        for index, (text, tip, action) in enumerate(actions):
            buttons.addWidget(push_button(text, tip, action), index // 2, index % 2)
        column.addLayout(buttons)
        column.addWidget(PlainLabel("Also laid over it"))
        self.trains = QListWidget()
        self.trains.setAccessibleName("Other trains laid over the frame")
        self.trains.itemChanged.connect(lambda _item: self._show())
        column.addWidget(self.trains, 1)
        hint = PlainLabel(
            "Drag the frame, its handle turns it; arrows move, [ ] turn, Shift finely, + − zoom, Home centres."
        )
        hint.setProperty("role", "faded")
        hint.setWordWrap(True)
        column.addWidget(hint)
        return side

    def _build_night(self) -> QWidget:
        from wyntaxis.desk.sheets.horizon_panel import HorizonPanel

        self.night = HorizonPanel(self.session, self._palette)
        return self.night

    def _refresh_night(self) -> None:
        self.night.refresh()

    def fit_to_font(self) -> None:
        super().fit_to_font()
        em = self.fontInfo().pixelSize()
        self.patch.setFixedHeight(PATCH_HEIGHT_EM * em)
        self._turn()

    def resizeEvent(self, a0: object) -> None:
        super().resizeEvent(a0)
        self._turn()

    def _turn(self) -> None:
        """Put the fields beside the sky, or under it in a narrow sheet."""
        em, viewport = self.fontInfo().pixelSize(), self.viewport()
        width = viewport.width() if viewport is not None else self.width()
        narrow = width < (SIDE_WIDTH_EM + BESIDE_FROM_EM) * em
        self._row.setDirection(QBoxLayout.Direction.TopToBottom if narrow else QBoxLayout.Direction.LeftToRight)
        self._side.setMinimumWidth(0 if narrow else SIDE_WIDTH_EM * em)
        self._side.setMaximumWidth(MAX_PX if narrow else SIDE_WIDTH_EM * em)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = self.patch.palette_in_use = palette
        self.patch.update()
        if self.night_section.body is not None:
            self.night.set_palette(palette)

    # Showing

    def refresh(self) -> None:
        super().refresh()
        if self.isVisible() and not self.catalogue_read and not self.job.running:
            self.patch.message = "Reading the catalogue of objects …"
            self.job.start(lambda _progress: catalogue.load())
        key = (self.session.document, self.session.variant, len(self._added))
        if key != self._shown:
            self._shown = key
            self._list_trains()
        self._show()
        self.night_section.refresh()

    def showEvent(self, a0: object) -> None:
        super().showEvent(a0)  # type: ignore[arg-type]
        self.refresh()

    def catalogue_ready(self, _count: int) -> None:
        self.catalogue_read = True
        self.patch.message = ""
        self._show()

    def _list_trains(self) -> None:
        """List the other trains of the document and the rigs added, keeping their ticks."""
        ticked = {item.text(): item.checkState() for item in self.items()}
        document = self.session.document
        rigs = [variant_rig(document, name) for name in (None, *(variant.name for variant in document.variants))]
        self._others = [rig for rig in (*rigs, *self._added) if rig.name != self.session.rig.name]
        self.trains.blockSignals(True)
        self.trains.clear()
        for rig in self._others:
            item = list_item(rig.name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(ticked.get(rig.name, Qt.CheckState.Checked))
            self.trains.addItem(item)
        self.trains.blockSignals(False)
        self._computed_now = [evaluate(rig) for rig in self._others]

    def items(self) -> list[QListWidgetItem]:
        found = (self.trains.item(row) for row in range(self.trains.count()))
        return [item for item in found if item is not None]

    def _show(self) -> None:
        """Bring the patch and everything beside it up to date with the document."""
        framing, view = self.session.rig.framing, self.patch.view
        if self.patch.pending:
            return
        center = (framing.ra_deg, framing.dec_deg) if framing else None
        view.frame = (
            footprint(self.session.evaluation, center, framing.position_angle_deg) if framing and center else None
        )
        view.target = self._target()
        self.framing.refresh()
        self._lay_over()
        look = (center, self.session.variant)
        if view.frame is not None and look != self._looked_at:
            far = center is None or separation_deg(view.center, center) > view.radius_deg * HALF_WAY
            if self._looked_at is None or far:
                view.look_at_frame()
            self._looked_at = look
        self._moved()

    def _target(self) -> SkyObject | None:
        framing = self.session.rig.framing
        if framing is None or framing.name is None or not self.catalogue_read:
            return None
        return catalogue.find_object(framing.name)

    def _lay_over(self) -> None:
        """Put the ticked trains over the frame: the same centre, each at its own position angle."""
        view, framing = self.patch.view, self.session.rig.framing
        view.others = []
        if framing is None:
            return
        for item, rig, computed_now in zip(self.items(), self._others, self._computed_now, strict=True):
            if item.checkState() == Qt.CheckState.Checked:
                angle = rig.framing.position_angle_deg if rig.framing else framing.position_angle_deg
                laid = footprint(computed_now, (framing.ra_deg, framing.dec_deg), angle)
                if laid is not None:
                    view.others.append(laid)

    def _moved(self) -> None:
        """Tell of the frame as it lies on the patch, entered or not."""
        view, framing = self.patch.view, self.session.rig.framing
        shown = (view.center, view.radius_deg, view.frame, tuple(view.others), view.target)
        entries = (*shown, framing, self.catalogue_read, self.session.rig.sensor is None)
        if entries == self._reported:
            return  # most edits leave the sky as it is, and painting it takes longer than all the rest
        self._reported = entries
        view.panels = []
        if self.catalogue_read:
            view.objects = catalogue.objects_near(view.center, 1.5 * view.radius_deg)
        frame = view.frame
        if frame is None:
            sensor = self.session.rig.sensor
            self.words.setText(
                "Name an object or coordinates above to lay the frame on the sky."
                if sensor is not None
                else "End the train with a camera whose sensor is given to see its frame."
            )
        else:
            view.others = [other.moved(frame.center, other.position_angle_deg) for other in view.others]
            self.words.setText(self._tell(frame))
        self._list_objects(frame)
        self.patch.update()

    def _tell(self, frame: Footprint) -> str:
        width, height = frame.size_deg
        lines = [
            coordinates_text(*frame.center),
            f"{number(width, 2)}° × {number(height, 2)}° at {number(frame.position_angle_deg, 1)}°",
        ]
        guide = frame.guide_place()
        if guide is not None and frame.optics.guide_is_prism:
            lines.append(f"guide field {number(guide[0], 2)}° off at {number(guide[1], 0)}°")
        target = self.patch.view.target
        if target is not None:
            share = frame.covered_share(target)
            lines.append(f"{target.label}: {number(100 * (share or 0), 0)} % on the sensor")
            caveat = angle_caveat(frame, target)
            if caveat:
                lines.append(caveat)
            lines += self._panel_words(frame, target)
        return "\n".join(lines)

    def _panel_words(self, frame: Footprint, target: SkyObject) -> list[str]:
        framing = self.session.rig.framing
        overlap = DEFAULT_OVERLAP if framing is None or framing.overlap is None else framing.overlap
        try:
            panels = frame.panels(target, overlap)
        except ValueError as error:
            return [str(error)]
        if panels.count == 1:
            return ["fits on one frame"]
        self.patch.view.panels = list(panels.panels)
        return [f"{panels.columns} × {panels.rows} panels with {number(100 * overlap, 0)} % overlap (dashed)"]

    def _list_objects(self, frame: Footprint | None) -> None:
        self._listed = frame.objects()[:MAX_OBJECTS_LISTED] if frame is not None and self.catalogue_read else []

        def size(target: SkyObject) -> str:
            if target.major_arcmin is None:
                return "–"
            minor = f" × {short(target.minor_arcmin, 1)}" if target.minor_arcmin else ""
            return short(target.major_arcmin, 1) + minor

        rows = [
            [
                target.label + (f" ({target.common_name})" if target.common_name else ""),
                target.kind,
                size(target),
                "–" if target.angle_deg is None else str(target.angle_deg),
                "–" if target.magnitude is None else number(target.magnitude, 1),
                number(100 * share, 0) if target.angle_known else f"≈ {number(100 * share, 0)}",
            ]
            for target, share in self._listed
        ]
        self.objects.setVisible(bool(rows))
        self.objects.show_rows(rows)

    # Editing

    def _entered(self, label: str) -> None:
        """Keep the frame as it lies on the patch."""
        frame, framing = self.patch.view.frame, self.session.rig.framing
        if frame is None:
            return
        value: JsonObject = {
            "ra_deg": round(frame.center[0], 6) % 360,
            "dec_deg": round(frame.center[1], 6),
            "position_angle_deg": round(frame.position_angle_deg, 3),
        }
        if framing is not None:
            kept = {"name": framing.name, "overlap": framing.overlap}
            value |= {key: item for key, item in kept.items() if item is not None}
        self.session.apply(Change.of(label, ("framing",), value))
        self.refresh()

    # Other trains

    def ask_add(self) -> None:
        """Ask for a rig and lay its frame over this one."""
        chosen, _ = QFileDialog.getOpenFileName(self, "Lay a rig over this one", str(home()), RIG_FILTER)
        if chosen:
            self.add_rig(Path(chosen))

    def add_rig(self, path: Path) -> None:
        """Lay another rig's frame over this one."""
        try:
            self._added.append(store.load(path).rig)
        except InputError as error:
            self.session.refused.emit(str(error))
            return
        self.refresh()
