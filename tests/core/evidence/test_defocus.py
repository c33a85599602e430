"""Defocused stars, drawn by rays: diameter, hole and its offset, distance, direction, the best position, a folder."""

import json
import math
import os
from dataclasses import replace

import numpy as np
import pytest
from astropy.io import fits
from scipy.ndimage import gaussian_filter, map_coordinates
from scipy.special import fresnel

from tests.cases import further
from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evidence.defocus import live as live_module
from wyntaxis.core.evidence.defocus.discs import Disc, _model, _slopes, alike, find_discs
from wyntaxis.core.evidence.defocus.distance import (
    SizeAt,
    best_focus,
    centre_offset,
    focus_distance,
    growth_per_step,
)
from wyntaxis.core.evidence.defocus.frame import defocus_of, read_live
from wyntaxis.core.evidence.defocus.live import FolderWatch, LiveOptics, LiveView, Piece
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.quantities.live_optics import live_optics
from wyntaxis.core.quantities.numbers import numbers_of
from wyntaxis.core.rig.shelf import ShelfPart
from wyntaxis.core.rig.store import validated
from wyntaxis.simulators.defocused_stars import RayTelescope

SCOPE = RayTelescope(width=700, height=500)
RATIO = Estimate(5.0, 0.0)


def defocus_mm(diameter_px, scope=SCOPE):
    return diameter_px * scope.pixel_um * scope.focal_ratio / 1000


def placed(scope, diameter, count, seed, light=40):
    """Stars on a grid, so that no two discs overlap."""
    rng, apart = np.random.default_rng(seed), 1.7 * diameter + 8
    xs, ys = (np.arange(apart, side - apart, apart) for side in (scope.width, scope.height))
    places = [(x + rng.uniform(-2, 2), y + rng.uniform(-2, 2)) for x in xs for y in ys]
    chosen = rng.permutation(len(places))[:count]
    return [(*places[k], int(light * diameter**2 * rng.uniform(0.6, 2))) for k in chosen]


def seen(diameter, scope=SCOPE, count=9, seed=1, sign=1):
    frame = scope.frame(sign * defocus_mm(diameter, scope), placed(scope, diameter, count, seed), seed)
    return defocus_of(find_discs(frame, 65000), (scope.width, scope.height))


@pytest.mark.parametrize("diameter", [10, 24, 60, *further(16, 40, 90, 130)])
@pytest.mark.parametrize("obstruction", [0.35, 0.0])
def test_discs_have_the_size_that_geometry_gives(diameter, obstruction):
    found = seen(diameter, replace(SCOPE, obstruction=obstruction))
    assert abs(found.diameter.value - diameter) <= 2 * found.diameter.standard
    assert found.diameter.standard < 0.05 * diameter
    if obstruction and diameter > 16:
        assert found.hole.value == pytest.approx(0.35 * diameter, abs=2 * found.hole.standard + 0.1)
    if not obstruction:
        assert found.hole is None
        assert found.offset is None


def test_a_disc_of_200_px_and_one_alone():
    scope = replace(SCOPE, width=1000, height=800)
    assert abs(seen(200, scope, 1).diameter.value - 200) < 2
    alone = seen(60, count=1)
    assert len(alone.discs) == 1
    assert abs(alone.diameter.value - 60) <= 2 * alone.diameter.standard


@pytest.mark.parametrize("fwhm_um", [8.0, 20.0])
def test_sharp_stars_hot_pixels_and_a_blank_sky_are_no_discs(fwhm_um):
    scope = replace(SCOPE, seeing_um=fwhm_um)
    stars = [(60.0 + 70 * k, 80.0 + 40 * k, 20000) for k in range(8)]
    assert find_discs(scope.frame(0.0, stars, 3)) == []
    assert find_discs(scope.frame(0.0, [], 4)) == []


