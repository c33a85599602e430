"""What leaves the Footprint sheet: centre and corners to the clipboard, frames as STC-S, CSV or a picture."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QApplication, QFileDialog

from wyntaxis.core.files.places import home
from wyntaxis.core.sky.coordinates import coordinates_text
from wyntaxis.core.sky.footprint import CORNERS, Footprint, corners_csv, stc_s
from wyntaxis.core.wording import number
from wyntaxis.desk.saving import save_by_suffix
from wyntaxis.desk.session import Session
from wyntaxis.desk.sky_patch import SkyPatch

SAVE_FILTER = "STC-S (*.txt);;CSV (*.csv);;PNG (*.png)"


class FootprintExport:
    """Copies and saves what a sky patch shows."""

    def __init__(self, session: Session, patch: SkyPatch) -> None:
        self._session, self._patch = session, patch

    def copy_center(self) -> None:
        """Copy centre and position angle."""
        frame = self._patch.view.frame
        if frame is not None:
            _copy(f"{coordinates_text(*frame.center)} PA {number(frame.position_angle_deg, 2)}°")

    def copy_corners(self) -> None:
        """Copy the corners, a line each."""
        frame = self._patch.view.frame
        if frame is not None:
            pairs = zip(CORNERS, frame.corners(), strict=True)
            _copy("".join(f"{name}\t{coordinates_text(*place)}\n" for name, place in pairs))

    def frames(self) -> list[Footprint]:
        """Return the frames shown: the one in use, its panels, the ones laid over it."""
        view = self._patch.view
        return [frame for frame in (view.frame, *view.panels, *view.others) if frame is not None]

    def ask_save(self) -> None:
        """Ask for a file; its suffix says whether STC-S, CSV or a picture."""
        chosen, _ = QFileDialog.getSaveFileName(
            self._patch, "Save the footprint", str(home() / "footprint.txt"), SAVE_FILTER
        )
        if chosen:
            self.save(Path(chosen))

    def save(self, path: Path) -> None:
        """Write the frames as STC-S, CSV or PNG, by the suffix."""
        contents = {".txt": self._as_stc_s, ".stc": self._as_stc_s, ".csv": self._as_csv}
        refusal = save_by_suffix(path, contents, self._patch, ".txt (STC-S), .csv or .png")
        if refusal is not None:
            self._session.refused.emit(refusal)

    def _as_stc_s(self) -> bytes:
        return "".join(stc_s([frame.corners()]) + "\n" for frame in self.frames()).encode("utf-8")

    def _as_csv(self) -> bytes:
        return corners_csv(self.frames()).encode("utf-8")


def _copy(text: str) -> None:
    clipboard = QApplication.clipboard()
    if clipboard is not None:
        clipboard.setText(text)
