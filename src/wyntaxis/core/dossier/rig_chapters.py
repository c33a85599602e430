"""Chapters on what the rig is: at a glance, light path, wiring and devices, settings, filters, site, plan."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.dossier.blocks import Block, Lines, Picture, Words, table
from wyntaxis.core.dossier.charts import Chart, Series, chart_svg
from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.dossier.section_picture import camera_angle, section_svg
from wyntaxis.core.dossier.wiring_picture import wiring_svg
from wyntaxis.core.findings.conditions import overall
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.devices import Device, Setting
from wyntaxis.core.rig.figures import conflict_words, conflicting_paths
from wyntaxis.core.rig.model import Variant
from wyntaxis.core.rig.parts import Focuser, Joint, Part
from wyntaxis.core.rig.plan import Framing, Mount
from wyntaxis.core.wording import number, plus_minus, short

GLANCE = (
    "effective_focal_length_mm", "focal_ratio", "pixel_scale_arcsec_px", "field_width_deg", "field_height_deg",
    "sampling_px_per_fwhm", "back_focus_required_mm", "back_focus_built_mm", "back_focus_error_mm",
    "guide_scale_arcsec_px", "guide_path_error_mm",
)  # fmt: skip

GUIDED = {"off_axis": "off-axis, through a prism", "separate": "through a telescope of its own"}


def glance(given: DossierInput) -> Iterator[Block]:
    """Yield the rig in a few lines: what it is made of, its chief numbers, how it stands."""
    evaluation, rig = given.evaluation, given.evaluation.rig
    telescope, camera = rig.telescope, rig.camera
    yield Words(overall(evaluation.conditions))
    if rig.note:
        yield Words(rig.note, "Note")
    rows: list[list[object]] = [
        ["Telescope", f"{telescope.title}, {short(telescope.aperture_mm)} mm, {short(telescope.focal_length_mm)} mm"],
        ["Train", ", ".join(part.title for part in rig.train)],
        ["Camera", camera.title if camera is not None else "none"],
        ["Guiding", GUIDED.get(rig.guiding.kind, "none")],
        ["Mount", _mount(rig.mount)],
    ]
    if rig.framing is not None:
        rows.append(["Target", _target(rig.framing)])
    if camera_angle(rig):
        rows.append(["Camera stands", camera_angle(rig)])
    yield table("what | which", rows, title="What it is made of", wide=1)
    found = []
    for key in GLANCE:
        row = evaluation.rows.get(key)
        if row is not None and row.best is not None:
            value = number(row.best.value, row.kind.decimals + 1)
            found.append(
                [row.kind.label, value, row.kind.unit, given.mark(row.verdict) if given.is_judged(row) else ""]
            )
    yield table("number | value | unit | stands", found, title="Chief numbers", numbers=(1,), wide=0)
    counts = {verdict: sum(f.verdict is verdict and f.is_open for f in evaluation.findings) for verdict in Verdict}
    entries = [f"{counts[v]} {v}" for v in (Verdict.FAILS, Verdict.TIGHT, Verdict.UNPROVEN) if counts[v]]
    yield Words(f"Findings open: {', '.join(entries) or 'none'}.")


def _mount(mount: Mount | None) -> str:
    if mount is None:
        return "none stated"
    entries = [mount.name, mount.kind.replace("_", " ")]
    entries.append(f"worm turns in {short(mount.worm_period_s)} s" if mount.worm_period_s is not None else None)
    entries.append(f"carries {short(mount.payload_rating_kg)} kg" if mount.payload_rating_kg is not None else None)
    return ", ".join(text for text in entries if text)


def _target(framing: Framing) -> str:
    name = f"{framing.name}, " if framing.name else ""
    overlap = f", panels overlap by {short(100 * framing.overlap)} %" if framing.overlap is not None else ""
    return (
        f"{name}RA {short(framing.ra_deg, 4)}°, Dec {short(framing.dec_deg, 4)}°, position angle "
        f"{short(framing.position_angle_deg, 1)}°{overlap}"
    )


def _focuser(focuser: Focuser) -> str:
    """Return what the telescope's drawtube is, in words."""
    entries = [
        f"focal plane {short(focuser.focal_plane_mm, 2)} mm behind it" if focuser.focal_plane_mm is not None else "",
        f"travel {short(focuser.travel_mm, 2)} mm" if focuser.travel_mm is not None else "",
        f"rated for {short(focuser.load_rating_g)} g" if focuser.load_rating_g is not None else "",
        f"and {short(focuser.moment_rating_n_m)} N·m" if focuser.moment_rating_n_m is not None else "",
    ]
    return ", ".join(text for text in entries if text)


