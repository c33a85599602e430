"""The readers under trial: what each is given, and what it has to do with it."""

from __future__ import annotations

import contextlib
import io
import json
import os
import shutil
import sys
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from random import Random

import numpy as np
from astropy.io import fits

from tests.rigs import clean_document, clean_tree
from tests.soak.mutate import changed_bytes, changed_document, changed_fits, changed_text, hostile_value
from wyntaxis import demo
from wyntaxis.cli import main
from wyntaxis.core.evidence.foreign.keymap import load_maps
from wyntaxis.core.evidence.headers.names import load_filter_names
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.history.entries import history_path
from wyntaxis.core.history.recording import save as save_with_history
from wyntaxis.core.rig.recovery import find_left_behind
from wyntaxis.core.rig.shelf import STARTER, load_shelf, to_csv
from wyntaxis.core.rig.store import load, validated
from wyntaxis.core.sky.horizon import read_horizon
from wyntaxis.simulators.camera import SimulatedCamera, cooling_csv, cooling_run
from wyntaxis.simulators.guided_mount import SimulatedMount, log_text, simulated
from wyntaxis.simulators.raw_frames import write_dng
from wyntaxis.simulators.usb import make_tree

LONGEST_LINE = 400
MARKS = {
    "assumed": ["train[1].length_mm", "telescope.aperture_mm"],
    "origin": {"telescope.focal_length_mm": "FOCALLEN of a.fits"},
    "accepted": [
        {"finding": "spacing.main", "subject": "ring", "reason": "cropped", "date": "2026-11-26", "value": 0.7}
    ],
}
GOOD = "good.rig.json"
MAPS = {
    "format": "wyntaxis-key-maps",
    "version": 1,
    "maps": [
        {
            "name": "m",
            "form": "any",
            "rules": [
                {"path": "profile.optics.focal", "quantity": "effective_focal_length_mm", "unit": "mm"},
                {"path": "*.gain", "quantity": "main.gain"},
                {"path": "filters[*].name", "quantity": "rondel.slots"},
                {"path": "list[name=gain].value", "quantity": "main.gain", "separator": "comma"},
            ],
        }
    ],
}
PROFILE = {
    "profile": {"optics": {"focal": 514.0, "unit": "mm"}, "gain": 100},
    "filters": [{"name": "L"}, {"name": "R"}],
    "list": [{"name": "gain", "value": "100, 200"}, {"name": "offset", "value": 50}],
    "site": {"lat": "47° 18' N", "long": "8,5 E"},
}
FORMS = {
    "toml": b'title = "x"\n[profile.optics]\nfocal = 514.0\nlist = [1, 2, 3]\nwhen = 2026-01-01\n',
    "yaml": b"profile:\n  optics: {focal: 514.0, unit: mm}\nfilters:\n  - name: L\n  - &a {name: R}\n  - *a\n",
    "ini": b"[DEFAULT]\na = 1\n[optics]\nfocal = 514\ngain: 100\n; note\n[site]\nlat = 47,3\n",
    "xml": b"<profile><optics focal='514'><gain>100</gain></optics><f><n>L</n></f><f><n>R</n></f></profile>",
    "csv": b"key,value\nfocal,514\ngain,100\n",
}
HORIZON = b"azimuth,altitude\n0,10\n90,20\n180,5\n270,15\n359,10\n"


class BrokenPromiseError(AssertionError):
    """A reader did something with an input that it must not do."""


def run_command(*arguments: str) -> None:
    """Run a command as a user would, and see that it keeps what is promised of all of them."""
    out, err = io.StringIO(), io.StringIO()
    before = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = out, err
    try:
        code = main(list(arguments))
    except SystemExit as left:
        code = left.code
    finally:
        sys.stdout, sys.stderr = before
    reported = err.getvalue()
    if code not in (0, 1, 2):
        raise BrokenPromiseError(f"exit code {code}")
    if "failed inside" in reported or "Traceback" in reported:
        raise BrokenPromiseError(reported)
    lines = reported.splitlines()
    if code == 2 and not lines:
        raise BrokenPromiseError("exit code 2 without a word")
    if any(len(line) > LONGEST_LINE for line in lines):
        raise BrokenPromiseError(f"a line of {max(map(len, lines))} characters")
    if any(not _is_visible(char) for char in reported + out.getvalue()):
        raise BrokenPromiseError("what cannot be shown was printed raw")
    if code != 2 and "--json" in arguments:
        json.loads(out.getvalue(), parse_constant=_no_constant)


def _is_visible(char: str) -> bool:
    return char.isprintable() or char in "\n\t" or unicodedata.category(char) == "Zs"


