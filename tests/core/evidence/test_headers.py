"""The audit of frames' headers: what each says, groups, partners, differences, broken files."""

import csv
import io
import json

import numpy as np
import pytest
from astropy.io import fits

from tests.rigs import clean_document
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.headers.folder import FolderHeaders, find_frames, read_folder
from wyntaxis.core.evidence.headers.headers import frame_header
from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.evidence.headers.names import load_filter_names
from wyntaxis.core.evidence.headers.partners import group_frames, missing_calibration
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.records.audit import audit
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.store import validated

GOOD = {
    "INSTRUME": "Pellucid Grand",
    "IMAGETYP": "LIGHT",
    "FILTER": "L",
    "EXPTIME": 300.0,
    "GAIN": 100,
    "OFFSET": 50,
    "SET-TEMP": -10.0,
    "CCD-TEMP": -9.9,
    "XBINNING": 1,
    "XPIXSZ": 3.9,
    "FOCALLEN": 513.8,
    "SITELAT": "47 18 00",
    "SITELONG": "11 06 00",
}


def header(**changes):
    found = fits.Header()
    for key, value in (GOOD | {k.replace("_", "-"): v for k, v in changes.items()}).items():
        if value is not None:
            found[key] = value
    return found


def write(path, *, shape=(4, 6), **changes):
    path.parent.mkdir(parents=True, exist_ok=True)
    fits.PrimaryHDU(np.zeros(shape, np.uint16), header(**changes)).writeto(path)


@pytest.fixture(scope="module")
def rig():
    return validated(clean_document() | {"observer": "Ada Marl"})


def entries(*frames):
    """Headers as if a folder of such frames had been read."""
    return FolderHeaders("frames", tuple(frame_header(one, f"{n}.fits") for n, one in enumerate(frames)), ())


def audited(rig, *frames):
    return audit(evaluate(rig), entries(*frames))


def test_what_a_header_says():
    found = frame_header(header(EXPTIME=30.2, EXPOSURE=30.0, NAXIS1=6000, NAXIS2=4000), "a.fits")
    assert (found.kind, found.filter, found.gain, found.binning) == ("light", "L", 100, 1)
    assert (found.exposure_s, found.asked_s) == (30.2, 30)
    assert found.latitude_deg == pytest.approx(47.3)
    kinds = {"Dark Frame": "dark", "FLAT": "flat", "Bias": "bias", "zero": "bias", "light frame": "light", "": "other"}
    for word, kind in kinds.items():
        assert frame_header(header(IMAGETYP=word or None), "a").kind == kind


@pytest.mark.parametrize(("word", "name"), [("None", None), ("no filter", None), ("Nonet", "Nonet"), ("L", "L")])
def test_a_filter_that_is_none_in_words_is_none(word, name):
    assert frame_header(header(FILTER=word), "a.fits").filter == name


@pytest.mark.parametrize(
    "keys",
    [
        {"CD1_1": -4e-4, "CD1_2": 0.0, "CD2_1": 0.0, "CD2_2": 4e-4},
        {"CDELT1": -4e-4, "CDELT2": 4e-4},
        {"CDELT1": -4e-4, "CDELT2": 4e-4, "PC1_1": 0.6, "PC1_2": -0.8, "PC2_1": 0.8, "PC2_2": 0.6},
    ],
)
def test_the_scale_of_a_solved_header(keys):
    solved = header(CTYPE1="RA---TAN", CTYPE2="DEC--TAN", **{k.replace("_", "-"): v for k, v in keys.items()})
    for key, value in keys.items():
        solved[key] = value
    assert frame_header(solved, "a").scale_arcsec_px == pytest.approx(1.44)
    assert frame_header(header(), "a").scale_arcsec_px is None


