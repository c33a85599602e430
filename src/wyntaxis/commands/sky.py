"""Commands on the sky: what falls on the sensor."""

from __future__ import annotations

import argparse
import math
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import (
    OK,
    Command,
    computed_now,
    exit_code,
    keep_change,
    print_findings,
    print_json,
    print_table,
    rig_of,
)

if TYPE_CHECKING:
    from wyntaxis.core.evidence.scale.image_scale import ScaleReading
    from wyntaxis.core.rig.model import Rig
    from wyntaxis.core.rig.plan import Framing
    from wyntaxis.core.sky.footprint import Footprint


def _footprint(options: argparse.Namespace) -> int:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.quantities.fields import footprint
    from wyntaxis.core.sky.coordinates import coordinates_text
    from wyntaxis.core.sky.footprint import angle_caveat, corners_csv, stc_s
    from wyntaxis.core.wording import number

    evaluation = computed_now(options)
    framing = evaluation.rig.framing
    angle = options.angle
    if angle is None:
        angle = framing.position_angle_deg if framing else 0.0
    if not math.isfinite(angle):
        raise InputError("--angle: must be a number of degrees")
    frame = footprint(evaluation, _center(options, framing), angle)
    if frame is None:
        raise InputError("the train does not end with a camera whose sensor is given", options.file)
    panels = _panels(options, frame)
    if options.json:
        print_json(frame.as_json() | ({"panels": panels} if panels else {}))
    elif options.csv:
        print(corners_csv([frame]), end="")
    else:
        width, height = frame.size_deg
        print(f"{frame.optics.name}: {number(width, 3)}° × {number(height, 3)}°, position angle {number(angle, 1)}°")
        table = [["centre", coordinates_text(*frame.center)]]
        names = ("top left", "top right", "bottom right", "bottom left")
        table += [[name, coordinates_text(*place)] for name, place in zip(names, frame.corners(), strict=True)]
        guide = frame.guide_place()
        if guide is not None:
            table.append(
                ["guide field", f"{number(guide[0], 3)}° from the centre at position angle {number(guide[1], 1)}°"]
            )
        for target, share in frame.objects()[:20]:
            caveat = angle_caveat(frame, target)
            text = f"{target.kind}, {number(100 * share, 0)} % on the sensor"
            table.append([target.label, f"{text} ({caveat})" if caveat else text])
        if panels:
            table.append(["panels", f"{panels['columns']} × {panels['rows']} for {panels['object']}"])
        print_table(table, right=set())
        print(stc_s([frame.corners()]))
    return OK


def _center(options: argparse.Namespace, framing: Framing | None) -> tuple[float, float]:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.sky.coordinates import parse_coordinates
    from wyntaxis.core.sky.objects import find_object

    if options.at is None:
        if framing is not None:
            return framing.ra_deg, framing.dec_deg
        raise InputError('--at: say where, as in --at "22 15 09 +49 54 00" or --at "NGC 7243"; the rig has no framing')
    target = find_object(options.at)
    if target is not None:
        return target.ra_deg, target.dec_deg
    try:
        return parse_coordinates(options.at)
    except ValueError as error:
        raise InputError(f"--at: {error}, or name a catalogued object") from None


def _panels(options: argparse.Namespace, frame: Footprint) -> dict[str, object] | None:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.sky.objects import find_object

    if options.object is None:
        return None
    target = find_object(options.object)
    if target is None:
        raise InputError(f"--object: “{options.object[:60]}” is not in the catalogue")
    if not 0 <= options.overlap <= 0.9:
        raise InputError("--overlap: must lie from 0 to 0.9, as a share of a side")
    try:
        found = frame.panels(target, options.overlap)
    except ValueError as error:
        raise InputError(f"--object: {error}") from None
    return {
        "object": target.label,
        "columns": found.columns,
        "rows": found.rows,
        "overlap": found.overlap,
        "centers": [
            {"ra_deg": ra, "dec_deg": dec, "position_angle_deg": panel.position_angle_deg}
            for panel in found.panels
            for ra, dec in [panel.center]
        ],
    }


def _footprint_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--at", metavar="RA DEC", help="centre, J2000, or a catalogued object; the rig's framing if left out"
    )
    parser.add_argument("--angle", type=float, metavar="D", help="position angle of the frame's top in degrees")
    parser.add_argument("--object", metavar="NAME", help="print how many panels cover this object")
    parser.add_argument(
        "--overlap", type=float, default=0.15, metavar="S", help="overlap of panels as a share of a side"
    )
    parser.add_argument("--csv", action="store_true", help="print centre and corners as CSV")


