"""Which sheet belongs to which step."""

from __future__ import annotations

from wyntaxis.core.worklist import Step
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet
from wyntaxis.desk.sheets.guide_branch import GuideBranchSheet
from wyntaxis.desk.sheets.light_path import PartsSheet
from wyntaxis.desk.sheets.scales import ScalesSheet
from wyntaxis.desk.sheets.shelf import ShelfSheet


def make_sheet(session: Session, step: Step, palette: Palette) -> StepSheet:
    """Return the sheet of a step."""
    match step.key:
        case "light_path":
            return PartsSheet(session, step, palette, guide=False)
        case "shelf":
            return ShelfSheet(session, step, palette)
        case "guide_branch":
            return GuideBranchSheet(session, step, palette)
        case "scales":
            return ScalesSheet(session, step, palette)
        case "footprint":
            from wyntaxis.desk.sheets.footprint import FootprintSheet

            return FootprintSheet(session, step, palette)
        case "devices":
            from wyntaxis.desk.sheets.devices import DevicesSheet

            return DevicesSheet(session, step, palette)
        case "records":
            from wyntaxis.desk.sheets.records import RecordsSheet

            return RecordsSheet(session, step, palette)
        case "ports":
            from wyntaxis.desk.sheets.ports import PortsSheet

            return PortsSheet(session, step, palette)
        case "sensor":
            from wyntaxis.desk.sheets.sensor import SensorSheet

            return SensorSheet(session, step, palette)
        case "cooling":
            from wyntaxis.desk.sheets.cooling import CoolingSheet

            return CoolingSheet(session, step, palette)
        case "ready":
            from wyntaxis.desk.sheets.ready import ReadySheet

            return ReadySheet(session, step, palette)
    raise KeyError(step.key)