@pytest.mark.parametrize(
    "changes, keyword, verdict, words",
    [
        ({"FOCALLEN": 676.0}, "FOCALLEN", "fails", "1.316 times, 1/0.76: the reducer Aldous 0.76x is missing"),
        ({"GAIN": 0}, "GAIN", "fails", ""),
        ({"OFFSET": 10}, "OFFSET", "fails", ""),
        ({"SET_TEMP": 0.0}, "SET-TEMP", "fails", ""),
        ({"XPIXSZ": 7.8, "XBINNING": 2}, "XPIXSZ at binning 2", "tight", "XPIXSZ is the binned size, 3.9 µm × 2"),
        ({"XPIXSZ": 7.8}, "XPIXSZ at binning 1", "fails", "2 times: the binned pixel size"),
        ({"INSTRUME": "Limpid 12"}, "INSTRUME", "fails", "no camera of the rig has this name"),
        ({"FILTER": "SII"}, "FILTER", "fails", "no slot of the wheel has this filter"),
        ({"SITELAT": "-47 18 00"}, "SITELAT", "fails", "the sign is the other way round"),
        ({"SITELAT": "47 18 00 S"}, "SITELAT", "fails", "the sign is the other way round"),
        ({"SITELONG": "11 06 00 W"}, "SITELONG", "fails", "the sign is the other way round"),
        ({"TELESCOP": "Meadow 203"}, "TELESCOP", "fails", "that is another telescope"),
        ({"OBSERVER": "Ida Quill"}, "OBSERVER", "fails", "that is another observer"),
        ({"SITENAME": "Fenbridge"}, "SITENAME", "fails", "that is another site"),
        ({"SITEELEV": 124.0}, "SITEELEV", "fails", ""),
    ],
)
def test_differences_are_told_with_their_story(rig, changes, keyword, verdict, words):
    clean = audited(rig, header())
    assert {check.verdict.value for check in clean.checks} == {"holds"}
    found = audited(rig, header(), header(**changes))
    entries = [check for check in found.checks if check.verdict != "holds"]
    assert [(check.keyword, check.verdict.value, check.count) for check in entries] == [(keyword, verdict, 1)]
    assert words in entries[0].story


def test_a_binned_solved_frame_is_told_for_the_binning_in_use(rig):
    keys = {"CTYPE1": "RA---TAN", "CTYPE2": "DEC--TAN", "CDELT1": -1.565775 / 1800, "CDELT2": 1.565775 / 1800}
    found = audited(rig, header(XBINNING=2, XPIXSZ=3.9, **keys))
    assert [c.verdict.value for c in found.checks if c.keyword == "WCS"] == ["holds"]


PARTNERS = [
    ({}, set(), ""),
    ({"GAIN": 120}, {"dark", "bias"}, "gain 120, not 100"),
    ({"SET_TEMP": -5.0}, {"dark"}, "−5 °C, not −10 °C"),
    ({"EXPTIME": 120.0}, {"dark"}, "120 s, not 300 s"),
    ({"FILTER": "R"}, {"flat"}, "filter R, not L"),
    ({"XBINNING": 2}, {"dark", "flat", "bias"}, "binning 2, not 1"),
    ({"INSTRUME": "Other"}, {"dark", "flat", "bias"}, "camera Other, not Pellucid Grand"),
    ({"ROTATANG": 90.0}, {"flat"}, "rotated to 90°, not 10°"),
    ({"EXPTIME": 303.0}, set(), ""),
    ({"SET_TEMP": None, "CCD_TEMP": None}, set(), ""),
]


@pytest.mark.parametrize("changes, lacks, words", PARTNERS, ids=[str(row[0]) for row in PARTNERS])
def test_lights_lack_what_does_not_match(changes, lacks, words):
    """All calibration frames are changed alike; what a light lacks, and why, follows."""
    frames = [header(ROTATANG=10.0)]
    for kind in ("DARK", "FLAT", "BIAS"):
        frames.append(header(**({"ROTATANG": 10.0} | changes | {"IMAGETYP": kind})))
    groups = group_frames(frame_header(one, str(i)) for i, one in enumerate(frames))
    assert [group.kind for group in groups] == ["light", "flat", "dark", "bias"]
    found = missing_calibration(groups)
    assert {lack.kind for lack in found} == lacks
    assert all(words in lack.reason for lack in found)


def temperatures(lights, darks, asked=(-10.0, -10.0)):
    """What lights lack whose sensor had some temperatures, beside darks with others; the bias and flat fit."""
    frames = [header(SET_TEMP=asked[0], CCD_TEMP=one) for one in lights]
    frames += [header(IMAGETYP="DARK", SET_TEMP=asked[1], CCD_TEMP=one) for one in darks]
    frames += [header(IMAGETYP=kind) for kind in ("FLAT", "BIAS")]
    return missing_calibration(group_frames(frame_header(one, str(i)) for i, one in enumerate(frames)))