def _joint(joint: Joint | None) -> str:
    if joint is None:
        return "–"
    deep = f", {short(joint.depth_mm)} mm deep" if joint.depth_mm is not None else ""
    return f"{joint.thread} {joint.gender}{deep}"


def _part(place: str, part: Part) -> list[object]:
    length = f"{short(part.optical_length_mm, 2)}"
    if part.length_tolerance_mm is not None:
        length += f" ± {short(part.length_tolerance_mm, 3)}"
    basis = "set" if part.adjustable is not None else part.length_basis
    mass = short(part.mass_g, 0) if part.mass_g is not None else None
    return [place, part.title, part.kind.replace("_", " "), length, basis, _joint(part.front), _joint(part.rear), mass]


def light_path(given: DossierInput) -> Iterator[Block]:
    """Yield the section to scale, the parts with joints and masses, and the arithmetic of both paths."""
    evaluation, rig = given.evaluation, given.evaluation.rig
    yield Picture(section_svg(evaluation), "To scale; dashed: where the sensor plane must lie. Figures in mm.")
    rows: list[list[object]] = [
        ["–", rig.telescope.title, "telescope", "", "", "", _joint(rig.telescope.rear), _mass(rig.telescope.mass_g)]
    ]
    entries = [*rows, *(_part(str(i), part) for i, part in enumerate(rig.train, start=1))]
    entries += [_part(f"g{i}", part) for i, part in enumerate(rig.guiding.path, start=1)]
    yield table(
        "no. | part | kind | length, mm | is | front | rear | mass, g", entries, title="Parts", numbers=(3, 7), wide=1
    )
    total = sum(part.mass_g or 0.0 for part in rig.train)
    if total:
        unknown = sum(part.mass_g is None for part in rig.train)
        more = f"; {unknown} parts state none" if unknown else ""
        yield Words(f"The train weighs {short(total, 0)} g without the telescope{more}.")
    focuser = rig.telescope.focuser
    if focuser is not None and _focuser(focuser):
        yield Words(f"The telescope’s focuser: {_focuser(focuser)}.")
    if rig.variants:
        trains = [[own.name, own.telescope.title if own.telescope else None, _parts_of(own)] for own in rig.variants]
        yield table("variant | telescope, if another | train", trains, title="Other trains of this rig", wide=2)
    for name in ("spacing.main", "spacing.guide"):
        finding = evaluation.finding(name)
        if finding is not None:
            yield Lines(finding.arithmetic, finding.title, "arithmetic")
    words = [conflict_words(rig, path) for path in conflicting_paths(rig)]
    if words:
        yield Lines(tuple(words), "Makers’ figures that differ")


def _parts_of(variant: Variant) -> str:
    return ", ".join(part if isinstance(part, str) else part.title for part in variant.train)


def _mass(mass_g: float | None) -> str:
    return short(mass_g, 0) if mass_g is not None else ""


def _linked(device: Device) -> str:
    link = device.connection
    if link is None or link.kind in (None, "none"):
        return "–"
    entries = [str(link.kind), link.port, f"{link.host}:{link.tcp_port}" if link.host and link.tcp_port else link.host]
    entries += [f"{link.baud} baud" if link.baud else None, f"at {link.hub}" if link.hub else None]
    return ", ".join(text for text in entries if text)


def wiring(given: DossierInput) -> Iterator[Block]:
    """Yield the wiring, the devices and what feeds them."""
    evaluation, rig = given.evaluation, given.evaluation.rig
    yield Picture(wiring_svg(evaluation), "Computer and hubs above, devices, supplies below.")
    rows = []
    for device in rig.devices:
        own, driver, power = device.identity, device.driver, device.power
        rows.append(
            [
                device.title,
                device.kind.replace("_", " "),
                own.model if own is not None else None,
                ", ".join(mark for mark in (own.serial_number, own.usb_id) if mark) if own is not None else None,
                own.firmware if own is not None else None,
                f"{driver.name or ''} {driver.version or ''}".strip() if driver is not None else None,
                _linked(device),
                device.connection.mode if device.connection is not None else None,
                (power.outlet or power.supply) if power is not None else None,
            ]
        )
    yield table(
        "device | kind | model | serial, USB id | firmware | driver | reached by | switch | outlet",
        rows,
        title="Devices",
    )
    fed = []
    for supply in rig.supplies:
        outlets = ", ".join(f"{o.name} {short(o.rated_a)} A" if o.rated_a else o.name for o in supply.outlets)
        entries = [short(v) if v is not None else None for v in (supply.voltage_v, supply.rated_a, supply.capacity_ah)]
        fed.append([supply.title, supply.kind, *entries, supply.fed_by, outlets])
    if fed:
        yield table("supply | kind | V | A | Ah | fed by | outlets", fed, title="Supplies", numbers=(2, 3, 4), wide=6)