# The measured scale


def _scale(options: argparse.Namespace) -> int:
    from wyntaxis.core.evaluation import evaluate
    from wyntaxis.core.evidence.scale.image_scale import keep_reading
    from wyntaxis.core.rig import edit
    from wyntaxis.core.wording import plus_minus

    rig = rig_of(options)
    reading = _reading(options, rig)
    change = keep_reading(rig, reading)
    evaluation = evaluate(edit.apply(rig, change))
    findings = [f for f in evaluation.findings if f.id in ("scale.measured", "legs.agree")]
    if options.keep:
        keep_change(options, change)
    values = {
        key: evaluation.quantities[quantity].measured
        for key, quantity in (
            ("focal_length_mm", "effective_focal_length_mm"),
            ("magnification", "corrector_magnification"),
            ("spacing_error_mm", "spacing_error_by_scale_mm"),
            ("guide_scale_arcsec_px", "guide_scale_arcsec_px"),
        )
    }
    if options.json:
        entries = {
            key: None if quantity_value is None else {"value": quantity_value.value, "u": quantity_value.uncertainty}
            for key, quantity_value in values.items()
        }
        missing = None if values["magnification"] else "no corrector states magnification and distance"
        print_json(
            {"scale_arcsec_px": {"value": reading.scale_arcsec_px, "u": reading.standard_arcsec_px}}
            | entries
            | {
                "why": missing,
                "binning": reading.binning,
                "method": reading.method,
                "file": reading.file,
                "center": None if reading.center_deg is None else dict(zip(_PLACE, reading.center_deg, strict=True)),
                "position_angle_deg": reading.position_angle_deg,
                "mirrored": reading.mirrored,
                "notes": list(reading.notes),
                "kept": options.keep,
                "findings": [finding.as_json() for finding in findings],
            }
        )
    else:
        rows = [["scale", plus_minus(reading.scale_arcsec_px, reading.standard_arcsec_px, 4), "″/px"]]
        units = {"focal_length_mm": "mm", "magnification": "×", "spacing_error_mm": "mm"}
        for key, unit in units.items():
            quantity_value = values[key]
            if quantity_value is not None:
                rows.append(
                    [
                        key.removesuffix("_mm").replace("_", " "),
                        plus_minus(quantity_value.value, quantity_value.uncertainty, 3),
                        unit,
                    ]
                )
        print_table(rows, right={1})
        for note in reading.notes:
            print(f"note: {note}")
        print_findings(findings)
        if options.keep:
            print(f"kept in {options.file}")
    return exit_code(findings)


_PLACE = ("ra_deg", "dec_deg")


def _reading(options: argparse.Namespace, rig: Rig) -> ScaleReading:
    from wyntaxis.core.evidence.scale.image_scale import read_solved_frame, two_star_scale, typed_scale
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.sky.coordinates import separation_deg

    given = [options.frame is not None, options.stars is not None, options.typed is not None]
    if sum(given) != 1:
        raise InputError("name a solved frame, or give --stars, or --typed: one of the three")
    if options.frame is not None:
        return read_solved_frame(options.frame, rig.sensor)
    own = rig.sensor.binning if rig.sensor is not None else 1
    binning = own if options.binning is None else options.binning
    if not 1 <= binning <= MAX_BINNING:
        raise InputError(f"--binning: must lie from 1 to {MAX_BINNING}")
    try:
        if options.typed is not None:
            return typed_scale(options.typed, options.u, binning)
        stars = [_star(text) for text in options.stars]
        apart = 3600 * separation_deg(stars[0][1], stars[1][1])
        middle = None
        if rig.sensor is not None:
            middle = ((rig.sensor.width_px / binning - 1) / 2, (rig.sensor.height_px / binning - 1) / 2)
        return two_star_scale(stars[0][0], stars[1][0], apart, middle_px=middle, binning=binning)
    except ValueError as error:
        raise InputError(f"{'--typed' if options.typed is not None else '--stars'}: {error}") from None


MAX_BINNING = 64