@pytest.mark.parametrize(
    ("lights", "darks", "asked", "words"),
    [
        ([-10.0, -9.9], [-10.1], (-10, -10), ""),
        ([16.0, 16.2], [-10.0], (-10, -10), "the sensor at −10.0 °C, not 16.1 °C"),  # the cooler was off
        ([-10.0], [16.0], (-10, -10), "the sensor at 16.0 °C, not −10.0 °C"),
        ([16.0], [16.5], (-10, -10), ""),  # darks taken likewise serve
        ([-8.0], [-8.1], (-10, -8), ""),  # what the sensor had decides, whatever was set
        ([-10.0], [-9.0], (-10, -10), ""),
        ([-10.0], [-8.99], (-10, -10), "the sensor at −9.0 °C"),
        ([-10.0, -10.0, -10.0, -7.9], [-10.0], (-10, -10), "1 of 4 lights are more than 2 °C away"),
        ([None], [-10.0], (-10, -10), ""),
        ([None], [-10.0], (-12, -10), "−10 °C, not −12 °C"),
    ],
)
def test_darks_go_by_what_the_sensor_had(lights, darks, asked, words):
    """The odd one first, in the middle or last: the order of frames changes nothing."""
    for order in (lights, lights[::-1], [*lights[1:], *lights[:1]]):
        found = temperatures(order, darks, asked)
        assert [lack.kind for lack in found] == (["dark"] if words else [])
        assert all(words in lack.reason for lack in found)


@pytest.mark.parametrize("order", [1, -1])
def test_lights_far_warmer_than_was_set_say_that_the_cooler_was_off(rig, order):
    lights = [header(CCD_TEMP=16.0), header(CCD_TEMP=15.5), header(CCD_TEMP=-9.9)][::order]
    evaluation = evaluate(rig, Evidence().having(HEADERS, entries(*lights)))
    assert evaluation.finding("cooling.on").verdict == "fails"
    assert "lights are up to 26 °C warmer than the set temperature" in evaluation.finding("cooling.on").title
    assert evaluation.finding("cooling.setpoint").remedy.text.startswith("The cooler was off: switch it on")
    alone = evaluate(rig, Evidence().having(HEADERS, entries(header(SET_TEMP=None, CCD_TEMP=16.0))))
    assert alone.finding("cooling.on").verdict == "fails", "against the rig's set temperature where none is told"


def test_the_order_of_the_cameras_does_not_matter_to_whose_frames_they_are(rig):
    document = rig.model_dump(mode="json", exclude_unset=True)
    camera = next(own for own in document["devices"] if own["kind"] == "camera")
    camera = {key: camera[key] for key in ("id", "kind", "name", "settings")}
    guide = {"id": "guide", "kind": "guide_camera", "settings": {"set_temperature_c": {"value": -2}}}
    reported_ = []
    for devices in ([guide, camera], [camera, guide]):
        own = validated(document | {"devices": devices, "records": []})
        found = evaluate(own, Evidence().having(HEADERS, entries(header(CCD_TEMP=-10.0)))).findings
        reported_.append({(f.subject, f.verdict) for f in found if f.id == "cooling.setpoint"})
    assert reported_[0] == reported_[1] == {(camera["id"], "holds"), ("guide", "unproven")}


def test_without_calibration_frames_all_are_lacking():
    groups = group_frames([frame_header(header(), "a"), frame_header(header(), "b")])
    assert [(lack.lights.count, lack.kind) for lack in missing_calibration(groups)] == [
        (2, "dark"),
        (2, "flat"),
        (2, "bias"),
    ]
    assert groups[0].title == "light, L, 300 s, gain 100, offset 50, −10 °C"


@pytest.fixture
def folder(tmp_path):
    root = tmp_path / "frames"
    write(root / "night" / "a.fits", EXPTIME=30.2, EXPOSURE=30.0)
    write(root / "night" / "b.fits.gz", **{"CCD-TEMP": -3.0})
    write(root / "dark.fit", IMAGETYP="DARK")
    image = fits.CompImageHDU(np.arange(24, dtype=np.int16).reshape(4, 6), header=header(FILTER="R"))
    fits.HDUList([fits.PrimaryHDU(), image]).writeto(root / "packed.fits")
    first = fits.PrimaryHDU()
    first.header["GAIN"] = 100
    fits.HDUList([first, fits.ImageHDU(np.zeros((4, 6)), header(GAIN=None))]).writeto(root / "multi.fts")
    (root / "noise.fits").write_bytes(b"no frame at all" * 400)
    whole = (root / "dark.fit").read_bytes()
    (root / "cut.fits").write_bytes(whole[:1000])
    (root / "short.fits").write_bytes(whole[:2900])
    (root / "empty.fits").write_bytes(b"")
    (root / "notes.txt").write_text("none", "utf-8")
    return root