def _value(setting: Setting, key: str) -> str:
    value = setting.value
    if value is None:
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return short(value, max(SETTINGS[key].decimals, 2)) if isinstance(value, int | float) else value


def settings(given: DossierInput) -> Iterator[Block]:
    """Yield every setting with its value, tolerance, what was measured, the reason and since when."""
    for device in given.evaluation.rig.devices:
        rows = []
        for key, setting in device.settings.items():
            kind, measured = SETTINGS[key], setting.measured
            allowed = setting.tolerance if setting.tolerance is not None else kind.tolerance
            value = _value(setting, key) + (f" ± {short(allowed)}" if allowed and kind.type == "number" else "")
            found = ""
            if measured is not None:
                found = f"{plus_minus(measured.value, measured.standard_uncertainty or 0.0, kind.decimals)} {kind.unit}"
            entries = given.reason_of(device.id, key)
            since = f" (since {entries.date[:10]})" if entries.date else ""
            why = f"{entries.reason or setting.source or ''}{since}".strip()
            rows.append([kind.label, f"{value} {kind.unit}".strip() if setting.value is not None else "–", found, why])
        if rows:
            yield table("setting | value, ± allowed | measured | why", rows, title=device.title, wide=3)


def filters(given: DossierInput) -> Iterator[Block]:
    """Yield the slots of each wheel."""
    for device in given.evaluation.rig.devices:
        if device.kind == "filter_wheel" and device.slots:
            rows = []
            for place, slot in enumerate(device.slots, start=1):
                measured = slot.focus_offset_measured
                rows.append(
                    [
                        place,
                        slot.name or "(empty)",
                        slot.bandpass,
                        short(slot.thickness_mm) if slot.thickness_mm is not None else None,
                        short(slot.index) if slot.index is not None else None,
                        short(slot.focus_offset_steps) if slot.focus_offset_steps is not None else None,
                        plus_minus(measured.value, measured.standard_uncertainty or 0.0, 1) if measured else None,
                    ]
                )
            yield table(
                "slot | filter | passes | glass, mm | index | offset, steps | measured, steps", rows,
                title=device.title, numbers=(0, 3, 4, 5, 6), wide=1,
            )  # fmt: skip


def site(given: DossierInput) -> Iterator[Block]:
    """Yield where the rig stands, and its horizon."""
    where = given.evaluation.rig.site
    if where is None or given.private:
        return
    rows: list[list[object]] = [
        ["Name", where.name],
        ["Latitude", f"{number(where.latitude_deg, 4)}°"],
        ["Longitude, east", f"{number(where.longitude_deg, 4)}°"],
        ["Elevation", f"{short(where.elevation_m)} m" if where.elevation_m is not None else None],
        ["Seeing, usual", f"{short(where.seeing_fwhm_arcsec)}″" if where.seeing_fwhm_arcsec is not None else None],
    ]
    yield table("what | value", rows, wide=1)
    if where.horizon:
        azimuths = tuple(point[0] for point in where.horizon)
        heights = tuple(point[1] for point in where.horizon)
        chart = Chart("Horizon", "azimuth, ° (north 0, east 90)", "altitude, °", (Series("", azimuths, heights),))
        yield Picture(chart_svg(chart), "The horizon as measured.")


def night_plan(given: DossierInput) -> Iterator[Block]:
    """Yield the plan of the night, step by step."""
    plan = given.evaluation.rig.plan
    if plan is None:
        return
    frames = f"{plan.frames} frames of " if plan.frames is not None else "Frames of "
    filters_reported = f" through {', '.join(plan.filters)}" if plan.filters else ""
    yield Words(f"{frames}{short(plan.exposure_s)} s{filters_reported}.")
    if plan.steps:
        rows = [
            [
                place,
                step.do.replace("_", " "),
                step.filter,
                step.frames,
                short(step.exposure_s) if step.exposure_s is not None else None,
                short(step.limit_s) if step.limit_s is not None else "none",
                step.attempts,
                short(step.pause_s),
                "yes" if step.reconnect else "no",
                step.then.replace("_", " "),
            ]
            for place, step in enumerate(plan.steps, start=1)
        ]
        heads = "no. | step | filter | frames | exposure, s | limit, s | attempts | pause, s | reconnects | then"
        yield table(heads, rows, title="Steps", numbers=(0, 3, 4, 5, 6, 7), wide=1)
    if plan.file_names:
        yield Words(f"Frames are named {plan.file_names}")
