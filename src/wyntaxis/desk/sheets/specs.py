"""Which fields a part, a telescope, a site or a sensor shows on its card: as the document declares them."""

from __future__ import annotations

from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Part, Sensor, Telescope
from wyntaxis.core.rig.plan import GuideCalibration, GuideSettings, Mount, Plan, Site
from wyntaxis.core.rig.shown import ShownField, shown_at, shown_fields

SENSOR = tuple(field.below("sensor") for field in shown_fields(Sensor))
SITE = shown_fields(Site)
GUIDE_SETTINGS = shown_fields(GuideSettings)
GUIDE_CALIBRATION = shown_fields(GuideCalibration)
DRIFT_AND_MOUNT = (
    shown_at(Rig, "plan", "exposure_s"),
    shown_at(Rig, "plan", "allowed_drift_px"),
    shown_at(Rig, "mount", "kind"),
    shown_at(Rig, "mount", "payload_rating_kg"),
)
GUIDED_MOUNT = (shown_at(Mount, "worm_period_s"), shown_at(Mount, "corrects"))
EXPOSURES = (shown_at(Plan, "exposure_s"), shown_at(Plan, "longest_exposure_s"))
NIGHT = tuple(shown_at(Plan, key) for key in ("exposure_s", "frames", "hours", "filters"))


def shelf_specs() -> tuple[ShownField, ...]:
    """Return the fields that a part of the shelf shows: what every part has, with both joints."""
    own = ("name", "kind", "length_mm", "length_tolerance_mm", "length_basis", "clear_aperture_mm", "mass_g")
    joints = ((end, key) for end in ("front", "rear") for key in ("thread", "gender", "depth_mm"))
    return (*(shown_at(Part, key) for key in own), *(shown_at(Part, *path) for path in joints))


def telescope_specs(telescope: Telescope) -> tuple[ShownField, ...]:
    """Return the fields that a telescope shows: its optics, its focuser, its rear joint where it is described."""
    return shown_fields(Telescope, telescope)


def part_specs(part: Part) -> tuple[ShownField, ...]:
    """Return the fields that a part of this kind and make-up shows."""
    return shown_fields(Part, part)