def test_a_folder_is_read_with_what_is_broken(folder, rig):
    seen = []
    found = read_folder(folder, lambda done, of: seen.append((done, of)))
    assert seen[-1] == (9, 9)
    assert {frame.path for frame in found.frames} == {
        "dark.fit",
        "multi.fts",
        "night/a.fits",
        "night/b.fits.gz",
        "packed.fits",
    }
    assert {(f.width_px, f.height_px, f.gain) for f in found.frames} == {(6, 4, 100)}
    assert {one.path for one in found.broken} == {"noise.fits", "cut.fits", "empty.fits", "short.fits"}
    assert all("\n" not in one.why and one.why for one in found.broken)
    result = audit(evaluate(rig), found)
    assert [(one.asked_s, one.actual_s, one.count) for one in result.exposures] == [(30.0, 30.2, 1)]
    evaluation = evaluate(rig, Evidence().having(HEADERS, found))
    assert evaluation.finding("cooling.setpoint").verdict == "fails"
    assert "−3.0 °C" in evaluation.finding("cooling.setpoint").title
    assert evaluation.finding("frames.broken").title == "4 of 9 files cannot be read"
    assert evaluation.finding("frames.partners").verdict == "fails"
    assert json.loads(json.dumps(result.as_json()))["frames"] == 5
    rows = list(csv.DictReader(io.StringIO(result.as_csv())))
    assert len(rows) == 9
    assert next(row for row in rows if row["path"] == "night/a.fits")["lacks"] == "dark flat bias"


def test_frames_are_held_to_their_own_set_temperature(rig):
    library = [header(IMAGETYP="DARK", SET_TEMP=t, CCD_TEMP=t + 0.1) for t in (-10.0, 0.0, 10.0)]
    finding = evaluate(rig, Evidence().having(HEADERS, entries(*library))).finding("cooling.setpoint")
    assert finding.verdict == "holds"
    library.append(header(IMAGETYP="DARK", SET_TEMP=-20.0, CCD_TEMP=-14.0))
    finding = evaluate(rig, Evidence().having(HEADERS, entries(*library))).finding("cooling.setpoint")
    assert (finding.verdict, finding.title) == (
        "fails",
        "Pellucid Grand: −20.0 °C was not reached in 1 of 4 frames: −14.0 °C",
    )


def test_a_folder_that_holds_nothing_or_is_none(tmp_path):
    for path, words in ((tmp_path, "holds no FITS files"), (tmp_path / "gone", "is not there")):
        with pytest.raises(InputError, match=words):
            find_frames(path)


@pytest.mark.slow
def test_many_files_are_read_in_parallel_and_the_reading_can_be_ended(tmp_path):
    write(tmp_path / "0.fits")
    data = (tmp_path / "0.fits").read_bytes()
    for index in range(1, 700):
        (tmp_path / f"{index}.fits").write_bytes(data)
    found = read_folder(tmp_path)
    assert len(found.frames) == 700
    assert [frame.path for frame in found.frames[:3]] == ["0.fits", "1.fits", "10.fits"]

    class EndedError(Exception):
        pass

    def end(done, _of):
        if done:
            raise EndedError

    with pytest.raises(EndedError):
        read_folder(tmp_path, end)


def test_the_audit_is_kept_until_the_rig_changes_in_what_it_tells(folder, rig):
    gathered = Evidence().having(HEADERS, read_folder(folder))
    first = evaluate(rig, gathered).frames
    renamed = edit.apply(rig, edit.Change.of("Name", ("name",), "other"))
    assert evaluate(renamed, gathered).frames is first
    gain = edit.apply(rig, edit.Change.of("Gain", ("devices", 0, "settings", "gain", "value"), 0.0))
    assert evaluate(gain, gathered).frames is not first