def _no_constant(name: str) -> float:
    raise BrokenPromiseError(f"{name} in JSON")


def refuse_in_a_line(read: Callable[[Path], object], path: Path) -> None:
    """Read a file; it may be refused, in one line of bounded length."""
    with contextlib.suppress(InputError):
        try:
            read(path)
        except InputError as error:
            if "\n" in str(error) or len(str(error)) > LONGEST_LINE or not str(error):
                raise BrokenPromiseError(f"an error of {len(str(error))} characters: {error!s:.200}") from error
            raise


@dataclass(frozen=True)
class Reader:
    """A reader under trial: what it is called, a hostile input made in a folder, and what is done with it."""

    name: str
    make: Callable[[Path, Random], Path]
    check: Callable[[Path], None]


def _file(name: str, data: Callable[[Random], bytes]) -> Callable[[Path, Random], Path]:
    def make(folder: Path, random: Random) -> Path:
        path = folder / name
        path.write_bytes(data(random))
        return path

    return make


def _rig(random: Random) -> bytes:
    document = random.choice((clean_document(), _demo())) | random.choice(({}, MARKS))
    return changed_document(document, random)


def _demo() -> dict[str, object]:
    return json.loads(demo.rig_path("tarnfell-triplet-reduced").read_text("utf-8"))


def _frame(random: Random) -> bytes:
    header = fits.Header()
    for key, value in {
        "IMAGETYP": random.choice(("Light", "Dark", "Flat", "Bias")),
        "EXPTIME": 30.0,
        "GAIN": 100,
        "OFFSET": 50,
        "CCD-TEMP": -10.0,
        "SET-TEMP": -10.0,
        "FILTER": "L",
        "XPIXSZ": 3.76,
        "INSTRUME": "Pellucid Grand",
        "TELESCOP": "Aldous 104",
        "FOCALLEN": 513.8,
        "APTDIA": 104.0,
        "SITELAT": 47.3,
        "SITELONG": 11.1,
        "FOCUSPOS": 9000,
        "XBINNING": 1,
        "DATE-OBS": "2026-03-01T21:00:00",
        "CTYPE1": "RA---TAN",
        "CTYPE2": "DEC--TAN",
        "CRVAL1": 30.0,
        "CRVAL2": 40.0,
        "CRPIX1": 8.0,
        "CRPIX2": 8.0,
        "CD1_1": -4e-4,
        "CD1_2": 0.0,
        "CD2_1": 0.0,
        "CD2_2": 4e-4,
    }.items():
        header[key] = value
    buffer = io.BytesIO()
    fits.PrimaryHDU(np.full((16, 16), 500, np.uint16), header).writeto(buffer)
    return buffer.getvalue()


def _frames(folder: Path, random: Random) -> Path:
    place = folder / "frames"
    place.mkdir()
    (place / "good.fits").write_bytes(_frame(random))
    (place / random.choice(("a.fits", "b\udcff.fit", "c\x1b.fts"))).write_bytes(changed_fits(_frame(random), random))
    if random.random() < 0.3:
        _raw_frame(place / "c.dng", random)
    if random.random() < 0.1:
        os.mkfifo(place / "pipe.fits")
    return place


def _raw_frame(path: Path, random: Random) -> None:
    """Write a camera body's raw frame, some of its bytes changed, or cut short."""
    write_dng(path, np.full((random.choice((16, 64)), 64), 500, np.uint16), iso=random.choice((100, 65535)))
    raw = bytearray(path.read_bytes())
    for _ in range(random.randint(0, 30)):
        raw[random.randrange(min(len(raw), 700))] = random.randrange(256)
    path.write_bytes(raw if random.random() < 0.7 else raw[: random.randrange(len(raw))])


def _lit_frames(folder: Path, random: Random) -> Path:
    """Frames of a sweep or of flats whose light is now and then none a sensor gives, one of them with a broken file."""
    place, kind = folder / "lit", random.choice(("Light", "Flat"))
    place.mkdir()
    numbers = np.random.default_rng(random.randrange(1 << 30))
    down, across = np.mgrid[0:64, 0:80]
    for index in range(random.randint(1, 7)):
        light = 1000 + 30 * numbers.standard_normal((64, 80))
        for _ in range(random.randint(0, 20)):
            x, y, wide = random.uniform(0, 80), random.uniform(0, 64), random.uniform(0.5, 9)
            light += random.uniform(-900, 9000) * np.exp(-((across - x) ** 2 + (down - y) ** 2) / (2 * wide**2))
        light = random.choice(
            (light, light, light, 0 * light, 0 * light + 65535, 300 * light, -light, np.round(light, -3))
        )
        if random.random() < 0.1:
            light[random.randrange(64)] = random.choice((np.nan, np.inf, -1e30))
        header = fits.Header({"IMAGETYP": kind, "FILTER": random.choice("LR"), "EXPTIME": random.choice((2.0, 0.0))})
        header["FOCUSPOS"] = random.choice((100 * index, 100 * index, 0, -1e12))
        header["DATE-OBS"] = random.choice((f"2026-03-01T21:00:{index:02}", "?", "1-1-1"))
        buffer = io.BytesIO()
        pixels = light if random.random() < 0.1 else np.nan_to_num(np.clip(light, 0, 65535)).astype(np.uint16)
        fits.PrimaryHDU(pixels, header).writeto(buffer)
        made = buffer.getvalue()
        broken = random.random() < 0.15
        (place / f"{index}.fits").write_bytes(changed_fits(made, random) if broken else made)
    return place


