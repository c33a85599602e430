"""Whatever is opened is read in bounded work: each of these hung, took gigabytes, or minutes."""

import gzip
import os
import time

import numpy as np
import pytest
from astropy.io import fits

from tests.core.evidence.test_headers import write
from tests.rigs import clean_document, clean_tree
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.cooling.log import read_cooling_log
from wyntaxis.core.evidence.foreign import keymap
from wyntaxis.core.evidence.foreign.keymap import KeyMap, KeyMaps, KeyRule, matches, stable_path
from wyntaxis.core.evidence.foreign.readers import ForeignFile, read_foreign
from wyntaxis.core.evidence.headers.folder import read_folder
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.evidence.scale.image_scale import read_solved_frame
from wyntaxis.core.evidence.sensor.strips import open_frame
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.fits import check_structure, data_bytes, headers_of
from wyntaxis.core.rig.store import validated
from wyntaxis.simulators.usb import make_tree

SECONDS = 90.0
"""No measure of speed: what is tried here took minutes or gigabytes, or never ended."""


@pytest.fixture(autouse=True)
def in_time():
    started = time.monotonic()
    yield
    assert time.monotonic() - started < SECONDS


def card(keyword, value):
    return f"{keyword:<8}= {value:>20}".encode().ljust(80)


def header(*cards):
    head = b"".join((card("SIMPLE", "T"), card("BITPIX", 16), *cards)) + b"END".ljust(80)
    return head.ljust(-(-len(head) // 2880) * 2880)


def test_a_pipe_named_as_a_frame_is_told_and_not_waited_for(tmp_path):
    write(tmp_path / "b.fits")
    os.mkfifo(tmp_path / "a.fits")
    found = read_folder(tmp_path)
    assert [(one.path, one.why) for one in found.broken] == [("a.fits", "is not a regular file")]
    assert len(found.frames) == 1


AXES = header(card("NAXIS", 10**9))
FRAMES = {
    "axes": (AXES, "NAXIS = 1000000000"),
    "many digits": (header(card("NAXIS", "9" * 30)), "NAXIS = 1000000000000000000"),
    "twice": (header(card("NAXIS", 2), card("NAXIS1", 4), card("NAXIS2", 4), card("NAXIS", 9)), "is there twice"),
    "pixels": (header(card("NAXIS", 2), card("NAXIS1", 10**9), card("NAXIS2", 10**9)), "more pixels than any frame"),
    "sample": (header(card("NAXIS", 0)).replace(card("BITPIX", 16), card("BITPIX", -1)), "BITPIX = -1 is none of"),
    "below nothing": (header(card("NAXIS", 2), card("NAXIS1", -5), card("NAXIS2", 4)), "more pixels than any frame"),
    "distortion": (header(card("NAXIS", 0), card("A_ORDER", 10**8)), "A_ORDER = 100000000 is out of reason"),
    "world axes": (header(card("NAXIS", 0), card("WCSAXES", 10**8)), "WCSAXES = 100000000 is out of reason"),
    "no end": (header(card("NAXIS", 0))[:2800], "ends within its header"),
    "packed, no end": (gzip.compress(card("SIMPLE", "T") + b" " * (40 << 20)), "no end within 4 MB"),
    "packed pixels": (gzip.compress(header(card("NAXIS", 1), card("NAXIS1", 2 << 30))), "would unpack to 4096 MB"),
}


@pytest.mark.parametrize("reader", [check_structure, read_foreign, read_solved_frame, lambda p: list(headers_of(p))])
@pytest.mark.parametrize(("data", "words"), FRAMES.values(), ids=FRAMES)
def test_a_header_out_of_reason_is_refused_by_every_reader(tmp_path, data, words, reader):
    path = tmp_path / ("a.fits.gz" if data.startswith(b"\x1f\x8b") else "a.fits")
    path.write_bytes(data)
    with pytest.raises(InputError, match=words):
        reader(path)


@pytest.mark.parametrize(("data", "words"), FRAMES.values(), ids=FRAMES)
def test_a_folder_with_such_a_frame_is_read(tmp_path, data, words):
    write(tmp_path / "good.fits")
    (tmp_path / ("a.fits.gz" if data.startswith(b"\x1f\x8b") else "a.fits")).write_bytes(data)
    found = read_folder(tmp_path)
    assert len(found.frames) == 1
    assert words in found.broken[0].why
    with pytest.raises(InputError), open_frame(tmp_path / found.broken[0].path):
        pass


def test_what_a_header_announces():
    assert data_bytes(header(card("NAXIS", 2), card("NAXIS1", 4), card("NAXIS2", 6))) == 48
    assert data_bytes(header(card("NAXIS", 0))) == 0
    assert data_bytes(header(card("NAXIS", 1), card("NAXIS1", 10), card("PCOUNT", 5), card("GCOUNT", 2))) == 50


def test_several_extensions_are_still_read(tmp_path):
    image = fits.CompImageHDU(np.arange(10_000, dtype=np.int16).reshape(100, 100))
    fits.HDUList([fits.PrimaryHDU(), image, fits.ImageHDU(np.zeros((3, 3)))]).writeto(tmp_path / "a.fits")
    assert len(list(headers_of(tmp_path / "a.fits"))) == 3
    with gzip.open(tmp_path / "b.fits.gz", "wb") as packed:
        packed.write((tmp_path / "a.fits").read_bytes())
    assert len(list(headers_of(tmp_path / "b.fits.gz"))) == 3


TEXTS = {
    "a long dotted key": ("a.toml", "a." * 60_000 + "a = 1", "levels deep"),
    "a long dotted table": ("a.toml", "[" + ".".join(["a"] * 60_000) + "]\n", "levels deep"),
    "a TOML of one long word": ("a.toml", "1" + "0" * 400_000, "is no readable TOML"),
    "a large TOML": ("a.toml", "a = [" + "1," * 800_000 + "]", "more than 1 MB"),
    "a large YAML": ("a.yaml", "- a\n" * 300_000, "more than 1 MB"),
    "many YAML nodes": ("a.yaml", "[" + "a," * 400_000 + "a]", "aliases or levels|more than 20000"),
    "defaults times sections": (
        "a.ini",
        "[DEFAULT]\n"
        + "".join(f"k{i} = 1\n" for i in range(10_000))
        + "".join(f"[s{i}]\na=1\n" for i in range(10_000)),
        "",
    ),
    "a wide CSV": ("a.csv", ("a," * 4000 + "\n") * 900, ""),
    "a long CSV": ("a.csv", "a,b\n" * 1_900_000, ""),
}


@pytest.mark.parametrize(("name", "text", "words"), TEXTS.values(), ids=TEXTS)
def test_settings_files_that_took_minutes(tmp_path, name, text, words):
    (tmp_path / name).write_text(text, "utf-8")
    if not words:
        assert len(read_foreign(tmp_path / name).values) <= 20_000
        return
    with pytest.raises(InputError, match=words):
        read_foreign(tmp_path / name)


def test_an_ini_keeps_its_defaults_as_a_section(tmp_path):
    (tmp_path / "a.ini").write_text("[DEFAULT]\na = 1\n[s]\nb = 2\n", "utf-8")
    assert read_foreign(tmp_path / "a.ini").values == {"DEFAULT.a": "1", "s.b": "2"}


@pytest.mark.parametrize(
    ("pattern", "path", "fits_it"),
    [
        ("slot*.name", "slot12.name", True),
        ("slot*name", "slot1name", True),
        ("slot*.name", "slot1.x.name", False),
        ("*[*].gain", "filters[3].gain", True),
        ("*a*b*c*", "xxaxxbxxcxx", True),
        ("*a*b*c*", "xxbxxaxxcxx", False),
        ("a*a", "a", False),
        ("a*a", "aa", True),
        ("*" * 900, "abc", True),
        ("*a" * 400 + "b", "a" * 2000, False),
    ],
)
def test_stars_of_a_key_map_need_no_second_try(pattern, path, fits_it):
    assert (matches(pattern, {path: 1.0}) == [path]) is fits_it


def test_a_key_map_of_stars_over_a_large_file_ends(monkeypatch):
    monkeypatch.setattr(keymap, "MAX_SECONDS", 0.5)
    values = {f"{'a' * 60}{index}.b": 1.0 for index in range(20_000)}
    rules = tuple(KeyRule(path=f"{'*a' * (20 + index)}*.b", quantity="gain") for index in range(100))
    maps = KeyMaps(maps=tuple(KeyMap(name=f"m{index}", form="any", rules=rules) for index in range(20)))
    with pytest.raises(InputError, match=r"took more than 0.5 s; name the map"):
        maps.suiting(ForeignFile("json", values, "a"))


def test_paths_of_a_large_table_are_found_in_time(tmp_path):
    rows = "name,value,unit\n" + "".join(f"k{index},1,mm\n" for index in range(6000))
    (tmp_path / "a.csv").write_text(rows, "utf-8")
    values = read_foreign(tmp_path / "a.csv").values
    assert len({stable_path(path, values) for path in values}) == len(values)


def test_a_log_of_millions_of_rows(tmp_path):
    (tmp_path / "log.csv").write_text("time,sensor,power\n" + "1,2\n" * 7_000_000, "utf-8")
    with pytest.raises(InputError, match="more than 200000 rows"):
        read_cooling_log(tmp_path / "log.csv")


def test_a_bus_of_1500_devices(tmp_path):
    tree = clean_tree()
    many = [*tree, *(dict(tree[-1], name=f"1-1.{number}", devnum=number) for number in range(5, 1500))]
    evaluation = evaluate(
        validated(clean_document()), Evidence().having(PORTS, PORTS.read(make_tree(tmp_path / "r", many)))
    )
    entries = [finding for finding in evaluation.findings if finding.id == "ports.identity"]
    assert len(entries) == 1
    assert "devices on the bus are" in entries[0].title
    assert len(entries[0].arithmetic) <= 13


def test_a_folder_that_may_not_be_read_is_not_an_empty_one(tmp_path):
    if os.geteuid() == 0:
        pytest.skip("root may read everything")
    (tmp_path / "frames").mkdir(mode=0)
    with pytest.raises(InputError, match="cannot be read"):
        read_folder(tmp_path / "frames")
