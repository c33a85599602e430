"""The command on directions: which way to move telescope and camera, by a solved frame."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import OK, Command, print_json, rig_of

if TYPE_CHECKING:
    from wyntaxis.core.evidence.scale.solved_directions import SolvedDirections


def _direction(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.scale.solved_directions import directions_of

    rig = rig_of(options)
    found = directions_of(options.frame, rig)
    planned = options.angle
    if planned is None and rig.framing is not None:
        planned = rig.framing.position_angle_deg
    if options.json:
        print_json(found.as_json(planned))
        return OK
    for line in _lines(found, planned):
        print(line)
    return OK


def _lines(found: SolvedDirections, planned: float | None) -> list[str]:
    from wyntaxis.core.optics.direction import SIDES_DEG, WORDS

    own = found.picture
    mirror = "mirrored" if own.mirrored else "not mirrored"
    lines = [
        f"top of the picture: position angle {own.angle_deg:.1f}°, {mirror}; its first row is at the {found.first_row}",
        f"north lies {own.north_deg:.0f}° and east {own.east_deg:.0f}° from right toward up",
    ]
    for side in SIDES_DEG:
        way = f"to move the target {side}, move the telescope {WORDS[own.move(side)]}"
        beside = own.off_axis_deg(side)
        if found.altaz is not None:
            way += f", or {found.altaz.move(side)} by altitude and azimuth"
        lines.append(f"{way} ({beside:.0f}° beside)" if beside >= 1 else way)
    if planned is not None:
        lines.append(f"to reach {planned:g}°: {own.turn_words(planned)}")
    return lines


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("frame", type=Path, metavar="FRAME", help="a solved FITS frame")
    parser.add_argument(
        "--angle",
        type=_angle,
        metavar="D",
        help="the position angle to reach, in degrees; the rig's framing if left out",
    )


def _angle(text: str) -> float:
    value = float(text)
    if not -360 <= value <= 360:
        raise argparse.ArgumentTypeError(f"must be −360 to 360, got {text[:20]}")
    return value


COMMANDS = {
    "direction": Command(
        _direction, "print which way to move telescope and camera, by a solved frame", _arguments, group="Compute"
    )
}