_MOUNT = SimulatedMount(seconds=400, dither_every_s=90)
GUIDE_LOG = log_text(_MOUNT, simulated(_MOUNT)).encode()
"""A short guided run with its calibration, to be changed."""


def _draft(path: Path) -> None:
    """Draft a rig from a folder of frames; what was drafted can be opened."""
    out = path.parent / "drafted.rig.json"
    run_command("draft", str(path), "--out", str(out), "--json")
    if out.exists():
        refuse_in_a_line(load, out)


def _tree(folder: Path, random: Random) -> Path:
    root = make_tree(folder / "root", clean_tree(), usbfs_memory_mb=random.choice((0, 16, 256)))
    files = sorted(path for path in root.rglob("*") if path.is_file() and not path.is_symlink())
    for path in random.sample(files, k=min(len(files), random.choice((1, 3, 12)))):
        match random.randrange(4):
            case 0:
                path.unlink()
                os.mkfifo(path)
            case 1:
                path.write_bytes(changed_bytes(path.read_bytes() or b"1", random))
            case 2:
                path.write_bytes(str(hostile_value(random)).encode("utf-8", "replace"))
            case _:
                path.unlink()
    return root


def _log(random: Random) -> bytes:
    log = cooling_csv(cooling_run(SimulatedCamera(), ambient_c=18, target_c=-10))
    return changed_text("\n".join(log.split("\n")[:200]).encode(), random)


def _runs(random: Random) -> bytes:
    rows = ["position,hfd_px,temperature_c,filter,run,time"]
    rows += [f"{20 * k},{2 + abs(k - 4) * 0.9:.2f},{8 - k / 9:.1f},L,a,2026-11-20T20:00:{k:02}" for k in range(9)]
    return changed_text("\n".join(rows).encode(), random)


def _journal(folder: Path, random: Random) -> Path:
    document = {"rig_path": "/nowhere/a.rig.json", "sha256": "0" * 64, "rig": clean_document()}
    name = random.choice(("1-2", "²-①", "1", "-", f"{10**30}-1", "x\udcff-3"))
    (folder / f"{name}.journal.json").write_bytes(changed_document(document, random))
    return folder


def _state(folder: Path, random: Random) -> Path:
    document = {"geometry": "AdnQywAD", "below": "AAA=", "step": "scales", "recent": ["/a"], "text": 1.0, "band": 300}
    (folder / "window.json").write_bytes(changed_document(document, random))
    return folder


def _read_state(folder: Path) -> None:
    from wyntaxis.desk.window_state import WindowState

    state = WindowState(folder)
    for key in ("geometry", "below", "step", "text", "band", "recent"):
        state.word(key, "")
        state.state(key)
        if not 1 <= state.number(key, 1.0, 1.0, 2.0) <= 2:
            raise BrokenPromiseError(f"{key} is out of its range")
    if len(state.recent) > 9:
        raise BrokenPromiseError("more rigs are remembered than there are")


def _command(*words: str) -> Callable[[Path], None]:
    def check(path: Path) -> None:
        good = str(path.parent / GOOD)
        if not Path(good).exists():
            Path(good).write_text(json.dumps(clean_document()), "utf-8")
        run_command(*(good if word == "RIG" else str(path) if word == "INPUT" else word for word in words))

    return check


def _history(folder: Path, random: Random) -> Path:
    """A rig whose history of a few saves has been damaged."""
    path = folder / "in.rig.json"
    for gain in (100, 110, 120):
        document = clean_document()
        document["devices"][0]["settings"]["gain"]["value"] = gain
        save_with_history(validated(document), path, (f"Gain {gain}",))
    place = history_path(path)
    place.write_bytes(changed_bytes(place.read_bytes(), random))
    return path


