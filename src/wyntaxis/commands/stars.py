"""The command on stars: what a frame's stars tell of its focus, seeing and tracking."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import OK, Command, print_json, print_table

if TYPE_CHECKING:
    from collections.abc import Callable

    from wyntaxis.core.evidence.headers.headers import FrameHeader


def _stars(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.stars.frame_stars import measure_frames
    from wyntaxis.core.evidence.stars.report import stars_csv, stars_json
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.files.saving import write_atomically
    from wyntaxis.core.wording import plus_minus

    paths, scale_of = list(options.paths), None
    if paths and paths[0].name.lower().endswith(".json"):
        scale_of = _scale_by_rig(paths.pop(0), options.variant)
    if not paths:
        raise InputError("name a FITS frame, or a folder of them")
    frames, not_used = measure_frames(paths, scale_of, _progress if sys.stderr.isatty() else lambda _done, _of: None)
    if options.each is not None:
        write_atomically(stars_csv(frames).encode("utf-8"), options.each, keep_previous=False)
    if options.json:
        print_json(stars_json(frames, not_used))
        return OK
    table = [["frame", "stars", "HFD px", "FWHM px", "elongation", "angle °", "saturated", "sky ADU", "noise ADU"]]
    for frame in frames:
        figures = (frame.hfd_px, frame.fwhm_px, frame.elongation)
        cells = ["–" if e is None else plus_minus(e.value, e.standard, 2) for e in figures]
        angle = "–" if frame.position_angle_deg is None else f"{frame.position_angle_deg.value:.0f}"
        ends = [str(int(frame.shapes.saturated.sum())), f"{frame.sky_adu.value:.0f}", f"{frame.noise_adu.value:.1f}"]
        table.append([frame.file, str(frame.count), *cells, angle, *ends])
    print_table(table, right=set(range(1, 9)))
    for entry in not_used:
        print(f"not used: {entry.path}: {entry.why}", file=sys.stderr)
    return OK


def _scale_by_rig(path: Path, variant: str | None) -> Callable[[FrameHeader], float | None]:
    """Return what gives a frame's scale by the rig: its pixel scale, told for the frame's binning."""
    from wyntaxis.core.evaluation import evaluate
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.rig.model import variant_rig
    from wyntaxis.core.rig.store import load

    try:
        rig = variant_rig(load(path).rig, variant)
    except ValueError as error:
        if isinstance(error, InputError):
            raise
        raise InputError(str(error), path) from None
    scale, own = evaluate(rig).value("pixel_scale_arcsec_px"), rig.sensor.binning if rig.sensor is not None else 1
    return lambda header: None if scale is None else scale * (header.binning or own) / own


def _progress(done: int, of: int) -> None:
    print(f"\rstars: {done} of {of} frames", end="\n" if done == of else "", file=sys.stderr, flush=True)


def _stars_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "paths", type=Path, nargs="+", metavar="[RIG] PATH", help="a rig for the scale; frames, folders"
    )
    parser.add_argument("--variant", metavar="NAME", help="look at this variant of the rig")
    parser.add_argument("--each", type=Path, metavar="CSV", help="write every star into this file")
    parser.add_argument("--json", action="store_true", help="print JSON instead of a table")


COMMANDS = {
    "stars": Command(_stars, "measure the stars of frames: HFD, FWHM, elongation", _stars_arguments, rig=False),
}