def test_planted_defocus_and_decentring_lie_within_2u(seeds):
    inside = dict.fromkeys(("diameter", "x", "y"), 0)
    for seed in seeds(36):
        rng = np.random.default_rng(seed)
        diameter, sign = rng.uniform(22, 70), rng.choice([-1, 1])
        off = rng.uniform(-0.12, 0.12, 2)
        scope = replace(SCOPE, shade_off=tuple(off), obstruction=rng.uniform(0.28, 0.45), seeing_um=rng.uniform(5, 12))
        found = seen(diameter, scope, int(rng.integers(3, 14)), seed, sign)
        inside["diameter"] += abs(found.diameter.value - diameter) <= 2 * found.diameter.standard
        # The shade's place in the pupil, in px of the disc; behind the focus it is seen as it lies, before it turned.
        for name, own, planted in zip("xy", found.offset, off * diameter / 2 * sign, strict=True):
            inside[name] += abs(own.value - planted) <= 2 * own.standard
    assert min(inside.values()) >= 0.9 * len(seeds(36)), inside


def test_discs_of_another_size_are_two_stars_in_one():
    own = Disc(0.0, 0.0, 40.0, 14.0, 0.0, 0.0, 3.0, 1e5, 0.1, 0.1, 0.1)
    wide = replace(own, diameter=46.1)
    near = replace(own, diameter=45.9)
    assert alike([own, own, own, near, wide]) == [own, own, own, near]
    assert alike([own, wide]) == [own, wide], "of two, nobody knows which"


def test_the_direction_of_the_offset():
    scope = replace(SCOPE, shade_off=(0.0, 0.15))
    assert seen(50, scope).offset_angle_deg == pytest.approx(90, abs=4)
    assert seen(50, scope, sign=-1).offset_angle_deg == pytest.approx(270, abs=4)
    assert seen(50).offset_angle_deg is None, "a centred hole has no direction"


def test_what_moves_with_the_field_is_no_decentring():
    rng = np.random.default_rng(2)
    places = rng.uniform(-300, 300, (20, 2))
    dx, dy = 0.4 + 0.004 * places[:, 0], -0.2 + 0.004 * places[:, 1]
    x, y = centre_offset(dx, dy, np.full(20, 0.05), places)
    assert (x.value, y.value) == (pytest.approx(0.4), pytest.approx(-0.2))
    few, _ = centre_offset(np.array([0.1, 0.3]), np.zeros(2), np.full(2, 0.1), places[:2])
    assert few.value == pytest.approx(0.2)


def test_slopes_are_those_of_the_model():
    y, x = np.mgrid[:40, :40].astype(float)
    p = np.array([19.0, 20, 12, 20, 19.5, 4, 1.5, 300, 10, 0.2, -0.1])
    slopes = _slopes(p, x, y)
    for place in range(len(p)):
        step = np.zeros(len(p))
        step[place] = 1e-5
        by_hand = (_model(p + step, x, y) - _model(p - step, x, y)).ravel() / 2e-5
        assert slopes[:, place] == pytest.approx(by_hand, abs=1e-6)


def test_waves_make_a_disc_smaller_within_the_uncertainty():
    """By a Fourier transform of the pupil, three waves out of focus and more, of three colours: no rays in it."""
    side, pupil_px = 512, 100
    v, u = (np.mgrid[:side, :side] - side / 2) / (pupil_px / 2)
    radius2 = u**2 + v**2
    opening = (radius2 <= 1) & (radius2 >= 0.35**2)
    ratio, pixel_um = 6.0, 1.5
    for waves in (3.0, 6.0):
        distance = 8 * ratio**2 * 0.00055 * waves
        frame = np.full((260, 260), 1000.0)
        for colour in (0.5, 0.55, 0.6):
            phase = 2 * np.pi * waves * 0.55 / colour * radius2
            psf = np.abs(np.fft.fftshift(np.fft.fft2(np.fft.ifftshift(opening * np.exp(1j * phase))))) ** 2
            # One px of the transform is λ N · pupil_px / side on the sensor.
            scale = colour * ratio * pupil_px / side / pixel_um
            at = (np.arange(260) - 129.5) / scale + side / 2
            grid = np.array(np.meshgrid(at, at, indexing="ij"))
            drawn = map_coordinates(psf, grid, order=1)
            frame += 2e6 * drawn / drawn.sum() / 3
        rng = np.random.default_rng(5)
        drawn = gaussian_filter(frame, 2.0) + rng.normal(0, 5, frame.shape)
        found = defocus_of(find_discs(np.rint(drawn).astype(np.uint16)), (260, 260))
        measured = focus_distance(found.diameter, pixel_um, Estimate(ratio, 0.0), found.blur_fwhm)
        assert abs(measured.value - distance) <= 2 * measured.standard, waves
        assert measured.value == pytest.approx(distance, rel=0.03), waves
        assert found.diameter.value * pixel_um * ratio / 1000 < 0.96 * distance, "smaller than geometry"


