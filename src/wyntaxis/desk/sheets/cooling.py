"""The Cooling sheet: runs overlaid and in figures, the cooler's model, and a ramp designed from it."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wyntaxis.core.evidence.cooling.cooler import CoolerModel, CoolingLog
from wyntaxis.core.evidence.cooling.kind import CoolingRuns, target_of
from wyntaxis.core.evidence.cooling.log import COLUMNS
from wyntaxis.core.evidence.cooling.ramp import kept_model
from wyntaxis.core.files.errors import Progress
from wyntaxis.core.measuring.cooling import MEASURING
from wyntaxis.core.steps import COOLING
from wyntaxis.core.wording import counted, number
from wyntaxis.desk.sheets.base import sheet_of
from wyntaxis.desk.sheets.cooling_panels import RampPanel
from wyntaxis.desk.sheets.evidence_sheet import EvidenceSheet
from wyntaxis.desk.sheets.reading_sheet import Pointing, SheetTexts
from wyntaxis.desk.step_pictures import StepPicture

if TYPE_CHECKING:
    from wyntaxis.desk.plots_cooling import CoolingPlot, RampPlot


def _plot() -> CoolingPlot:
    from wyntaxis.desk.plots_cooling import CoolingPlot

    return CoolingPlot()


def _ramp_plot() -> RampPlot:
    from wyntaxis.desk.plots_cooling import RampPlot

    return RampPlot()


@sheet_of(COOLING)
class CoolingSheet(EvidenceSheet[CoolingRuns]):
    """The cooler."""

    measuring = MEASURING
    pointing = Pointing(COLUMNS, ("cooling.time", "cooling.sensor"), "cooling log")
    settings = ("cooling", "What the sheet states, and what the runs measured")
    texts = SheetTexts(
        empty="No runs yet. Log time, sensor temperature and power while the camera cools, once at full power for half "
        "an hour; columns may be in any order and unit. The model then gives the lowest reachable temperature, and "
        "designs a ramp.",
        working="Reading runs",
        drop="Cooling logs, as tables of time, sensor temperature and power, are drawn here with the cooler’s model.",
        keep="Keep the numbers in the rig",
        files="Read cooling logs from CSV",
        simulate="Log runs of the simulated camera",
        take_out="Take the chosen run out",
        files_title="Cooling logs",
        files_filter="Cooling logs (*.csv *.tsv *.txt);;All files (*)",
        together="The cooler’s model",
    )

    def build(self) -> None:
        self.run_picture = self.add_picture("Runs and model", _plot, self._draw)
        self.ramp = RampPanel(self.session)
        self.ramp_picture = self.add_picture("Ramp", _ramp_plot, self.ramp.draw)
        self.ramp.designed.connect(self.ramp_picture.refresh)
        self.inputs.addWidget(self.ramp)

    @property
    def logs(self) -> list[CoolingLog]:
        """The logs of the runs."""
        return list(self.result.logs) if self.result is not None else []

    @property
    def model(self) -> CoolerModel | None:
        """The cooler's model, where the runs gave one."""
        return self.result.measured.model if self.result is not None else None

    def simulated(self, folder: Path, progress: Progress) -> list[Path]:
        from wyntaxis.simulators.bench import make_demo_runs

        return make_demo_runs(folder)

    def take_out(self) -> None:
        """Take the chosen run out."""
        row, cooled, target = self.table.currentRow(), self.result, target_of(self.session.rig)
        if cooled is None or not 0 <= row < len(cooled.logs):
            return
        if len(cooled.logs) > 1:
            self.work_again(lambda progress: cooled.without(row, target, lambda: progress(0, 0)))
        else:
            self.hold(None)

    def counts(self, result: CoolingRuns) -> str:
        target = target_of(self.session.rig)
        aimed = "toward what each came to" if target is None else f"toward {number(target, 1)} °C"
        return f"{counted(len(result.logs), 'run')} {aimed}."

    def show_result(self, result: CoolingRuns | None) -> None:
        self.ramp.show_for(self.model, self.logs, self._palette)

    def pictures_of(self, result: CoolingRuns | None) -> Iterable[StepPicture[Any]]:
        if result is not None:
            yield self.run_picture
        if kept_model(self.session.rig) is not None or (result is not None and result.measured.model is not None):
            yield self.ramp_picture

    def _draw(self, plot: CoolingPlot) -> None:
        plot.show_runs(self.logs, self.model, self._palette)