def _star(text: str) -> tuple[tuple[float, float], tuple[float, float]]:
    """Return pixel and position of a star written ``X,Y,RA,DEC``; ValueError of one line for what is none."""
    parts = text.split(",")
    if len(parts) != 4:
        raise ValueError(f"“{text[:60]}” is no star: write X,Y,RA,DEC, as in 812.4,1033.0,333.785,49.90")
    try:
        x, y = (float(part) for part in parts[:2])
    except ValueError:
        raise ValueError(f"“{text[:60]}”: x and y must be numbers of pixels") from None
    if not (math.isfinite(x) and math.isfinite(y)):
        raise ValueError(f"“{text[:60]}”: x and y must be finite")
    from wyntaxis.core.sky.coordinates import parse_coordinates

    return (x, y), parse_coordinates(f"{parts[2]}, {parts[3]}")


def _scale_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("frame", type=Path, nargs="?", metavar="FRAME", help="a solved FITS frame")
    parser.add_argument(
        "--stars", nargs=2, metavar="X,Y,RA,DEC", help="two stars: pixels from the frame's first, and J2000 position"
    )
    parser.add_argument("--typed", type=float, metavar="ARCSEC_PX", help="the scale that another program reported")
    parser.add_argument("--u", type=float, default=0.0, metavar="U", help="standard uncertainty of a typed scale")
    parser.add_argument("--binning", type=int, metavar="N", help="binning that --stars or --typed speak of")
    parser.add_argument("--keep", action="store_true", help="write it into the rig as a measured value")


# The night


def _night(options: argparse.Namespace) -> int:
    import datetime

    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.sky.night import night_of, utc_text
    from wyntaxis.core.wording import number

    rig = rig_of(options)
    if rig.site is None:
        raise InputError("the rig has no site: state its latitude and longitude", options.file)
    try:
        date = datetime.date.fromisoformat(options.date) if options.date else datetime.datetime.now(datetime.UTC).date()
    except ValueError:
        raise InputError(f"--date: “{options.date[:40]}” is no date such as 2026-11-26") from None
    margin = next((m for d in rig.devices if (m := d.number("flip_margin_min")) is not None), None)
    if rig.mount is not None and rig.mount.kind == "alt_azimuth":
        margin = None
    try:
        night = night_of(rig.site, _targets(options, rig), date, margin)
    except ValueError as error:
        raise InputError(f"--date: {error}") from None
    if options.json:
        print_json({"site": rig.site.name} | night.as_json())
    elif options.csv:
        print(night.as_csv(), end="")
    else:
        spans = ", ".join(f"{utc_text(a)} to {utc_text(b)}" for a, b in night.dark) or "none"
        print(f"night of {date}: {number(night.dark_hours, 1)} h dark ({spans})")
        moon = night.moon
        print(f"moon: {number(100 * moon.illuminated, 0)} % lit, {number(moon.hours_up_dark, 1)} h up in the dark")
        table = [["object", "up h", "up in the dark h", "highest", "meridian", "flip", "moon apart"]]
        for entry in night.objects:
            times = ["–" if t is None else utc_text(t) for t in (entry.transit, entry.flip)]
            hours = [number(entry.path.hours_up, 1), number(entry.path.hours_up_and_dark, 1)]
            table.append([entry.name, *hours, f"{number(entry.path.highest[0], 0)}°", *times,
                          f"{number(entry.moon_apart_deg, 0)}°"])  # fmt: skip
        print_table(table, right={1, 2, 3, 6})
    return OK


def _targets(options: argparse.Namespace, rig: Rig) -> list[tuple[str, float, float]]:
    from wyntaxis.core.sky.coordinates import coordinates_text
    from wyntaxis.core.sky.objects import find_object

    if not options.at:
        options.at = None
        ra, dec = _center(options, rig.framing)
        return [((rig.framing.name if rig.framing else None) or coordinates_text(ra, dec), ra, dec)]
    found = []
    for text in options.at:
        ra, dec = _center(argparse.Namespace(at=text), None)
        target = find_object(text)
        found.append((target.label if target is not None else coordinates_text(ra, dec), ra, dec))
    return found


def _night_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--at", action="append", metavar="RA DEC", help="an object, J2000 or by name; may be given several times"
    )
    parser.add_argument("--date", metavar="D", help="the evening's date, as 2026-11-26; today if left out")
    parser.add_argument("--csv", action="store_true", help="print a line for each object as CSV")


COMMANDS = {
    "scale": Command(
        _scale, "measure the image scale from a solved frame, two stars, or as typed", _scale_arguments, group="Compute"
    ),
    "night": Command(
        _night, "print the dark hours, and the altitude of each object on a date", _night_arguments, group="Compute"
    ),
    "footprint": Command(
        _footprint, "print which part of the sky the sensor covers", _footprint_arguments, group="Compute"
    ),
}