def test_distance_by_hand():
    """60 px of 3.8 µm at f/5 are 1.14 mm; of √(0.55 µm · 1.14 mm) = 25.0 µm waves may take 0.25 on each side."""
    found = focus_distance(Estimate(60.0, 0.6), 3.8, Estimate(5.0, 0.05))
    assert found.value == pytest.approx(1.14)
    assert found.standard == pytest.approx(math.hypot(0.0114, 0.0114, 0.25 * 0.02504 * 5), rel=1e-3)
    # An edge of 0.41 · 25.5 µm, as waves blur it: all of the 2 · 0.25 · 25.6 µm · 5 = 0.063 mm is put back.
    soft = focus_distance(Estimate(60.0, 0.6), 3.8, Estimate(5.0, 0.05), 2.3548 * 0.41 * 25.7 / 3.8)
    assert soft.value == pytest.approx(1.203, abs=0.002)
    for blur in (0.01, 1000.0):
        assert focus_distance(Estimate(60.0, 0.6), 3.8, RATIO, blur).value == pytest.approx(1.14, abs=1e-3)
    c, s = fresnel(0.35364)[::-1]
    assert ((c + 0.5) ** 2 + (s + 0.5) ** 2) / 2 == pytest.approx(0.5, abs=1e-4), (
        "half the light, by Fresnel's integrals"
    )


# Where the focus is: discs grow by 0.21 px a step from 5000.
def sizes(*positions, focus=5000.0, growth=0.21, u=0.3):
    return [SizeAt(own, Estimate(growth * abs(own - focus), u)) for own in positions]


GROWTH = growth_per_step(4.0, 3.8, 5.0)


@pytest.mark.parametrize(
    ("positions", "growth", "one_sided"),
    [
        ((4700, 4800), GROWTH, True),
        ((5300, 5200), GROWTH, True),
        ((4800, 5300), GROWTH, False),
        ((4500, 4600, 4700, 4800), None, True),
        ((5600, 5500, 5400, 5300), None, True),
        ((4600, 4800, 5200, 5300), None, False),
        ((5300, 4600, 5200, 4800), GROWTH, False),
    ],
)
def test_the_best_position_by_a_straight_line(positions, growth, one_sided):
    found = best_focus(sizes(*positions), growth)
    assert found.position.value == pytest.approx(5000, abs=2 * found.position.standard)
    assert found.position.value == pytest.approx(5000, abs=4)
    assert found.one_sided == one_sided
    assert found.side(positions[-1]) == ("out" if positions[-1] < 5000 else "in")


@pytest.mark.parametrize(
    ("entries", "growth"),
    [
        ((), None), (sizes(4700), GROWTH), (sizes(4700, 4800), None), (sizes(4700, 4700, 4700), GROWTH),
        ([SizeAt(4700, Estimate(40, 0.2)), SizeAt(4800, Estimate(90, 0.2)), SizeAt(4900, Estimate(15, 0.2))], None),
    ],
)  # fmt: skip
def test_what_is_open_stays_open(entries, growth):
    assert best_focus(entries, growth) is None


def test_order_and_repeats_never_matter_and_the_prediction_covers(seeds):
    rng, inside = np.random.default_rng(1), 0
    for _ in seeds(300):
        focus = rng.uniform(4900, 5100)
        at = 4200 + np.arange(rng.integers(3, 7)) * 100.0
        noisy = [SizeAt(p, Estimate(0.21 * abs(p - focus) + rng.normal(0, 0.4), 0.4)) for p in at]
        found = best_focus(noisy, GROWTH)
        again = best_focus([noisy[k] for k in rng.permutation(len(noisy))], GROWTH)
        assert again.position.value == pytest.approx(found.position.value)
        inside += abs(found.position.value - focus) <= 2 * found.position.standard
    assert inside >= 0.9 * len(seeds(300))


