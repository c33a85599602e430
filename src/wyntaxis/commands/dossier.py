"""Commands on paper: the dossier, the field card, everything in one file, and that file opened again."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.commands.shared import OK, Command, evaluated, print_json, rig_of, shelf_of, work_progress

if TYPE_CHECKING:
    from wyntaxis.core.dossier.dossier_input import DossierInput, PhotoForm
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.rig.model import Rig

KINDS = (".html", ".pdf", ".csv", ".zip", ".txt")
RIG_KIND = ".rig.json"


def _dossier(options: argparse.Namespace) -> int:
    from wyntaxis.core.dossier.card import card_of
    from wyntaxis.core.dossier.dossier import as_csv, dossier_of
    from wyntaxis.core.dossier.printing import card_html, card_pdf, dossier_html, pdf_of
    from wyntaxis.core.dossier.summary_text import summary_text
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.files.saving import write_atomically

    suffix = RIG_KIND if options.out.name.lower().endswith(RIG_KIND) else options.out.suffix.lower()
    if suffix not in (*KINDS, RIG_KIND):
        known = ", ".join((*KINDS, RIG_KIND))
        raise InputError(f"--out: “{suffix}” is no kind that a dossier is written as; use {known}")
    if suffix == RIG_KIND and not options.private:
        raise InputError("--out: a rig file is written with --private only; to have a copy of yours, copy the file")
    if options.card and suffix in (".csv", ".zip", ".txt", RIG_KIND):
        raise InputError("--card: a card is written as .html or .pdf")
    if options.paper in ("A5", "A6") and not options.card:
        raise InputError(f"--paper: {options.paper} is for a card; add --card")
    if options.lamp == "red" and not options.card:
        raise InputError("--lamp: only a card has a form for a red lamp; add --card")
    keys = [key.strip() for key in options.chapters.split(",")] if options.chapters is not None else None
    given = _given(options)
    if suffix == RIG_KIND:
        data = _private_rig(options)
    elif suffix == ".zip":
        data = _zipped(options, given)
    elif suffix == ".txt":
        data = summary_text(given.evaluation).encode()
    elif options.card:
        card, lamp = card_of(given), options.lamp == "red"
        is_pdf = suffix == ".pdf"
        data = (
            card_pdf(card, options.paper, lamp=lamp) if is_pdf else card_html(card, options.paper, lamp=lamp).encode()
        )
    else:
        found = dossier_of(given, keys)
        text = as_csv(found) if suffix == ".csv" else dossier_html(found, options.paper)
        data = pdf_of(text) if suffix == ".pdf" else text.encode()
    write_atomically(data, options.out, keep_previous=False)
    if options.json:
        print_json({"out": str(options.out), "bytes": len(data)})
    else:
        print(f"{options.out}: {len(data) / 1000:.0f} kB")
    return OK


def _private_rig(options: argparse.Namespace) -> bytes:
    from wyntaxis.core.dossier.private_rig import private_rig
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.rig.store import load, to_bytes

    if options.out.exists() and options.out.samefile(options.file):
        raise InputError(f"--out: {options.out} is the rig itself; name another file")
    return to_bytes(private_rig(load(options.file).rig))


def _given(options: argparse.Namespace) -> DossierInput:
    """Return what the dossier is made from; a history that cannot be read is told, and left out."""

    from wyntaxis.core.dossier.dossier_input import DossierInput
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.history.states import RigHistory, read_history

    rig = rig_of(options)
    shelf = shelf_of(options)
    try:
        history = read_history(options.file)
    except InputError as error:
        history = RigHistory()
        print(f"wyntaxis: made without the history: {error}", file=sys.stderr)
    evaluation = evaluated(rig, shelf=shelf, more=_measured(options, rig))
    photos: PhotoForm = "named" if options.name_photographs else "embedded"
    return DossierInput(evaluation, history, shelf, options.file.resolve().parent, options.private, photos)


def _measured(options: argparse.Namespace, rig: Rig) -> Evidence:
    """Return what is measured anew for the curves: focus runs and bench frames, where they are named."""
    from wyntaxis.core.evidence.kinds import Evidence
    from wyntaxis.core.measuring.measuring import Request, measuring_of
    from wyntaxis.core.quantities.numbers import numbers_of

    found, numbers = Evidence(), numbers_of(rig)
    named = {"focus": options.focus or [], "sensor": [options.bench] if options.bench is not None else []}
    for name, paths in named.items():
        if paths:
            measuring = measuring_of(name)
            result = measuring.read(Request(paths, numbers, work_progress("frames")))
            found = found.having(measuring.kind, result)
    return found


def _zipped(options: argparse.Namespace, given: DossierInput) -> bytes:
    from wyntaxis.core.dossier.bundle import bundle_bytes, left_out_photos, private_bundle
    from wyntaxis.core.dossier.dossier import dossier_of
    from wyntaxis.core.dossier.printing import dossier_html
    from wyntaxis.core.evidence.foreign.keymap import load_maps
    from wyntaxis.core.files.foreign_text import one_line
    from wyntaxis.core.files.places import own_maps_path
    from wyntaxis.core.rig.shelf import Shelf
    from wyntaxis.core.rig.store import SUFFIX, load

    html = dossier_html(dossier_of(given), options.paper)
    if options.private:
        return private_bundle(load(options.file).rig, html)
    name = options.file.name.removesuffix(SUFFIX)
    document, shelf = load(options.file).rig, Shelf(parts=given.shelf)
    left_out = left_out_photos(document, options.file)
    if left_out:
        names = one_line(", ".join(left_out[:5]))
        words = "JPEG, PNG, WebP and TIFF files with plain names go in"
        print(f"wyntaxis: photographs left out of the ZIP: {names} ({words})", file=sys.stderr)
    return bundle_bytes(given.evaluation, document, name, shelf, load_maps(own_maps_path()), html, options.file)


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--out",
        type=Path,
        required=True,
        metavar="NAME",
        help="a name with .html, .pdf, .csv, .zip, .txt (a page to paste) or, private, .rig.json",
    )
    parser.add_argument("--card", action="store_true", help="one page for the field")
    parser.add_argument(
        "--lamp", choices=("day", "red"), default="day", help="the card for daylight, or for a red lamp"
    )
    parser.add_argument("--private", action="store_true", help="without site, serial numbers and hosts")
    parser.add_argument(
        "--paper",
        choices=("A4", "Letter", "A5", "A6"),
        default="A4",
        help="the paper that it is printed on; A5 and A6 for a card",
    )
    parser.add_argument("--chapters", metavar="KEYS", help="only these chapters, by key, in commas")
    parser.add_argument("--focus", type=Path, action="append", metavar="PATH", help="focus runs to draw the curves of")
    parser.add_argument("--bench", type=Path, metavar="DIR", help="bench frames to draw the transfer curve of")
    parser.add_argument("--name-photographs", action="store_true", help="name the photographs, embed none")


def _unpack(options: argparse.Namespace) -> int:
    from wyntaxis.core.dossier.bundle import take_in, unpack
    from wyntaxis.core.files.places import own_maps_path, own_shelf_path

    found = unpack(options.zip, options.out)
    parts, maps = take_in(found, own_shelf_path(), own_maps_path()) if options.take else (0, 0)
    if options.json:
        print_json({"rig": str(found.rig), "shelf_parts": parts, "key_maps": maps})
    else:
        print(found.rig)
        if options.take:
            print(f"{parts} parts came onto your shelf, {maps} key maps to yours")
    return OK


def _unpack_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("zip", type=Path, metavar="ZIP", help="a file that wyntaxis dossier --out NAME.zip wrote")
    parser.add_argument("--out", type=Path, required=True, metavar="FOLDER", help="the folder that it is unpacked into")
    parser.add_argument("--take", action="store_true", help="add its shelf and key maps to yours")
    parser.add_argument("--json", action="store_true", help="print JSON instead of lines")


COMMANDS = {
    "dossier": Command(
        _dossier, "write the rig on paper: dossier, field card, or everything in one file", _arguments, group="Verify"
    ),
    "unpack": Command(
        _unpack, "open a file that holds everything into a folder", _unpack_arguments, rig=False, group="Verify"
    ),
}
"""Commands on paper."""
