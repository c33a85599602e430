"""What the night's work takes: kept from frames' times, typed, and used by the rehearsal."""

import numpy as np
import pytest
from astropy.io import fits

from tests.core.evidence.test_overheads import acted_out
from tests.desk.test_sky_sheets import loaded
from wyntaxis import demo
from wyntaxis.cli import main
from wyntaxis.core.rehearsal.night_sky import plain_sky
from wyntaxis.core.rehearsal.play import played
from wyntaxis.core.rehearsal.setting import setting_of
from wyntaxis.core.rig.store import load


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    place = tmp_path_factory.mktemp("night")
    for number, own in enumerate(acted_out(5, True)):
        cards = {
            "IMAGETYP": "Light",
            "DATE-OBS": own.date,
            "EXPTIME": own.exposure_s,
            "FILTER": own.filter,
            "FOCUSPOS": round(own.focus_position),
            "PIERSIDE": own.pier_side,
            "OBJECT": own.target,
        }
        fits.writeto(place / f"light_{number:03}.fits", np.zeros((4, 4), "uint16"), fits.Header(cards))
    return place


def test_the_frames_times_are_shown_and_kept_as_one_edit(window, qtbot, folder):
    window.show_step("records")
    panel, session = window.sheets["records"].frames, window.session
    assert not panel.keep_button.isEnabled()
    panel.read(folder)
    qtbot.waitUntil(lambda: session.evaluation.frames is not None and not panel.job.running)
    assert "Night of 2026-11-14: 90 lights" in panel.times.text()
    assert "Meridian flip" in panel.times.text()
    panel.keep_button.click()
    times = session.rig.plan.times
    assert set(times) == {"download", "dither", "wheel", "focus"}, "a flip's gap holds solving and guiding, too"
    assert times["focus"].best == pytest.approx(140, abs=12)
    assert times["focus"].measured.evidence.method == "frame_times"
    setting = setting_of(session.rig, plain_sky())
    assert setting.work_s("focus") == times["focus"].best
    assert setting.settle_s == times["dither"].best
    session.undo()
    assert session.rig.plan.times == {}


def test_times_are_typed_measured_and_used(window, qtbot):
    window.show_step("rehearsal")
    sheet, session = window.sheets["rehearsal"], window.session
    loaded(sheet, qtbot, sheet.play_now)
    times = sheet.times
    assert times.isVisible()
    used = {work: label.text() for work, label in times.used.items()}
    assert (used["flip"], used["slew"], used["restart"]) == ("90", "45", "180")
    field = times.fields["flip"]
    field.setText("240")
    field.editingFinished.emit()
    assert session.rig.plan.times["flip"].value == 240
    loaded(sheet, qtbot, sheet.play_now)
    assert times.used["flip"].text() == "240"
    field.setText("")
    field.editingFinished.emit()
    assert session.rig.plan.times == {}
    field.setText("-4")
    field.editingFinished.emit()
    assert window.notice.isVisible()
    assert session.rig.plan.times == {}


@pytest.mark.parametrize(("work", "seconds"), [("wheel", 30.0), ("download", 9.0), ("focus", 500.0), ("dither", 60.0)])
def test_a_longer_time_makes_the_night_longer(window, work, seconds):
    rig = window.session.rig
    plan = rig.plan.model_copy(update={"times": {}})
    short = setting_of(rig.model_copy(update={"plan": plan}), plain_sky(14))
    assert window.session.set_value(("plan", "times", work, "value"), seconds, "Time")
    long = setting_of(window.session.rig, plain_sky(14))
    assert long.work_s(work) == seconds > short.work_s(work)
    assert played(long).ends_s > played(short).ends_s


def test_the_command_keeps_them_in_the_file(tmp_path, folder, capsys):
    path = tmp_path / "t.rig.json"
    path.write_bytes(demo.rig_path("tarnfell-triplet-reduced").read_bytes())
    main(["headers", str(path), str(folder), "--keep"])
    assert "Focus run: " in capsys.readouterr().out
    assert load(path).rig.plan.times["download"].best == pytest.approx(3.2, abs=0.4)