def _dossier(path: Path) -> None:
    """Write a rig's dossier as HTML, and as a private CSV."""
    for more in (["--out", str(path.parent / "d.html")], ["--out", str(path.parent / "d.csv"), "--private"]):
        run_command("dossier", str(path), *more)


def _zip(folder: Path, random: Random) -> Path:
    """A file of everything that has been damaged."""
    path = folder / "in.rig.json"
    if not path.exists():
        path.write_text(json.dumps(clean_document()), "utf-8")
        with contextlib.redirect_stdout(io.StringIO()):
            main(["dossier", str(path), "--out", str(folder / "whole.zip")])
    place = folder / "in.zip"
    place.write_bytes(changed_bytes((folder / "whole.zip").read_bytes(), random))
    return place


def _unpacked(path: Path) -> None:
    out = path.parent / "unpacked"
    run_command("unpack", str(path), "--out", str(out))
    shutil.rmtree(out, ignore_errors=True)


def readers() -> list[Reader]:
    """Return every reader under trial."""
    found = [
        Reader(f"rig {command}", _file("in.rig.json", _rig), _command(command, "INPUT", "--json"))
        for command in ("check", "numbers", "ready", "records", "footprint", "spacers")
    ]
    shelf = json.loads(STARTER.read_text("utf-8"))
    small = shelf | {"parts": shelf["parts"][:6]}
    table = to_csv(load_shelf(STARTER))
    found += [
        Reader("shelf json", _file("s.json", partial(changed_document, small)), partial(refuse_in_a_line, load_shelf)),
        Reader("shelf csv", _file("s.csv", partial(changed_text, table)), partial(refuse_in_a_line, load_shelf)),
        Reader("key maps", _file("k.json", partial(changed_document, MAPS)), partial(refuse_in_a_line, load_maps)),
        Reader(
            "filter names",
            _file("f.json", partial(changed_document, {"names": {"L": ["lum", "luminance"], "Ha": ["h-alpha"]}})),
            partial(refuse_in_a_line, load_filter_names),
        ),
        Reader("horizon", _file("h.csv", partial(changed_text, HORIZON)), partial(refuse_in_a_line, read_horizon)),
        Reader(
            "profile json", _file("p.json", partial(changed_document, PROFILE)), _command("paths", "INPUT", "--json")
        ),
        Reader(
            "record",
            _file("p.json", partial(changed_document, PROFILE)),
            _command("records", "RIG", "--with", "INPUT", "--map", "m", "--json"),
        ),
        Reader("frame headers", _frames, _command("headers", "RIG", "INPUT", "--json")),
        Reader("draft", _frames, _draft),
        Reader("bench", _frames, _command("sensor", "RIG", "INPUT", "--json")),
        Reader("focus frames", _frames, _command("focus", "RIG", "INPUT", "--json")),
        Reader("focus table", _file("runs.csv", _runs), _command("focus", "RIG", "INPUT", "--json")),
        Reader("stars", _frames, _command("stars", "RIG", "INPUT", "--json")),
        Reader("flats", _lit_frames, _command("filters", "RIG", "INPUT", "--json")),
        Reader("sweep", _lit_frames, _command("field", "RIG", "INPUT", "--json")),
        Reader(
            "guide log", _file("g.csv", partial(changed_text, GUIDE_LOG)), _command("guide", "RIG", "INPUT", "--json")
        ),
        Reader("history", _history, _command("history", "INPUT", "--json")),
        Reader("differ", _history, _command("differ", "INPUT", "--since", "2031-01-01", "--json")),
        Reader("dossier", _file("in.rig.json", _rig), _dossier),
        Reader("zip", _zip, _unpacked),
        Reader("proofs", _file("in.rig.json", _rig), _command("proofs", "INPUT", "--json")),
        Reader("night", _file("in.rig.json", _rig), _command("rehearse", "INPUT", "--date", "2031-01-01", "--json")),
        Reader(
            "solved frame",
            _file("a.fits", lambda random: changed_fits(_frame(random), random)),
            _command("scale", "RIG", "INPUT", "--json"),
        ),
        Reader(
            "fits paths",
            _file("a.fits", lambda random: changed_fits(_frame(random), random)),
            _command("paths", "INPUT", "--json"),
        ),
        Reader("cooling log", _file("log.csv", _log), _command("cooling", "RIG", "INPUT", "--json")),
        Reader("ports", _tree, _command("ports", "RIG", "--sysfs", "INPUT", "--json")),
        Reader("journals", _journal, lambda folder: find_left_behind(folder) and None),
        Reader("window state", _state, _read_state),
    ]
    found += [
        Reader(f"profile {form}", _file(f"p.{form}", partial(changed_text, data)), _command("paths", "INPUT", "--json"))
        for form, data in FORMS.items()
    ]
    return found
