"""What a night's time went into, by its frames' times: against nights acted out event by event, and by hand."""

import datetime

import numpy as np
import pytest

from wyntaxis.core.evidence.headers.headers import FrameHeader
from wyntaxis.core.evidence.headers.overheads import NOT_APART, ONE_ONLY, OVERLAP, overheads, unix_time

BEGINS = datetime.datetime(2026, 11, 14, 19, 3, 7, tzinfo=datetime.UTC)
PLANTED = {"download": 3.2, "dither": 14.0, "wheel": 6.5, "focus": 140.0, "flip": 190.0, "slew": 70.0}


def frame(at_s, exposure=120.0, **more):
    stamp = (BEGINS + datetime.timedelta(seconds=at_s)).isoformat(timespec="milliseconds").replace("+00:00", "")
    return FrameHeader("f.fits", "light", exposure_s=exposure, date=stamp, **more)


def night(*gaps, exposure=120.0):
    """Frames with these gaps between them; a gap is its seconds, or seconds with what changes."""
    at, state, frames = 0.0, {"filter": "L", "focus_position": 1000.0, "pier_side": "east", "target": "A"}, []
    frames.append(frame(at, exposure, **state))
    for gap in gaps:
        seconds, changed = gap if isinstance(gap, tuple) else (gap, {})
        state = state | changed
        at += exposure + seconds
        frames.append(frame(at, exposure, **state))
    return frames