# Frames and folders


def written(path, diameter, position, scope=SCOPE, sign=1, seed=1, **cards):
    frame = scope.frame(sign * defocus_mm(diameter, scope), placed(scope, max(diameter, 12), 8, seed, light=80), seed)
    hdu = fits.PrimaryHDU(frame)
    for key, value in {"FOCUSPOS": position, "EXPTIME": 2.0, "IMAGETYP": "Light", **cards}.items():
        hdu.header[key] = value
    hdu.writeto(path, overwrite=True)
    return path


OPTICS = LiveOptics(3.8, RATIO, 4.0, 0.0, 5300.0, 500.0)


def test_the_second_frame_says_which_way(tmp_path):
    view = LiveView(OPTICS)
    first = view.add(read_live(written(tmp_path / "a.fits", 60, 4800)))
    assert first.direction is None
    assert first.best is None
    # 60 px are 1.14 mm, 285 steps: 4515 and 5085 both lie within the travel.
    assert "move the focuser by some steps" in " ".join(first.lines())
    assert first.steps.value == pytest.approx(285, rel=0.02)
    second = view.add(read_live(written(tmp_path / "b.fits", 40, 4900, seed=2)))
    assert second.direction == "out"
    assert second.best.position.value == pytest.approx(5090, abs=2 * second.best.position.standard)
    assert second.best.position.standard < 20
    assert second.beyond_mm is None
    assert "2." in next(line for line in first.lines() if "turns of the knob" in line), "1.14 mm of half a mm a turn"


def test_one_frame_says_what_the_travel_leaves_and_a_focus_beyond_it_which_part_is_wrong(tmp_path):
    view = LiveView(OPTICS)
    first = view.add(read_live(written(tmp_path / "a.fits", 60, 5200)))
    assert "only in lies within the travel" in " ".join(first.lines())
    second = view.add(read_live(written(tmp_path / "b.fits", 45, 5270, seed=2)))
    assert second.direction == "out"
    # The disc shrinks by 15 px in 70 steps: 0.21 px a step leaves 214 steps to go, to 5484, of which 184 are too many.
    assert second.beyond_mm == pytest.approx(0.74, abs=0.1)
    assert "the train is too short" in " ".join(second.lines())


@pytest.mark.parametrize(
    ("beyond", "found"),
    [
        # The travel is 5300 steps of 4 µm, 21.2 mm; a twentieth of it, 1.06 mm, is kept at either end.
        (0.74, [("ring", 4.26), ("tube", 19.26)]),
        (4.5, [("tube", 15.5)]),
        (3.93, [("ring", 1.07), ("tube", 16.07)]),
        (3.95, [("tube", 16.05)]),
        (30.0, []),
        (-2.0, [("extension", 8.0)]),
        (-9.0, []),
    ],
)
def test_what_brings_a_focus_beyond_the_travel_within_it(beyond, found):
    shelf = tuple(Piece(*own) for own in (("tube", 20.0), ("shim", 0.5), ("ring", 5.0), ("long", 60.0)))
    own = replace(OPTICS, shelf=shelf, train=(Piece("extension", 10.0),))
    named = [(piece.title, pytest.approx(left)) for piece, left in own.pieces_for(beyond)]
    assert named == found
    assert not replace(own, step_um=None).pieces_for(beyond)


def test_the_shelf_is_named_where_the_focus_lies_beyond_the_travel(tmp_path):
    view = LiveView(replace(OPTICS, shelf=(Piece("ring", 5.0), Piece("shim", 0.5))))
    for name, size, at, seed in (("a", 60, 5200, 1), ("b", 45, 5270, 2)):
        reading = view.add(read_live(written(tmp_path / f"{name}.fits", size, at, seed=seed)))
    assert "on the shelf: ring (5.0 mm, focus then 4." in " ".join(reading.lines())
    assert [own["title"] for own in reading.as_json()["pieces"]] == ["ring"]
    view.optics = replace(OPTICS, shelf=(Piece("shim", 0.5),))
    assert "no single piece on the shelf has that length" in " ".join(view.add(reading.frame).lines())


