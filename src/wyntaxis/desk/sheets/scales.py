"""The Scales sheet: telescope, sensor and site on the left, what follows from them on the right."""

from __future__ import annotations

from wyntaxis.core.worklist import Step
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet
from wyntaxis.desk.sheets.specs import SENSOR, SITE, telescope_specs


class ScalesSheet(StepSheet):
    """What a pixel sees."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette)
        self.telescope = self.add_card(1)
        self.camera = self.add_card(1)
        self.site = self.add_card(1)
        self.inputs.addStretch(1)
        self.refresh()

    def refresh(self) -> None:
        super().refresh()
        rig = self.session.rig
        self.telescope.show_object("Telescope", ("telescope",), telescope_specs(rig.telescope), rig)
        camera = rig.camera
        if camera is not None:
            specs = SENSOR if camera.sensor else ()
            hint = "" if camera.sensor else ": give it a sensor with Part → Add sensor"
            self.camera.show_object(f"{camera.title}{hint}", ("train", len(rig.train) - 1), specs, rig)
        else:
            self.camera.show_object("No camera at the end of the train yet (Part → Add)", (), (), rig)
        if rig.site is not None:
            self.site.show_object("Site", ("site",), SITE, rig)
        else:
            self.site.show_object("No site yet: Edit → Add a site, for the seeing", (), (), rig)
