"""The command that compares combinations of the shelf's telescopes, correctors, cameras and guides."""

from __future__ import annotations

import argparse
from pathlib import Path

from wyntaxis.commands.shared import OK, SOME_FAIL, Command, print_json, print_table, work_progress

COLUMNS = (
    ("effective_focal_length_mm", "focal length, mm", 0), ("focal_ratio", "f/", 2),
    ("pixel_scale_arcsec_px", "″/px", 2), ("field_width_deg", "field, °", 2),
    ("sampling_usual", "px/FWHM", 1), ("back_focus_error_mm", "error, mm", 2),
    ("guide_to_main_ratio", "guide ×", 2), ("object_share_percent", "object, %", 0), ("cost", "cost", 0),
)  # fmt: skip


def _choose(options: argparse.Namespace) -> int:
    from wyntaxis.core.chooser import choices_of, combinations, sorted_by
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.files.places import own_shelf_path
    from wyntaxis.core.rig.shelf import load_own_shelf, load_shelf
    from wyntaxis.core.sky.objects import find_object
    from wyntaxis.core.wording import number

    shelf = load_shelf(options.shelf) if options.shelf else load_own_shelf(own_shelf_path())
    target = None
    if options.object is not None:
        target = find_object(options.object)
        if target is None:
            raise InputError(f"--object: “{options.object[:40]}” is not in the catalogue")
    found = combinations(choices_of(shelf, options.with_id or ()), target, work_progress("combinations"))
    if options.sort is not None:
        found = sorted_by(found, options.sort)
    if options.json:
        print_json([own.as_json() for own in found])
    else:
        columns = [own for own in COLUMNS if any(own[0] in one.numbers for one in found)]
        rows = [["telescope", "corrector", "camera", "guide", *(words for _, words, _ in columns), "mates", "why"]]
        for own in found:
            numbers = [
                number(own.numbers[key], decimals) if key in own.numbers else "–" for key, _, decimals in columns
            ]
            mates = {True: "yes", False: "no", None: "not verified"}[own.mates]
            what = own.why or ", ".join(own.pieces)
            rows.append([own.telescope, own.corrector or "–", own.camera, own.guide or "–", *numbers, mates, what])
        print_table(rows, right=set(range(4, 4 + len(columns))))
    return OK if any(own.mates for own in found) else SOME_FAIL


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--shelf", type=Path, metavar="SHELF", help="a shelf file; your own if left out")
    parser.add_argument(
        "--with", dest="with_id", action="append", metavar="ID", help="a piece that must be in every combination"
    )
    parser.add_argument("--object", metavar="NAME", help="an object of the catalogue that is to be in the field")
    parser.add_argument("--sort", metavar="KEY", help="sort by a number, the least first, such as focal_ratio or cost")
    parser.add_argument("--json", action="store_true", help="print JSON instead of a table")


COMMANDS = {
    "choose": Command(
        _choose,
        "compare every combination of the shelf's telescopes, correctors, cameras and guides",
        _arguments,
        rig=False,
        group="Compute",
    )
}
