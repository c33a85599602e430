"""Commands on the sky: what falls on the sensor."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import OK, Command, print_json, print_table, reckoned

if TYPE_CHECKING:
    from wyntaxis.core.rig.plan import Framing
    from wyntaxis.core.sky.footprint import Footprint


def _footprint(options: argparse.Namespace) -> int:
    from wyntaxis.core.rig.errors import RigError
    from wyntaxis.core.sky.coordinates import coordinates_text
    from wyntaxis.core.sky.footprint import angle_caveat, corners_csv, footprint, stc_s
    from wyntaxis.core.wording import number

    reckoning = reckoned(options)
    framing = reckoning.rig.framing
    angle = options.angle
    if angle is None:
        angle = framing.position_angle_deg if framing else 0.0
    if not math.isfinite(angle):
        raise RigError("--angle: must be a number of degrees")
    frame = footprint(reckoning, _center(options, framing), angle)
    if frame is None:
        raise RigError(f"{options.file}: the train does not end with a camera whose sensor is given")
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
    from wyntaxis.core.rig.errors import RigError
    from wyntaxis.core.sky.coordinates import parse_coordinates
    from wyntaxis.core.sky.objects import find_object

    if options.at is None:
        if framing is not None:
            return framing.ra_deg, framing.dec_deg
        raise RigError('--at: say where, as in --at "22 15 09 +49 54 00" or --at "NGC 7243"; the rig has no framing')
    target = find_object(options.at)
    if target is not None:
        return target.ra_deg, target.dec_deg
    try:
        return parse_coordinates(options.at)
    except ValueError as error:
        raise RigError(f"--at: {error}, or name a catalogued object") from None


def _panels(options: argparse.Namespace, frame: Footprint) -> dict[str, object] | None:
    from wyntaxis.core.rig.errors import RigError
    from wyntaxis.core.sky.objects import find_object

    if options.object is None:
        return None
    target = find_object(options.object)
    if target is None:
        raise RigError(f"--object: “{options.object[:60]}” is not in the catalogue")
    if not 0 <= options.overlap <= 0.9:
        raise RigError("--overlap: must lie from 0 to 0.9, as a share of a side")
    try:
        found = frame.panels(target, options.overlap)
    except ValueError as error:
        raise RigError(f"--object: {error}") from None
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
    parser.add_argument("--object", metavar="NAME", help="tell how many panels hold this object")
    parser.add_argument(
        "--overlap", type=float, default=0.15, metavar="S", help="overlap of panels as a share of a side"
    )
    parser.add_argument("--csv", action="store_true", help="print centre and corners as CSV")


COMMANDS = {
    "footprint": Command(_footprint, "print what of the sky falls on the sensor", _footprint_arguments),
}