def test_pieces_are_those_whose_length_moves_the_focus_alone():
    document = clean_document()
    kinds = {part["id"]: part["kind"] for part in document["train"]}
    before = [part["id"] for part in document["train"][: list(kinds.values()).index("corrector")]]
    rig = validated(document)
    ring, plate = ({"id": kind, "name": kind, "kind": kind, "length_mm": 12} for kind in ("spacer", "tilt_plate"))
    own = live_optics(numbers_of(rig), [ShelfPart.model_validate({"part": part}) for part in (ring, plate)])
    assert [piece.title for piece in own.shelf] == ["spacer"]
    assert len(own.train) == sum(kinds[key] in ("spacer", "adapter") for key in before)


def test_colour_frames_binned_ones_and_those_in_focus(tmp_path):
    plain = read_live(written(tmp_path / "a.fits", 60, 1))
    colour = read_live(written(tmp_path / "c.fits", 60, 1, BAYERPAT="RGGB"))
    assert colour.defocus.diameter.value == pytest.approx(plain.defocus.diameter.value, rel=0.02)
    binned = LiveView(OPTICS).add(read_live(written(tmp_path / "b.fits", 30, 1, XBINNING=2, YBINNING=2)))
    assert binned.distance_mm.value == pytest.approx(1.14, abs=2 * binned.distance_mm.standard)
    # Without a rig's pixel the header's counts, which is that of a binned px.
    binned_px = {"XBINNING": 2, "YBINNING": 2, "XPIXSZ": 7.6}
    view = LiveView(replace(OPTICS, pixel_um=None))
    by_header = view.add(read_live(written(tmp_path / "h.fits", 30, 1, **binned_px)))
    assert by_header.distance_mm.value == pytest.approx(binned.distance_mm.value)
    sharp = LiveView(OPTICS).add(read_live(written(tmp_path / "s.fits", 0, 1)))
    assert sharp.frame.defocus is None
    assert sharp.as_json()["defocused"] is None
    assert "HFD" in sharp.lines()[0]
    with pytest.raises(InputError, match="is a dark by its header"):
        read_live(written(tmp_path / "d.fits", 60, 1, IMAGETYP="Dark"))


def test_a_folder_gives_each_whole_frame_once(tmp_path, monkeypatch):
    at = [0.0]
    (tmp_path / "old.fits").write_bytes(b"x")
    watch = FolderWatch(tmp_path, clock=lambda: at[0], only_new=True)

    def look(seconds=1.0):
        at[0] += seconds
        return [path.name for path in watch.ready()[0]]

    data = written(tmp_path / "whole.fits", 40, 1).read_bytes()
    assert look(0.0) == [], "it may still grow"
    assert look() == ["whole.fits"]
    assert look() == []
    (tmp_path / "slow.fits").write_bytes(data[:9000])
    (tmp_path / "part.fits.tmp").write_bytes(data)
    (tmp_path / ".hidden.fits").write_bytes(data)
    assert look() == look() == []
    (tmp_path / "slow.fits").write_bytes(data)
    (tmp_path / "part.fits.tmp").rename(tmp_path / "renamed.fits")
    look(0.0)
    assert sorted(look()) == ["renamed.fits", "slow.fits"]
    os.utime(tmp_path / "slow.fits", ns=(1, 1))
    look(0.0)
    assert look() == ["slow.fits"], "another frame under the same name"
    (tmp_path / "night").mkdir()
    (tmp_path / "night" / "deep.fits").write_bytes(data)
    look(0.0)
    assert look() == ["deep.fits"]
    (tmp_path / "cut.fits").write_bytes(data[:9000])
    look(0.0)
    at[0] += live_module.GIVE_UP_S + 1
    paths, broken = watch.ready()
    assert (paths, [path.name for path, _ in broken]) == ([], ["cut.fits"])
    assert "ends before its pixels do" in broken[0][1]
    with pytest.raises(InputError, match="is no folder"):
        FolderWatch(tmp_path / "nowhere")
    away = tmp_path / "away"
    away.mkdir()
    watch = FolderWatch(away)
    away.rmdir()
    assert watch.ready() == ([], []), "a mount may come back"


