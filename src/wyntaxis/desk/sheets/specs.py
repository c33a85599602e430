"""Which fields a part, a telescope, a site or a sensor shows on its card: as the document declares them."""

from __future__ import annotations

from wyntaxis.core.rig.display import DisplayedField, displayed_at, displayed_fields
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Part, Sensor, Telescope
from wyntaxis.core.rig.plan import GuideCalibration, GuideSettings, Mount, Plan, Site

SENSOR = tuple(field.below("sensor") for field in displayed_fields(Sensor))
SITE = displayed_fields(Site)
GUIDE_SETTINGS = displayed_fields(GuideSettings)
GUIDE_CALIBRATION = displayed_fields(GuideCalibration)
DRIFT_AND_MOUNT = (
    displayed_at(Rig, "plan", "exposure_s"),
    displayed_at(Rig, "plan", "allowed_drift_px"),
    displayed_at(Rig, "mount", "kind"),
    displayed_at(Rig, "mount", "payload_rating_kg"),
)
GUIDED_MOUNT = (displayed_at(Mount, "worm_period_s"), displayed_at(Mount, "corrects"))
EXPOSURES = (displayed_at(Plan, "exposure_s"), displayed_at(Plan, "longest_exposure_s"))
NIGHT = tuple(displayed_at(Plan, key) for key in ("exposure_s", "frames", "hours", "filters", "attended"))


def shelf_specs() -> tuple[DisplayedField, ...]:
    """Return the fields that a part of the shelf shows: what every part has, with both joints."""
    own = ("name", "kind", "length_mm", "length_tolerance_mm", "length_basis", "clear_aperture_mm", "mass_g")
    joints = ((end, key) for end in ("front", "rear") for key in ("thread", "gender", "depth_mm"))
    return (*(displayed_at(Part, key) for key in own), *(displayed_at(Part, *path) for path in joints))


def telescope_specs(telescope: Telescope) -> tuple[DisplayedField, ...]:
    """Return the fields that a telescope shows: its optics, its focuser, its rear joint where it is described."""
    return displayed_fields(Telescope, telescope)


def part_specs(part: Part) -> tuple[DisplayedField, ...]:
    """Return the fields that a part of this kind and make-up shows."""
    return displayed_fields(Part, part)