def acted_out(seed, whole_seconds):
    """A night as a program would take it: each piece of work takes its time, and headers are written as it goes."""
    rng = np.random.default_rng(seed)

    def takes(action, scatter):
        return max(rng.normal(PLANTED[action], scatter), 0.1)

    at, frames = 0.0, []
    name, place, side, target = "L", 12_000.0, "east", "A"
    for number in range(90):
        if number:
            at += takes("download", 0.25)
            place += rng.normal(0, 2)  # it follows the temperature
            if number % 12 == 0:
                name = "LRGB"[number // 12 % 4]
                at += takes("wheel", 0.4)
            elif number % 15 == 0:
                place += rng.normal(0, 40)
                at += takes("focus", 5.0)
            elif number in (31, 61):
                side = "west" if side == "east" else "east"
                at += takes("flip", 8.0)
            elif number in (40, 70):
                target = "B" if target == "A" else "A"
                at += takes("slew", 5.0)
            elif number % 3 == 0:
                at += takes("dither", 1.5)
        written = np.floor(at) if whole_seconds else at
        frames.append(frame(written, 120.0, filter=name, focus_position=place, pier_side=side, target=target))
        at += 120.0
    return frames


@pytest.mark.parametrize("whole_seconds", [False, True])
def test_planted_times_lie_within_twice_the_uncertainty(whole_seconds):
    within = {action: [] for action in PLANTED}
    runs = range(100)
    for seed in runs:
        for action, found in overheads(acted_out(seed, whole_seconds)).known.items():
            within[action].append(abs(found.value - PLANTED[action]) <= 2 * found.standard)
    assert all(len(hits) >= 0.9 * len(runs) for hits in within.values()), "what is not known says so, and rarely"
    assert all(sum(hits) >= 0.9 * len(hits) for hits in within.values())


def test_the_hours_add_up_to_the_night():
    found = overheads(acted_out(3, False))
    (past,) = found.nights
    assert sum(past.spent_s.values()) == pytest.approx(past.ends_s - past.begins_s)
    assert past.frames == 90
    assert past.spent_s["exposing"] == 90 * 120
    assert past.date == "2026-11-14"


CHANGES = {
    "wheel": {"filter": "R"},
    "focus": {"focus_position": 1100.0},
    "flip": {"pier_side": "west"},
    "slew": {"target": "B"},
}


@pytest.mark.parametrize("cause", list(CHANGES))
def test_what_changed_says_what_the_gap_was_for(cause):
    found = overheads(night(4.0, 4.0, (64.0, CHANGES[cause]), 4.0))
    assert found.nights[0].spent_s[cause] == pytest.approx(64.0)
    assert found.nights[0].spent_s["between"] == pytest.approx(12.0)
    (own,) = [entry for entry in found.times if entry.action == cause]
    assert (own.seconds, own.count, own.why) == (None, 1, ONE_ONLY)


@pytest.mark.parametrize(
    ("gaps", "cause", "seconds"),
    [
        # of several, the one that takes longest as a rule; and none of them is measured by it
        ([4, 4, (300, CHANGES["focus"] | CHANGES["wheel"]), 4], "focus", 300),
        ([4, 4, (300, CHANGES["flip"] | CHANGES["focus"]), 4], "flip", 300),
        # a focuser that follows the temperature is no focus run: 20 s over the usual gap are
        ([4, 4, (23.9, {"focus_position": 1003.0}), 4], "between", 23.9),
        ([4, 4, (24.1, {"focus_position": 1003.0}), 4], "focus", 24.1),
        ([4, 4, (200, {"focus_position": 1000.4}), 4], "between", 200),
        # ten minutes over the usual gap with nothing changed are waiting
        ([4, 4, 603.9, 4], "between", 603.9),
        ([4, 4, 604.1, 4], "waiting", 604.1),
        # and so is what a filter change cannot take
        ([4, 4, (1800, CHANGES["wheel"]), 4], "wheel", 1800),
        ([4, 4, (1801, CHANGES["wheel"]), 4], "waiting", 1801),
    ],
)
def test_gaps_by_hand(gaps, cause, seconds):
    spent = overheads(night(*gaps)).nights[0].spent_s
    among = seconds + (12 if cause == "between" else 0)
    assert spent[cause] == pytest.approx(among, abs=1e-6)


def test_downloads_and_dithers_are_told_apart_only_where_they_are():
    apart = overheads(night(*[3.0, 3.1, 16.0] * 6)).known
    assert apart["download"].value == pytest.approx(3.05, abs=0.06)
    assert apart["dither"].value == pytest.approx(12.95, abs=0.1)
    (alike,) = [own for own in overheads(night(*[3.0, 3.4, 3.8] * 6)).times if own.action == "download"]
    assert (alike.seconds, alike.why) == (None, NOT_APART)
    smooth = night(*np.linspace(3, 16, 18))
    assert "download" not in overheads(smooth).known, "a broad spread is not two kinds"


def test_nights_are_parted_and_summed():
    first, second = night(4, 4, 4), night(4, 4)
    later = [frame(unix_time(own.date) - BEGINS.timestamp() + 86_400, filter="L") for own in second]
    found = overheads([*later, *first])
    assert [past.date for past in found.nights] == ["2026-11-14", "2026-11-15"]
    assert [past.frames for past in found.nights] == [4, 3]


def test_what_cannot_be_told_says_why():
    assert "fewer than two" in overheads([]).why
    dark = FrameHeader("d.fits", "dark", exposure_s=60.0, date="2026-11-14T19:00:00")
    assert overheads([dark, dark]).why
    ends = [frame(60.0 * k, 120.0) for k in range(5)]
    assert overheads(ends).why == OVERLAP
    assert "not known" in overheads(ends).lines()[0]
    assert overheads(ends).as_json() == {"why": OVERLAP}
    timeless = FrameHeader("l.fits", "light", exposure_s=60.0, date="2026-11-14")
    assert overheads([*night(4, 4), timeless]).unused == 1


@pytest.mark.parametrize(
    ("text", "at"),
    [
        ("2026-11-14T19:03:07", BEGINS.timestamp()),
        ("2026-11-14T19:03:07.250", BEGINS.timestamp() + 0.25),
        ("2026-11-14T20:03:07+01:00", BEGINS.timestamp()),
        ("2026-11-14", None),
        ("14/11/26", None),
        ("T", None),
        ("", None),
        (None, None),
        ("9999-99-99T00:00:00", None),
    ],
)
def test_times_of_headers(text, at):
    assert unix_time(text) == at


def test_json_and_sentences_say_the_same():
    found = overheads(acted_out(1, True))
    entries = found.as_json()
    assert set(entries["times"]) == set(PLANTED)
    assert entries["nights"][0]["begins"] == "2026-11-14T19:03:07Z"
    lines = found.lines()
    assert lines[0].startswith("Night of 2026-11-14: 90 lights in ")
    assert any(line.startswith("Focus run: ") and line.endswith(" s (4 times).") for line in lines)