def test_whatever_one_frame_holds_the_next_is_read(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    at = [0.0]
    folder = tmp_path / "frames"
    folder.mkdir()
    for name in "abc":
        written(folder / f"{name}.fits", 0, 1, replace(SCOPE, width=200, height=160, hot_pixels=0))
    dark = fits.getdata(folder / "b.fits")
    fits.PrimaryHDU(dark, fits.Header({"IMAGETYP": "Dark"})).writeto(folder / "b.fits", overwrite=True)
    read = live_module.read_live

    def failing(path):
        if path.name == "a.fits":
            raise OSError(5, "Input/output error")
        return read(path)

    monkeypatch.setattr(live_module, "read_live", failing)
    watch = FolderWatch(folder, clock=lambda: at[0])
    watch.ready()
    at[0] += 1
    found = {path.name: frame for path, frame in watch.read()}
    assert "could not be measured" in found["a.fits"]
    assert "is a dark" in found["b.fits"]
    assert found["c.fits"].path.name == "c.fits"


def test_hundreds_of_frames_are_all_seen(tmp_path):
    at, seen_names = [0.0], []
    watch = FolderWatch(tmp_path, clock=lambda: at[0])
    hdu = fits.PrimaryHDU(np.zeros((4, 4), np.uint16))
    for number in range(500):
        hdu.writeto(tmp_path / f"f{number:03}.fits")
        if number % 7 == 0:
            at[0] += 0.5
            seen_names += [path.name for path in watch.ready()[0]]
    for _ in range(3):
        at[0] += 1
        seen_names += [path.name for path in watch.ready()[0]]
    assert sorted(seen_names) == [f"f{number:03}.fits" for number in range(500)]


def test_the_command(tmp_path, capsys):
    document = clean_document()
    rig = tmp_path / "a.rig.json"
    focuser = next(device for device in document["devices"] if device["id"] == "glide")
    focuser["settings"] = {
        "step_um": {"value": 4.0},
        "lowest_position": {"value": 0},
        "highest_position": {"value": 9000},
    }
    rig.write_text(json.dumps(document), "utf-8")
    folder = tmp_path / "frames"
    folder.mkdir()
    scope = replace(SCOPE, pixel_um=3.9, focal_ratio=4.94)
    for number, (diameter, position) in enumerate(((60, 4700), (40, 4800))):
        path = written(folder / f"f{number}.fits", diameter, position, scope, seed=number)
        os.utime(path, ns=(10**18 + number, 10**18 + number))
    assert main(["watch", str(rig), str(folder), "--count", "2", "--json"]) == 0
    first, second = (json.loads(line) for line in capsys.readouterr().out.splitlines())
    assert (first["file"], first["stars"], first["defocused"]["direction"]) == ("f0.fits", 8, None)
    assert first["defocused"]["distance_mm"] == pytest.approx(60 * 3.9 * 4.94 / 1000, rel=0.03)
    assert second["defocused"]["direction"] == "out"
    assert second["best_position"] == pytest.approx(4998, abs=2 * second["best_position_u"])
    assert set(first["collimation"]) >= {"offset_px", "angle_deg"}
    (folder / "broken.fits.gz").write_bytes(b"nothing")
    assert main(["watch", str(rig), str(folder), "--count", "3", "--json"]) == 1, "a broken frame counts, and is a line"
    lines = [json.loads(line) for line in capsys.readouterr().out.splitlines()]
    assert [("error" in line) for line in lines] == [False, False, True]
    assert main(["watch", str(rig), str(folder), "--seconds", "0.8", "--only-new"]) == 0
    assert capsys.readouterr().out == ""
    assert main(["watch", str(rig), str(tmp_path / "nowhere"), "--seconds", "1"]) == 2
    assert capsys.readouterr().err.count("\n") == 1