@pytest.mark.parametrize(
    "light, calibration, lacks",
    [
        ({}, {}, []),
        ({"INSTRUME": "PELLUCID grand"}, {}, []),  # one rule for names: capitals do not count
        ({"INSTRUME": "Maker Pellucid Grand"}, {}, []),
        ({"INSTRUME": "Limpid 12"}, {}, ["bias", "dark", "flat"]),
        ({"FILTER": "HA"}, {"FILTER": "Ha"}, []),
        ({"FILTER": "Luminance"}, {"FILTER": "Lum"}, []),
        ({"FILTER": "H-alpha"}, {"FILTER": "Ha"}, []),
        ({"FILTER": "R"}, {"FILTER": "L"}, ["flat"]),
        ({"FILTER": "Night"}, {"FILTER": "own"}, []),  # by the imager's own table
        ({"ROTATANG": 359.0}, {"ROTATANG": 0.5}, []),  # angles wrap
        ({"ROTATANG": 359.0}, {"ROTATANG": 1.1}, ["flat"]),
    ],
)
def test_names_and_angles_of_lights_and_their_partners(light, calibration, lacks, tmp_path, monkeypatch):
    own = {"format": "wyntaxis-filter-names", "names": {"Own": ["Night"]}}
    (tmp_path / "wyntaxis").mkdir()
    (tmp_path / "wyntaxis" / "filter-names.json").write_text(json.dumps(own), "utf-8")
    names = load_filter_names(tmp_path / "wyntaxis" / "filter-names.json")
    frames = [header(**light)]
    frames += [header(IMAGETYP="DARK", **calibration), header(IMAGETYP="BIAS", EXPTIME=0.0)]
    frames += [header(IMAGETYP="FLAT", EXPTIME=2.0, **calibration)]
    groups = group_frames([frame_header(one, str(n)) for n, one in enumerate(frames)], names)
    assert sorted(lack.kind for lack in missing_calibration(groups, names)) == lacks


def test_a_broken_table_of_filter_names_is_told(tmp_path):
    path = tmp_path / "filter-names.json"
    path.write_text('{"format": "wyntaxis-filter-names", "names": {"L": 5}}', "utf-8")
    with pytest.raises(InputError, match=r"filter-names.json: names.L: must be a list"):
        load_filter_names(path)


@pytest.mark.parametrize(
    "dark_c, lacks", [((11.0, 14.0), []), ((10.0, 14.0), []), ((9.9, 14.1), ["dark"]), ((), ["dark"])]
)
def test_an_uncooled_cameras_darks_match_by_what_the_sensor_had(dark_c, lacks):
    """Lights from 12.0 to 15.5 °C: every one needs a dark within 2 °C of its own temperature."""
    lights = [header(SET_TEMP=None, CCD_TEMP=t) for t in (12.0, 13.7, 15.5)]
    darks = [header(IMAGETYP="DARK", SET_TEMP=None, CCD_TEMP=t) for t in dark_c]
    others = [header(IMAGETYP="BIAS", SET_TEMP=None), header(IMAGETYP="FLAT", SET_TEMP=None)]
    groups = group_frames([frame_header(h, str(n)) for n, h in enumerate([*lights, *darks, *others])])
    found = missing_calibration(groups)
    assert [lack.kind for lack in found] == lacks
    if lacks and dark_c:
        assert "1 of 3 lights are more than 2 °C away" in found[0].reason


def test_each_frame_has_its_verdict_in_the_csv(rig):
    found = audited(rig, header(), header(GAIN=7), header(IMAGETYP="BIAS", EXPTIME=0.0))
    rows = list(csv.DictReader(io.StringIO(found.as_csv())))
    assert [row["verdict"] for row in rows] == ["fails", "fails", "holds"]
    assert rows[0]["why"] == "no matching dark; no matching flat"
    assert rows[1]["why"].startswith("GAIN 7, rig 100; no matching dark")


def test_camera_raw_files_that_cannot_be_read_are_counted(tmp_path, monkeypatch):
    monkeypatch.setattr("wyntaxis.core.files.camera_raw.can_read", lambda: False)
    write(tmp_path / "a.fits")
    for name in ("b.NEF", "c.cr3", "d.txt"):
        (tmp_path / name).write_bytes(b"x")
    found = read_folder(tmp_path)
    assert found.raw_files == 2
    assert found.skipped.startswith("2 camera-raw files are beside the frames and not read; install the extra")
    (tmp_path / "a.fits").unlink()
    with pytest.raises(InputError, match="2 camera-raw files are there"):
        read_folder(tmp_path)
