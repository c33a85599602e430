"""Changes one formula or comparison at a time and runs the tests that should notice; prints which changes survive.

Run by ``make mutants``: each mutant is tried in a copy of the source, never in the tree. Exit 1 when one survives.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1]
CORE = "src/wyntaxis/core"


@dataclass(frozen=True)
class Mutant:
    """One change of the source: the file below the core, what stands there, what is put in, the tests to run."""

    file: str
    old: str
    new: str
    tests: str


MUTANTS = (
    Mutant("evidence/field/shares.py", "cot = 0.5 / math.tan(math.radians(turn_deg) / 2)", "cot = 0.0", "core/evidence/test_field.py"),
    Mutant("evidence/field/shares.py", "    if not tilt_shares(result) or pair is None:\n        return screws_for_all(result)", "    if True:\n        return screws_for_all(result)", "core/evidence/test_field.py"),
    Mutant("evidence/field/turn.py", "return wrapped(angle - 180) if pier_sides_differ(before, after) else angle", "return angle", "core/evidence/test_field.py"),
    Mutant("evidence/focus/runs.py", "    if moves and move * moves[0] < 0:\n        return True", "    if False:\n        return True", "core/evidence/test_focus.py"),
    Mutant("evidence/focus/runs.py", "max(median(abs(entry) for entry in moves), abs(moves[-1]))", "median(abs(entry) for entry in moves)", "core/evidence/test_focus.py"),
    Mutant("evidence/stars/frame_grading.py", "return (header.camera, header.filter, _target(frame), exposure, *size)", "return (header.camera, header.filter, exposure, *size)", "core/evidence/test_frame_grading.py"),
    Mutant("evidence/stars/frame_grading.py", "if base is None or _target(base) != _target(frame):", "if base is None:", "core/evidence/test_frame_grading.py"),
    Mutant("rehearsal/night_sky.py", "return (after_s + AFTERNOON_S) % DAY_S - AFTERNOON_S", "return after_s % DAY_S", "core/rehearsal/test_targets.py"),
    Mutant("rehearsal/night.py", "is_first = other.priority < target.priority and", "is_first = False and", "core/rehearsal/test_targets.py"),
    Mutant("rehearsal/night.py", "self.over -= {entry.key for entry in steps[item.begins : index]}", "pass", "core/rehearsal/test_targets.py"),
    Mutant("rehearsal/script.py", "for _ in range(max(step.repeat or 1 for _, step in own)):", "for _ in range(own[0][1].repeat or 1):", "core/rehearsal/test_targets.py"),
    Mutant("rehearsal/world.py", "        if at_s > self._counted_s:", "        if False:", "core/rehearsal/test_targets.py"),
    Mutant("rehearsal/devices.py", "state.flipped = self.sky.meridian_s is not None and self.env.now >= self.sky.meridian_s", "pass", "core/rehearsal/test_targets.py"),
    Mutant("records/mistakes.py", "min(flipped, FULL_TURN_DEG - flipped) <= wrong.item.tolerance", "False", "core/records/test_mistakes.py"),
    Mutant("records/mistakes.py", "1.8 * wrong.wanted + 32", "1.8 * wrong.wanted", "core/records/test_mistakes.py"),
    Mutant("records/start_order.py", "return tuple(way[way.index(at) :])", "return tuple(way)", "core/records/test_programs.py"),
    Mutant("records/role_pages.py", "and f\".{OWN}.\" not in key", "", "core/records/test_own_settings.py"),
    Mutant("records/setting_up.py", "return begun is None or last >= begun", "return True", "core/records/test_setting_up.py"),
    Mutant("rig/dependencies.py", "max(confirmed or \"\", evidence or \"\") < setup.date", "(evidence or \"\") < setup.date", "core/records/test_setting_up.py"),
    Mutant("rig/devices.py", "(steps * (1.0 if gear is None else gear))", "steps", "core/quantities/test_focuser_gear.py"),
    Mutant("optics/direction.py", "(-90 if self.mirrored else 90)", "90", "core/optics/test_direction.py"),
    Mutant("optics/direction.py", "clockwise = wrapped(toward if self.picture.mirrored else -toward)", "clockwise = wrapped(-toward)", "core/optics/test_direction.py"),
    Mutant("evidence/foreign/units.py", "if unit not in _FACTORS and entries.lower() in PLAIN_WORDS:", "if entries.lower() in PLAIN_WORDS:", "core/records/test_mistakes.py"),
    Mutant("rehearsal/power.py", "return supply.voltage_v / above.voltage_v / (supply.efficiency or 1.0)", "return 1.0 / (supply.efficiency or 1.0)", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/world.py", "use.drawn_ah += amperes * (now - self._metered_s) / HOUR_S", "use.drawn_ah += amperes * now / HOUR_S", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/world.py", "        if self.state.electricity:\n            self._all_dark()", "        if False:\n            self._all_dark()", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/focus_drift.py", "short = self.lash_steps if move < 0 else 0.0", "short = 0.0", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/focus_drift.py", "math.sqrt(1 + 2 * SEEING_GROWTH", "math.sqrt(1 + SEEING_GROWTH", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/exposing.py", "if own.refocus_c is not None and fell >= own.refocus_c:", "if False:", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/exposing.py", "if turns and own.refocus_on_filter and state.frames:", "if False:", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/exposing.py", "if own.focus.growth(self._focus_error()) > SOFT_GROWTH:", "if False:", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/play.py", 'taking = [stage for stage in night.stages if setting.every[stage.place].do == "sequence"]', "taking = night.stages", "core/rehearsal/test_night.py"),
    Mutant("history/states.py", "if digest(document) != self.entries[index].after:", "if False:", "core/history/test_history.py"),
    Mutant("history/states.py", "if entry.date <= until", "if entry.date < until", "core/history/test_history.py"),
    Mutant("history/recording.py", "if before is not None and digest(before) != at:", "if before is not None and at is None:", "core/history/test_history.py"),
    Mutant("history/recording.py", '(b"\\n" if lines.torn else b"") + data', "data", "core/history/test_history.py"),
    Mutant("history/recording.py", "if entry.date < edge and not entry.reason and not ends_day and index > 0:", "if entry.date < edge and not ends_day and index > 0:", "core/history/test_history.py"),
    Mutant("history/entries.py", "if entry.key not in seen:", "if True:", "core/history/test_history.py"),
    Mutant("differences/invalidation.py", "\"gain\", \"offset\", \"set_temperature_c\", \"readout_mode\")", "\"gain\", \"offset\", \"set_temperature_c\")", "core/differences/test_differences.py"),
    Mutant("differences/invalidation.py", "return own | _filters(rig) | _rotation(rig) | spacing_facts(rig) | _dust(rig)", "return own | _filters(rig) | spacing_facts(rig) | _dust(rig)", "core/differences/test_differences.py"),
    Mutant("differences/invalidation.py", "if then.get((row.item.id, cell.record)) != \"differs\":", "if True:", "core/differences/test_differences.py"),
    Mutant("differences/differences.py", "own if value == was else entry for own", "own if value != was else entry for own", "core/differences/test_differences.py"),
    Mutant("differences/paths.py", "if kept_before != kept_after:", "if False:", "core/differences/test_differences.py"),
    Mutant("dossier/typing_pages.py", "return (value - zero) / (one - zero)", "return value / (one - zero)", "core/dossier/test_typing_pages.py"),
    Mutant("dossier/typing_pages.py", "        number /= factor\n", "        number *= factor\n", "core/dossier/test_typing_pages.py"),
    Mutant("dossier/private.py", "            text = self._named.sub(_SHARED, text)", "            pass", "core/dossier/test_dossier.py"),
    Mutant("dossier/bundle.py", "if name != LIST and hashlib.sha256(own).hexdigest() != listed", "if False and hashlib.sha256(own).hexdigest() != listed", "core/dossier/test_dossier.py"),
    Mutant("dossier/bundle.py", "sum(info.file_size for info in infos) > MAX_BYTES", "False", "core/dossier/test_dossier.py"),
    Mutant("dossier/photos.py", "os.path.commonpath([home, place]) != home", "False", "core/dossier/test_dossier.py"),
    Mutant("rig/figures.py", "taken = others.pop(place)", "taken = others[place]", "core/rig/test_figures.py"),
    Mutant("rehearsal/devices.py", "                if step.reconnect:\n", "                if False:\n", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/exposing.py", "if state.disk_gb < self.setting.frame_gb:", "if False:", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/exposing.py", "        if self.env.now + exposure + own.download_s <= at:\n            return", "        if self.env.now <= at:\n            return", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/devices.py", "yield self._action | limit", "yield self._action", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/night.py", "        if own.has(\"mount\") and not state.parked:", "        if False:", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/night.py", "        if state.wet_s > WET_S:", "        if False:", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/world.py", "if bad and not silent and not self._closing:", "if bad and not self._closing and False:", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/outcome.py", "if outcome.frames_kept >= outcome.frames_planned:", "if outcome.frames_kept > 0:", "core/rehearsal/test_order.py"),
    Mutant("rehearsal/setting.py", "math.log(depth / (depth - fall_c))", "fall_c / depth", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/play.py", "centre = (count + 2) / (of + 4)", "centre = count / of", "core/rehearsal/test_night.py"),
    Mutant("rehearsal/remedy.py", "        if not _worsens(setting, changed, row, rows):\n            return remedy", "        return remedy", "core/rehearsal/test_lasting.py"),
    Mutant("rehearsal/world.py", "entry.over, entry.reported, entry.at_s = False, False, self.env.now + entry.fault.returns_s", "return", "core/rehearsal/test_lasting.py"),
    Mutant("rehearsal/night_sky.py", "begins + for_s <= ends", "begins <= ends", "core/rehearsal/test_lasting.py"),
    Mutant("findings/night.py", "overwrites = not tokens & set(_COUNTS)", "overwrites = False", "core/rehearsal/test_night.py"),
    Mutant("quantities/night.py", "if missing > 0:", "if False:", "core/rehearsal/test_night.py"),
    Mutant("findings/night.py", "Verdict.TIGHT if free < TIGHT_SPACE * taken", "Verdict.TIGHT if free < taken", "core/rehearsal/test_night.py"),
    Mutant("evidence/guide_log/statistics.py", "rest[own] = v - mean_v - slope * (t - mean_t)", "rest[own] = v - mean_v", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/statistics.py", "        elif axis > motor + slack:\n            axis = motor + slack", "        elif axis > motor:\n            axis = motor", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/statistics.py", "whole = 1.0 if float(products.sum()) >= 0 else -1.0", "whole = 1.0", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/statistics.py", "if moved is None or goes:", "if moved is None:", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/periods.py", "np.log(trials / FALSE_ALARM * ", "np.log(1 / FALSE_ALARM * ", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/settling.py", "if away[place] > limit:", "if away[place] >= limit:", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/settling.py", "return Settled(at, inside, float(time[place]) - at, row, place)", "return Settled(at, inside, inside, row, place)", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/calibration.py", "along = rate * math.cos(math.radians(declination))", "along = rate", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/calibration.py", "late = back.pulsed_s[moved] - gone[moved] / speed.speed", "late = back.pulsed_s[moved]", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/run.py", "steps = np.where(back | goes_on, usual, steps)", "steps = np.where(back, usual, steps)", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/run.py", "DAY_S * np.cumsum", "0 * np.cumsum", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/rows.py", "found = value / _POWERS[behind]", "found = value / _POWERS[digits - behind]", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/table.py", "_drop_cut_row(sections[-1])", "pass", "core/evidence/test_guide_log.py"),
    Mutant("evidence/guide_log/result.py", "math.hypot(fwhm_arcsec, FWHM_PER_SIGMA * own.value)", "(fwhm_arcsec + FWHM_PER_SIGMA * own.value)", "core/evidence/test_guide_log.py"),
    Mutant("optics/guiding.py", "return abs(drift_arcsec_min) / POLAR_DRIFT", "return abs(drift_arcsec_min) * POLAR_DRIFT", "core/findings/test_guide_log.py"),
    Mutant("optics/guiding.py", "np.column_stack([np.sin(hours), -np.cos(hours)])", "np.column_stack([np.sin(hours), np.cos(hours)])", "core/evidence/test_guide_log.py core/findings/test_guide_log.py core/optics"),
    Mutant("quantities/guide_log.py", "EAGER, WEAK = -0.2, 0.6", "EAGER, WEAK = -0.22, 0.62", "core/findings/test_guide_log.py"),
    Mutant("quantities/guide_log.py", "return Target(high=sigma, inner_high=COMFORTABLE_RMS * sigma)", "return Target(high=sigma, inner_high=sigma)", "core/findings/test_guide_log.py"),
    Mutant("findings/guide_log.py", "SEVERE_LIMIT_SIGMAS * measured.value", "measured.value", "core/findings/test_guide_log.py"),
    Mutant("findings/guide_log.py", "turned = abs((found.camera_angle_deg - rig.framing.position_angle_deg + 180) % 360 - 180)", "turned = abs(found.camera_angle_deg - rig.framing.position_angle_deg)", "core/findings/test_guide_log.py"),
    Mutant("rig/dependencies.py", "return not (quantity_value.key in SCALES and name.startswith(JUDGED_APART))", "return True", "core/test_next_measurements.py"),
    Mutant("rig/dependencies.py", "quantity_value.value.confirmed.rests_on == now", "True", "core/test_next_measurements.py"),
    Mutant("rig/dependencies.py", "found |= setting_facts(device, \"offset\")", "found |= setting_facts(device, \"set_temperature_c\")", "core/test_next_measurements.py"),
    Mutant("ledger.py", "if self.best is None or self.assumed or self.out_of_date is not None:", "if self.best is None or self.assumed:", "core/test_next_measurements.py"),
    Mutant("next_measurements.py", "done |= set(best.settles)", "done |= set()", "core/test_next_measurements.py"),
    Mutant("next_measurements.py", "doubt = older is not None and older.measured is None and older.verdict is Verdict.TIGHT", "doubt = False", "core/test_next_measurements.py"),
    Mutant("optics/tilt_plate.py", "radius_mm * (slope_um_mm[0] * math.cos(a) + slope_um_mm[1] * math.sin(a))", "radius_mm * (slope_um_mm[0] * math.cos(a) - slope_um_mm[1] * math.sin(a))", "core/evidence/test_field.py"),
    Mutant("optics/tilt_plate.py", "seen = 180 - azimuth_deg if mirrored else azimuth_deg", "seen = azimuth_deg", "core/evidence/test_field.py"),
    Mutant("evidence/field/surface.py", "length = math.sqrt(max(raw**2 - noise, 0.0))", "length = raw", "core/evidence/test_field.py"),
    Mutant("evidence/field/surface.py", "covariance = covariance + along @ along.T", "covariance = covariance", "core/evidence/test_field.py"),
    Mutant("evidence/field/zones.py", "sharpest = np.exp(p[1] + seeing[:, None])", "sharpest = np.exp(p[1] + 0 * seeing[:, None])", "core/evidence/test_field.py"),
    Mutant("evidence/field/spacing.py", "off = -base / slope", "off = base / slope", "core/evidence/test_field.py"),
    Mutant("evidence/field/result.py", "step = Estimate(-step.value, step.standard)", "step = Estimate(step.value, step.standard)", "core/evidence/test_field.py"),
    Mutant("evidence/field/result.py", "return Estimate((entries.value + 180) % 360, entries.standard)", "return entries", "core/evidence/test_field.py"),
    Mutant("evidence/field/result.py", "inward = (turns > 0) == screws.inward_moves_away", "inward = turns > 0", "core/evidence/test_field.py"),
    Mutant("evidence/field/causes.py", "abs(estimate.value) > half_depth_um", "abs(estimate.value) > 0", "core/evidence/test_field.py"),
    Mutant("evidence/filters/result.py", "factor = optics.pixel_um * binning * optics.focal_ratio / 1000", "factor = optics.pixel_um * binning / optics.focal_ratio / 1000", "core/evidence/test_filters.py"),
    Mutant("evidence/filters/result.py", "near.away_mm(value) > SURE * standard", "near.away_mm(value) > 1e9", "core/evidence/test_filters.py"),
    Mutant("evidence/filters/shift.py", "length = math.sqrt(max(raw2 - noise2, 0.0))", "length = math.sqrt(raw2)", "core/evidence/test_filters.py"),
    Mutant("evidence/filters/shift.py", "limit = -2 * math.log(CHANCE / (len(surfaces) + len(reported)))", "limit = 0.0", "core/evidence/test_filters.py"),
    Mutant("evidence/filters/serve.py", "plane, corner, corner_standard = _smooth(cells, noise)", "plane, corner, corner_standard = _smooth(0 * cells, noise)", "core/evidence/test_filters.py"),
    Mutant("evidence/filters/rings.py", "shade = shade - 0.5 * erfc((apart - p[2] * p[4]) / soft)", "shade = shade", "core/evidence/test_filters.py"),
    Mutant("evidence/filters/together.py", "LEVEL_AGAIN = 10.0", "LEVEL_AGAIN = 0.0", "core/evidence/test_flat_trains.py"),
    Mutant("evidence/filters/dust.py", "while more.is_structured and", "while False and", "core/evidence/test_flat_trains.py"),
    Mutant("evidence/filters/smooth_light.py", "slope * np.maximum(radius - self.radii[-1], 0.0)", "0.0", "core/evidence/test_flat_trains.py"),
    Mutant("evidence/sensor/strips.py", "nan=middle)", "nan=low)", "core/evidence/test_stars.py"),
    Mutant("evidence/filters/smooth_light.py", "rises[begin, begin : begin + 2] = (-1.0, 1.0)", "pass", "core/evidence/test_flat_trains.py"),
    Mutant("train/surfaces.py", "half = thick / 2 + FILTER_CLEARANCE_MM", "half = thick + FILTER_CLEARANCE_MM", "core/evidence/test_filters.py"),
    Mutant("train/flat_spacers.py", "path.stated_mm + required_mm - path.required_mm", "path.stated_mm - required_mm + path.required_mm", "core/evidence/test_field.py"),
    Mutant("optics/blurred_disc.py", "return math.sqrt((1 + obstruction**2) / 2)", "return math.sqrt((1 - obstruction**2) / 2)", "core/evidence/test_focus.py"),
    Mutant("optics/blurred_disc.py", "(disc - obstruction**2 * _disc(", "(disc - obstruction * _disc(", "core/evidence/test_focus.py"),
    Mutant("evidence/focus/curve.py", "        chance = float(fdtrc(len(group), rest, ratio)) * tries", "        chance = 1.0", "core/evidence/test_focus.py"),
    Mutant("evidence/focus/curve.py", "disc = disc.times(1 / share)", "disc = disc.times(1.0)", "core/evidence/test_focus.py"),
    Mutant("evidence/focus/curve.py", "if side.sum() < 2 and not (", "if side.sum() < 0 and not (", "core/evidence/test_focus.py"),
    Mutant("evidence/focus/focus_model.py", "{\"out\": 0.5, \"in\": -0.5}", "{\"out\": -0.5, \"in\": 0.5}", "core/evidence/test_focus.py"),
    Mutant("evidence/focus/focus_model.py", "alone = abs(entries[k, k] - 1) < TELLABLE", "alone = True", "core/evidence/test_focus.py"),
    Mutant("fitting.py", "if free < 1 or chi_square(0.0) <= free:", "if free < 1 or chi_square(0.0) <= 1e9:", "core/test_fitting.py core/evidence/test_focus.py"),
    Mutant("evidence/focus/result.py", "curve.disc_px_step.times(factor * run.binning)", "curve.disc_px_step.times(optics.pixel_um * run.binning)", "core/evidence/test_focus.py"),
    Mutant("evidence/focus/result.py", "(shift - base) * 1000 / step", "(base - shift) * 1000 / step", "core/evidence/test_focus.py"),
    Mutant("evidence/focus/advice.py", "depth / 2 / abs(slope.value)", "depth / abs(slope.value)", "core/evidence/test_focus.py"),
    Mutant("evidence/focus/table.py", "factor = 2.0 if any", "factor = 1.0 if any", "core/evidence/test_focus.py"),
    Mutant("quantities/focus_runs.py", "ppm = 1000 * step / focal", "ppm = 1000 * step * focal", "core/findings/test_travel.py"),
    Mutant("quantities/focus_runs.py", "compensation - backlash.value", "backlash.value - compensation", "core/findings/test_travel.py"),
    Mutant("quantities/focus_runs.py", "half = self.season_steps / 2", "half = self.season_steps", "core/findings/test_travel.py"),
    Mutant("quantities/focus_runs.py", "(shifts[0] - shifts[1]) * 1000 / step_um", "(shifts[1] - shifts[0]) * 1000 / step_um", "core/findings/test_travel.py"),
    Mutant("quantities/focuser.py", "zone / step / 2 / abs(slope.value)", "zone / step / abs(slope.value)", "core/findings/test_travel.py"),
    Mutant("quantities/stars.py", "math.hypot(fwhm, diffraction)", "fwhm + diffraction", "core/findings/test_travel.py"),
    Mutant("findings/travel.py", "if abs(sign) <= SURE * standard:", "if False:", "core/findings/test_travel.py"),
    Mutant("evidence/stars/frame_grading.py", "if light_of(frame) < CLOUD_SHARE * best.light:", "if False:", "core/evidence/test_frame_grading.py"),
    Mutant("evidence/stars/frame_grading.py", "if limit is not None and hfd.value > limit:", "if limit is not None and hfd.value > 2 * limit:", "core/evidence/test_frame_grading.py"),
    Mutant("evidence/stars/registration.py", "turned = np.array(size) - 1 - first", "turned = first", "core/evidence/test_frame_grading.py"),
    Mutant("evidence/stars/measuring.py", "> (to_x**2 + to_y**2) / 2", "> 1e9", "core/evidence/test_stars.py"),
    Mutant("evidence/stars/background.py", "/ INNER_SHARE", "/ 1.0", "core/evidence/test_stars.py"),
    Mutant("evidence/stars/detection.py", "start + width - (left > 0)", "start + width", "core/evidence/test_stars.py"),
    Mutant("train/illumination.py", "return height_mm * (1 - distance_mm / self.pupil_mm) if", "return height_mm * (1 + distance_mm / self.pupil_mm) if", "core/train/test_train.py"),
    Mutant("train/illumination.py", "height_mm * (1 - distance_mm", "height_mm * (1 + distance_mm", "core/train/test_train.py"),
    Mutant("train/illumination.py", "2 * (abs(self.centre", "2 * ((self.centre", "core/train/test_train.py"),
    Mutant("train/mechanics.py", "at + part.prism.from_front_mm", "at - part.prism.from_front_mm", "core/train/test_train.py"),
    Mutant("train/mechanics.py", "[(part, pickoff_at) for", "[(part, 0.0) for", "core/train/test_train.py"),
    Mutant("train/mechanics.py", "distance / at_built,", "distance * at_built,", "core/train/test_train.py"),
    Mutant("train/joints.py", "left if left > SAME_LENGTH_MM else 0.0", "self.state.gap_mm", "core/train/test_train.py"),
    Mutant("train/lightpath.py", "*(plate.half_width_mm for plate in self.plates),", "", "core/train/test_train.py core/train/test_spacers.py"),
    Mutant("optics/uniform_sum.py", "error: int, widths: tuple[int, ...], tolerance: int) -> float:\n    low, high", "error: int, widths: tuple[int, ...], tolerance: int) -> float:\n    tolerance -= 1\n    low, high", "core/optics/test_optics.py"),
    Mutant("train/slots.py", "entries.items() if value is not None", "entries.items() if value is None", "core/train/test_train.py"),
    Mutant("train/spacer_tables.py", "cost = node.cost + n * more.cost", "cost = node.cost + more.cost", "core/train/test_spacers.py"),
    Mutant("train/spacer_problem.py", "kind.low_mm * n for _, kind, n in used),\n                math.fsum(kind.slack", "kind.low_mm for _, kind, n in used),\n                math.fsum(kind.slack", "core/train/test_spacers.py"),
    Mutant("optics/focus.py", "thickness_mm * (1 - 1 / index)", "thickness_mm * (1 - 1 / index) * 1.01", "core/optics/test_optics.py core/test_ledger.py"),
    Mutant("optics/thinlens.py", "1 - distance_mm / lens_mm", "1 + distance_mm / lens_mm", "core/evidence/test_image_scale.py core/train/test_train.py"),
    Mutant("ledger.py", "value <= self.high", "value < self.high", "core/test_ledger.py"),
    Mutant("ledger.py", "if difference <= tolerance + slack", "if difference < tolerance - slack", "core/test_ledger.py"),
    Mutant("ledger.py", "max(one.tolerance, other.tolerance, COVERAGE", "max(one.tolerance, COVERAGE", "desk/test_window.py"),
    Mutant("evidence/stars/detection.py", "inside = inside[own[inside] == index]", "pass", "core/evidence/test_stars.py"),
    Mutant("evidence/stars/detection.py", "over = fine_sigma > THRESHOLD_SIGMA", "over = fine_sigma > 1e9", "core/evidence/test_stars.py"),
    Mutant("evidence/stars/frame_stars.py", "UNDERSAMPLED_SHARE * max(UNDERSAMPLED_PX - middle, 0.0)", "0.0", "core/evidence/test_stars.py"),
    Mutant("evidence/filters/repeatability.py", "repeat.turned is None or bool(repeat.unseen)", "repeat.turned is None", "core/evidence/test_filters.py"),
    Mutant("evidence/filters/result.py", "if is_filter]", "]", "core/evidence/test_filters.py"),
    Mutant("evidence/filters/result.py", "bent = 1 / (1 + far / (optics.pupil_mm or math.inf))", "bent = 1.0", "core/evidence/test_flat_trains.py"),
    Mutant("evidence/stars/background.py", "return whole if whole > CORRELATED else 1.0", "return 1.0", "core/evidence/test_stars.py"),
    Mutant("rehearsal/preconditions.py", "not own.has(\"mount\") or not state.parked)", "True)", "core/rehearsal/test_order.py"),
    Mutant("rehearsal/world.py", "return not self.setting.attended", "return False", "core/rehearsal/test_order.py"),
    Mutant("evidence/sensor/strips.py", "raw.astype(np.float64) * scale + zero", "raw.astype(np.float64) * scale", "core/evidence/test_bench.py"),
    Mutant("evidence/kinds.py", "if not values:", "if False:", "core/evidence/test_cooling.py core/evidence/test_bench_laws.py"),
    Mutant("evidence/reporting.py", "value.value * factor, value.standard * factor", "value.value, value.standard", "core/evidence/test_reporting.py"),
    Mutant("wiring_drawing.py", "leaves + (gap if below else -gap) * share", "leaves + gap * share", "core/test_wiring_drawing.py"),
    Mutant("evidence/sensor/transfer.py", "covariance * max(1.0, chi)", "covariance", "core/evidence/test_bench_laws.py"),
    Mutant("evidence/sensor/transfer.py", "math.sqrt(covariance[0, 0]) / slope**2", "math.sqrt(covariance[0, 0]) / slope", "core/evidence/test_bench_laws.py"),
    Mutant("evidence/sensor/transfer.py", "MIN_VARIANCE_STEPS2, MAX_UNRESOLVED_STEPS = 0.24", "MIN_VARIANCE_STEPS2, MAX_UNRESOLVED_STEPS = 0.25", "core/evidence/test_bench_laws.py"),
    Mutant("evidence/sensor/dark.py", "middle * factor * gain.standard / gain.value", "0.0", "core/evidence/test_bench_laws.py"),
    Mutant("evidence/sensor/dark.py", "covariance[0, 0] += common**2", "pass", "core/evidence/test_bench_laws.py"),
    Mutant("evidence/sensor/dark.py", "(HOT_TIMES - 1) * typical", "HOT_TIMES * typical", "core/evidence/test_bench.py"),
    Mutant("quantities/sensor.py", "clear = Target(low=math.nextafter(0.0, 1.0))", "clear = Target(low=0.0)", "core/quantities/test_rows.py"),
    Mutant("quantities/sensor.py", "high=math.nextafter(MAX_PILED, 0.0)", "high=MAX_PILED", "core/quantities/test_rows.py"),
    Mutant("evidence/sensor/offset.py", "/ slope + 1e-9", "/ slope - 1e-9", "core/evidence/test_bench_laws.py"),
    Mutant("evidence/cooling/cooler.py", "(1 - timing) * self.power_from", "(1 - timing) * self.power_since", "core/evidence/test_cooling.py"),
    Mutant("evidence/cooling/cooler.py", "log.power_step**2 / 12", "log.power_step**2 / 1200", "core/evidence/test_cooling.py"),
    Mutant("evidence/scale/image_scale.py", "abs(across - down) / (2 * math.sqrt(3))", "0.0", "core/evidence/test_image_scale.py"),
    Mutant("evidence/scale/image_scale.py", "[world[:, wcs.wcs.lng], world[:, wcs.wcs.lat]]", "[world[:, 0], world[:, 1]]", "core/evidence/test_image_scale.py"),
    Mutant("quantities/plan.py", "ROOMY = 1.5", "ROOMY = 1.49", "core/quantities/test_rows.py"),
    Mutant("quantities/plan.py", "BATTERY_RESERVE = 1.2", "BATTERY_RESERVE = 1.19", "core/quantities/test_rows.py"),
    Mutant("quantities/ports.py", "made_for_mbit(usb), FASTER_MBIT", "made_for_mbit(usb), HIGH_SPEED_MBIT", "core/findings/test_connect.py"),
    Mutant("findings/ports.py", "hub_speed > HIGH_SPEED_MBIT:", "hub_speed >= HIGH_SPEED_MBIT:", "core/findings/test_connect.py"),
    Mutant("evidence/headers/partners.py", "apart = min(apart % 360, 360 - apart % 360)", "pass", "core/evidence/test_headers.py"),
    Mutant("evidence/headers/partners.py", "> MEASURED_WITHIN_C + 1e-9", "> MEASURED_WITHIN_C - 1e-9", "core/evidence/test_headers.py"),
    Mutant("worklist.py", "if v is not Verdict.UNPROVEN]", "]", "core/findings/test_connect.py desk/test_parts.py"),
    Mutant("optics/electrics.py", "return 2 * resistivity", "return resistivity", "core/findings/test_wiring.py"),
    Mutant("optics/electrics.py", "MAGNUS_A, MAGNUS_B_C = 17.62, 243.12", "MAGNUS_A, MAGNUS_B_C = 17.62, 237.3", "core/findings/test_wiring.py"),
    Mutant("quantities/wiring.py", "cable.cross_section_mm2, warm) + (cable.contact_mohm or 0.0) / 1000", "cable.cross_section_mm2, warm)", "core/findings/test_wiring.py"),
    Mutant("quantities/wiring.py", "segments.append(CableSegment(fed_by, own, usual, peak))", "pass", "core/findings/test_wiring.py"),
    Mutant("quantities/wiring.py", "Target(inner_low=least)", "Target(low=least)", "core/findings/test_wiring.py"),
    Mutant("quantities/wiring.py", "rate > NEEDS_FAST_MB_S", "rate >= NEEDS_FAST_MB_S", "core/findings/test_wiring.py"),
    Mutant("quantities/read_tracking.py", "return _is_within(read, path) or _is_within(path, read)", "return _is_within(read, path)", "core/quantities/test_evaluator.py core/findings/test_caveats.py"),
    Mutant("rig/marks.py", "if is_same and own not in typed", "if is_same", "core/rig/test_marks.py"),
    Mutant("findings/acceptance.py", "return round(row.best.value, row.kind.decimals)", "return row.best.value", "core/findings/test_caveats.py"),
    Mutant("drafting/frames.py", "(size or 0) * least, f", "(size or 0), f", "core/test_drafting.py"),
    Mutant("findings/conditions.py", "open_ones = [f for f in findings if not f.accepted]", "open_ones = list(findings)", "core/findings/test_caveats.py"),
    Mutant("train/broken_section.py", "share = min(1.0, surplus / sum(spare))", "share = min(1.0, 0.5 * surplus / sum(spare))", "core/test_drawn.py"),
    Mutant("findings/conditions.py", "*([Verdict.UNPROVEN] if missing else [])", "", "core/findings/test_connect.py"),
    Mutant("evidence/foreign/units.py", '"S": -1', '"S": 1', "core/records/test_records.py"),
    Mutant("evidence/foreign/units.py", "self.value if first <= second else self.other", "self.value", "core/records/test_records.py"),
    Mutant("sky/horizon.py", "azimuths[-1] - 360", "azimuths[-1] - 359", "core/sky/test_sky.py"),
    Mutant("quantities/focuser.py", "MAX_BACKLASH_PERCENT, DOUBTFUL_BACKLASH_PERCENT = 10.0, 5.0", "MAX_BACKLASH_PERCENT, DOUBTFUL_BACKLASH_PERCENT = 10.02, 5.0", "core/quantities/test_rows.py"),
    Mutant("../desk/section/pieces.py", "self._used.get(whole) or self.kept.get(whole)", "self._used.get(whole)", "desk/test_repaint.py"),
    Mutant("../desk/section/pieces.py", "whole = (key, ratio, across % PHASES, down % PHASES)", "whole = (key, ratio, across % PHASES)", "desk/test_repaint.py"),
    Mutant("../desk/section/pieces.py", "self.kept, self._used, self._ratio = self._used, {}, 0.0", "self.kept, self._used, self._ratio = self.kept | self._used, {}, 0.0", "desk/test_repaint.py"),
    Mutant("../desk/section/drawing.py", "        shape.opening_radius_mm,\n        shape.outer_radius_mm,\n", "        shape.outer_radius_mm,\n", "desk/test_repaint.py"),
    Mutant("../desk/section/drawing.py", '        "length_mm" in shape.assumed,\n', "", "desk/test_repaint.py"),
    Mutant("../desk/section/drawing.py", "_numbered(shape), shape.verdict, tuple", "_numbered(shape), tuple", "desk/test_repaint.py"),
    Mutant("../desk/section/detail.py", '("detail", box.width(), box.height(), half_mm, plane.allowed_mm)', '("detail", box.width(), box.height(), half_mm)', "desk/test_repaint.py"),
    Mutant("../desk/section/chain.py", '("length", text, length, down, is_chosen)', '("length", text, length, down)', "desk/test_repaint.py"),
    Mutant("../desk/section/drafting.py", "(key, self.look),", "key,", "desk/test_repaint.py"),
    Mutant("../desk/section/fitting.py", "SCALE_STEP ** math.floor(math.log(scale, SCALE_STEP))", "scale", "desk/test_repaint.py"),
    Mutant("../desk/section/fitting.py", "scale = stepped(max(", "scale = (max(", "desk/test_repaint.py"),
    Mutant("../desk/section/fitting.py", "spare / 2 // ORIGIN_STEP_PX * ORIGIN_STEP_PX", "spare / 2", "desk/test_repaint.py"),
    Mutant("../desk/ledger_row.py", "        if quantity != self.scale.quantity:\n", "        if True:\n", "desk/test_repaint.py"),
    Mutant("../desk/tables.py", "before.cell(row, column) != (text, verdict)", "before.cell(row, column)[0] != text", "desk/test_repaint.py"),
    Mutant("../desk/parts_table.py", "if self._reads(old, column) != self._reads(new, column):", "if True:", "desk/test_repaint.py"),
    Mutant("../desk/parts_table.py", " or old.assumed != new.assumed", "", "desk/test_repaint.py desk/test_start.py desk/test_fields.py"),
    Mutant("../desk/wiring/wiring_view.py", "if before != (self._wiring, self.accessibleDescription()):", "if True:", "desk/test_repaint.py"),
    Mutant("../desk/findings_list.py", "self._heights[index.row()] != self.sizeHintForIndex(index).height()", "False", "desk/test_repaint.py"),
    Mutant("../desk/findings_list.py", "            self._fit()\n\n    def _row_changed", "            pass\n\n    def _row_changed", "desk/test_repaint.py"),
    Mutant("../desk/paragraphs.py", "if old != new:", "if True:", "desk/test_repaint.py"),
    Mutant("../desk/palette.py", "(1 - share) * (other or 0)", "share * (other or 0)", "desk/test_repaint.py"),
    Mutant("../desk/startup.py", " or DrawingShape(settings).is_collapsed(step)", "", "desk/test_startup.py"),
    Mutant("../desk/startup.py", "step.group not in DRAWN_GROUPS or ", "", "desk/test_startup.py"),
    Mutant("../desk/startup.py", "files.open_path(path, self._read)", "files.open_path(path)", "desk/test_startup.py"),
    Mutant("../desk/startup.py", "return QRect(0, top, window.width(), height)", "return QRect(0, 0, window.width(), height)", "desk/test_startup.py"),
    Mutant("../desk/drawing_shape.py", "window_px >= ROOMY_FROM_PX", "window_px > ROOMY_FROM_PX", "desk/test_startup.py"),
    Mutant("../desk/collector.py", "        gc.disable()\n", "", "desk/test_collector.py"),
    Mutant("../desk/collector.py", "elif idle_s > IDLE_S and", "elif", "desk/test_collector.py"),
    Mutant("../desk/step_pictures.py", "        if self.isVisible():\n            self._bring()", "        self._bring()", "desk/test_step_pictures.py"),
    Mutant("../desk/step_pictures.py", "if was_empty or not", "if not", "desk/test_step_pictures.py desk/test_light_sheets.py"),
    Mutant("../desk/window.py", "        self.drawing.evidence.forget()\n", "", "desk/test_step_pictures.py"),
    Mutant("../desk/palette_clock.py", "if dark is not self._was_dark:", "if True:", "desk/test_keyboard.py"),
    Mutant("../desk/notice.py", "            self._give_keyboard_back()\n        self._show(error=False)\n        action()", "            pass\n        self._show(error=False)\n        action()", "desk/test_keyboard.py"),
    Mutant("quantities/rows.py", "bool(one.assumed) == bool(other.assumed) and one", "one", "core/test_told_once.py"),
    Mutant("sky/dusk.py", "1.915 * math.sin(anomaly)", "1.815 * math.sin(anomaly)", "core/sky/test_dusk.py"),
    Mutant("findings/conditions.py", "own.verdict is self.verdict and not own.accepted", "True", "desk/test_conditions_chosen.py"),
    Mutant("evidence/headers/overheads.py", "over >= FOCUS_LEAST_S and moved", "moved", "core/evidence/test_overheads.py"),
    Mutant("evidence/headers/overheads.py", "clear = apart >= max(LEAST_APART_S, APART_SD * spread) and step >= spread", "clear = True", "core/evidence/test_overheads.py"),
    Mutant("evidence/headers/overheads.py", "LONGEST_S if causes else", "LONG_S if causes else", "core/evidence/test_overheads.py"),
    Mutant("evidence/headers/overheads.py", "Estimate(whole.value - base.value,", "Estimate(whole.value,", "core/evidence/test_overheads.py"),
    Mutant("evidence/headers/keeping.py", "if action in KEPT}", "}", "desk/test_work_times.py"),
    Mutant("rehearsal/setting.py", "        if do in self.times:  # with", "        if False:  # with", "desk/test_work_times.py"),
    Mutant("rehearsal/past_night.py", "max(2 * seconds.standard, ALIKE_SHARE * supposed, ALIKE_S)", "0.0", "core/rehearsal/test_past_night.py"),
    Mutant("../desk/placed_faults.py", "(*self.faults, active_faults", "(active_faults", "desk/test_placed_faults.py"),
    Mutant("train/section.py", "known.focal_ratio or _computed_ratio(rig)", "_computed_ratio(rig)", "core/test_drawn.py"),
    Mutant("train/section.py", "factor = math.prod(magnifications(rig.train))", "factor = 1.0", "core/test_drawn.py"),
    Mutant("train/section.py", "judged.guide_allowed_mm, path.standard_mm", "None, path.standard_mm", "core/test_drawn.py desk/test_repaint.py"),
    Mutant("section.py", "if marks.get(target) is not Verdict.FAILS:", "if True:", "core/test_drawn.py desk/test_parts.py"),
    Mutant("section.py", "(*at.get(device.part, ()), DeviceMark", "(DeviceMark", "core/test_drawn.py desk/test_parts.py"),
    Mutant("optics/tip_tilt.py", "1 - math.cos(tilt) / math.sqrt(index**2", "1 + math.cos(tilt) / math.sqrt(index**2", "core/findings/test_adaptive_optics.py"),
    Mutant("findings/adaptive_optics.py", "is_before = at < pickoff", "is_before = at <= pickoff + 1", "core/findings/test_adaptive_optics.py"),
    Mutant("findings/adaptive_optics.py", "share > 1 + ROUND_OFF, share > FULL_SHARE", "share > FULL_SHARE, share > FULL_SHARE", "core/findings/test_adaptive_optics.py"),
    Mutant("findings/adaptive_optics.py", "abs(computed - stated) > SAME_RANGE", "abs(computed - stated) > 2 * SAME_RANGE", "core/findings/test_adaptive_optics.py"),
    Mutant("findings/adaptive_optics.py", "if not ends and row.measured is None:", "if False:", "core/findings/test_adaptive_optics.py"),
    Mutant("rehearsal/world.py", "if stated is not None and value in (None, stated):", "if False:", "core/findings/test_adaptive_optics.py" " core/rehearsal/test_night.py"),
    Mutant("differences/invalidation.py", "found |= identity_facts(device) | setting_facts(device, *keys)", "found |= setting_facts(device, *keys)", "core/findings/test_adaptive_optics.py"),
    Mutant("rig/device_kinds/__init__.py", "kinds=known.kinds | {kind.id}", "kinds=frozenset({kind.id})", "core/findings/test_connect.py core/rig"),
)  # fmt: skip


def survives(mutant: Mutant) -> str:
    """Return what is to be said of a mutant that its tests do not notice, empty for one that they kill."""
    with tempfile.TemporaryDirectory(prefix="wyntaxis-mutant-") as place:
        copy = Path(place) / "src"
        shutil.copytree(ROOT / "src", copy, ignore=shutil.ignore_patterns("__pycache__"))
        path = Path(place) / CORE / mutant.file
        text = path.read_text("utf-8")
        if mutant.old not in text:
            return "is not in the source any more: bring the list up to date"
        path.write_text(text.replace(mutant.old, mutant.new, 1), "utf-8")
        environment = os.environ | {
            "PYTHONPATH": str(copy),
            "QT_QPA_PLATFORM": "offscreen",
            "PYTHONDONTWRITEBYTECODE": "1",
        }
        tests = [f"tests/{name}" for name in mutant.tests.split()]
        command = [sys.executable, "-m", "pytest", "-x", "-q", "--thorough", "-p", "no:cacheprovider", *tests]
        done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True, check=False)
        return "" if done.returncode == 1 else f"survives {mutant.tests} (pytest ended with {done.returncode})"


def main() -> int:
    """Try the mutants whose file holds what ONLY says, all where it is not set."""
    tried = [mutant for mutant in MUTANTS if os.environ.get("ONLY", "") in mutant.file]
    left = 0
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        for number, (mutant, words) in enumerate(zip(tried, pool.map(survives, tried), strict=True), start=1):
            if words:
                left += 1
                print(f"{mutant.file}: “{mutant.old}” → “{mutant.new}” {words}", flush=True)
            elif number % 20 == 0:
                print(f"{number} of {len(tried)} tried", flush=True)
    print(f"{len(tried)} mutants, {left} survive")
    return 1 if left else 0


if __name__ == "__main__":
    sys.exit(main())
