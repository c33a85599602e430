"""The history beside a rig: every save a line, any date's rig again, whatever happened to the file."""

import contextlib
import copy
import itertools
import json
import multiprocessing
import random
import subprocess
import sys

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.cases import further
from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.history import entries, recording, states
from wyntaxis.core.history.entries import Entry, digest, history_path, read_lines
from wyntaxis.core.history.recording import CHECKPOINT, OUTSIDE, compact, edit_file, join, record, save
from wyntaxis.core.history.states import RigHistory, moment_of, patch_between, patched, read_history
from wyntaxis.core.rig import edit, store
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.store import document_of, load, validated


@pytest.fixture
def path(tmp_path):
    return tmp_path / "rig.rig.json"


@pytest.fixture
def clock(monkeypatch):
    """A clock that a test sets; each look at it is a minute later."""
    minutes = itertools.count()
    held = {"day": "2026-03-01"}

    def now():
        minute = next(minutes)
        return f"{held['day']}T{minute // 60 % 24:02d}:{minute % 60:02d}:00Z"

    monkeypatch.setattr(recording, "utc_stamp", now)
    return held


def rig_with(gain=125, **more):
    document = clean_document() | more
    camera = next(device for device in document["devices"] if device["kind"] == "camera")
    camera["settings"]["gain"] = {"value": gain}
    return validated(document)


def gain_of(rig):
    return next(device for device in rig.devices if device.kind == "camera").number("gain")


def saved(path, *gains):
    for gain in gains:
        save(rig_with(gain), path, (f"Gain {gain}",))
    return read_history(path)


def test_each_save_adds_a_line_and_any_can_be_rebuilt(path, clock):
    history = saved(path, 100, 110)
    clock["day"] = "2026-03-05"
    save(rig_with(120, note="new ring"), path, ("Gain 120", "Note"), "the old one clipped")
    history = read_history(path)
    assert [entry.labels for entry in history.entries] == [("Gain 100",), ("Gain 110",), ("Gain 120", "Note")]
    assert [entry.reason for entry in history.entries] == [None, None, "the old one clipped"]
    assert [gain_of(history.rig_at(index)) for index in range(3)] == [100, 110, 120]
    assert history.rig_at(2) == load(path).rig
    assert gain_of(history.rig_at(history.index_at("2026-03-04"))) == 110
    assert gain_of(history.rig_at(history.index_at("2026-03-01T00:00:30+00:00"))) == 100
    assert gain_of(history.rig_at(history.index_at("2026-03-05"))) == 120
    with pytest.raises(InputError, match="begins on 2026-03-01, after 2026-02-28"):
        history.index_at("2026-02-28")


def test_a_moment_counts_to_the_second_and_what_was_tampered_with_is_told(path, clock):
    history = saved(path, 100, 110)
    second = history.entries[1].date
    assert history.index_at(second) == 1
    assert history.index_at(second.replace(":00Z", ":01Z")) == 1
    place = history_path(path)
    place.write_bytes(place.read_bytes().replace(b'"value":110', b'"value":111'))
    with pytest.raises(InputError, match="rebuilt, it is not what was saved"):
        read_history(path).document_at(1)


def test_a_save_of_nothing_new_adds_no_line_but_its_reason_does(path):
    saved(path, 100, 100)
    assert len(read_history(path).entries) == 1
    save(rig_with(100), path, (), "looked through")
    assert read_history(path).entries[-1].reason == "looked through"
    assert gain_of(read_history(path).rig_at(1)) == 100


def test_a_rig_that_was_there_before_its_history_is_its_first_line(path):
    store.save(rig_with(90), path)
    history = saved(path, 100)
    assert [entry.words for entry in history.entries] == [recording.BEGUN, "Gain 100"]
    assert gain_of(history.rig_at(0)) == 90


def test_what_was_changed_outside_is_a_line_of_its_own(path):
    saved(path, 100)
    store.save(rig_with(105), path)
    history = saved(path, 110)
    assert [entry.words for entry in history.entries] == ["Gain 100", OUTSIDE, "Gain 110"]
    assert [gain_of(history.rig_at(index)) for index in range(3)] == [100, 105, 110]


@pytest.mark.parametrize("seed", [0, 1, 2, *further(3, 4, 5)])
def test_after_a_kill_at_any_byte_nothing_before_is_lost(path, tmp_path, seed):
    saved(path, 100, 110, 120)
    place = history_path(path)
    data = place.read_bytes()
    ends = [index + 1 for index, byte in enumerate(data) if byte == ord("\n")]
    cuts = [*random.Random(seed).sample(range(1, len(data)), 12), 1, ends[0], ends[0] + 1, len(data) - 1]
    for cut in cuts:
        place.write_bytes(data[:cut])
        lines = read_lines(place)
        # A line that lacks nothing but its end is whole.
        whole = [end for end in ends if cut >= end - 1]
        assert len(lines.entries) == len(whole)
        assert len(lines.damaged) == (0 if {cut, cut + 1} & set(ends) else 1)
        store.save(rig_with(120), path)
        save(rig_with(130), path, ("Gain 130",))
        history = read_history(path)
        assert gain_of(history.rig_at(len(history.entries) - 1)) == 130
        for index in range(len(whole)):
            assert gain_of(history.rig_at(index)) == (100, 110, 120)[index]
        assert load(path).rig == rig_with(130)


@pytest.mark.parametrize(
    "content", [b"\x00\x01\x02 binary", b'{"format": "wyntaxis-rig"}\n', b"notes of mine\n", b"[1, 2]\n"]
)
def test_a_foreign_file_is_not_written_over_and_the_rig_is_saved(path, content):
    history_path(path).write_bytes(content)
    reported = save(rig_with(100), path, ("Gain",))
    assert len(reported.notes) == 1
    assert "is no history of a rig; rename it" in reported.notes[0]
    assert history_path(path).read_bytes() == content
    assert load(path).rig == rig_with(100)


def test_where_the_history_cannot_be_written_the_rig_is_saved_all_the_same(path):
    history_path(path).mkdir()
    reported = save(rig_with(100), path)
    assert "its history was not written" in reported.notes[0]
    assert load(path).rig == rig_with(100)


def test_the_history_of_a_renamed_rig_is_taken_over_and_that_of_a_copy_begins(path, tmp_path):
    saved(path, 100, 110)
    renamed, copied = tmp_path / "other.rig.json", tmp_path / "copy.rig.json"
    copied.write_bytes(path.read_bytes())
    save(rig_with(115), copied, ("Gain 115",))
    assert [entry.words for entry in read_history(copied).entries] == [recording.BEGUN, "Gain 115"]
    path.rename(renamed)
    save(rig_with(120), renamed, ("Gain 120",))
    assert [entry.words for entry in read_history(renamed).entries] == ["Gain 100", "Gain 110", "Gain 120"]
    assert len(read_history(path).entries) == 2, "the old file stays as it was"


def test_the_histories_of_two_computers_are_joined(path, tmp_path):
    saved(path, 100)
    there = tmp_path / "there"
    there.mkdir()
    other = there / path.name
    other.write_bytes(path.read_bytes())
    history_path(other).write_bytes(history_path(path).read_bytes())
    save(rig_with(200), other, ("There 200",))
    save(rig_with(110), path, ("Here 110",))
    assert join(path, history_path(other)) == 1
    history = read_history(path)
    assert {gain_of(history.rig_at(index)) for index in range(len(history.entries))} == {100, 110, 200}
    assert gain_of(history.rig_at(len(history.entries) - 1)) == 110, "the last line is this computer's"
    assert any(history.is_branch(index) for index in range(len(history.entries)))
    assert join(path, history_path(other)) == 0
    # As a program that keeps folders alike would leave them: one after the other, with lines that stand twice.
    history_path(path).write_bytes(history_path(path).read_bytes() + history_path(other).read_bytes())
    again = read_history(path)
    assert [entry.key for entry in again.entries] == [entry.key for entry in history.entries]
    stranger = there / "stranger.rig.json"
    save(validated(clean_document() | {"name": "a stranger"}), stranger)
    with pytest.raises(InputError, match="another rig"):
        join(path, history_path(stranger))


def test_a_damaged_line_loses_no_more_than_up_to_the_next_whole_document(path, monkeypatch):
    monkeypatch.setattr(recording, "CHECKPOINT", 4)
    saved(path, *range(100, 112))
    place = history_path(path)
    lines = place.read_bytes().split(b"\n")
    whole = [index for index, line in enumerate(lines) if b'"rig":' in line]
    assert whole == [0, 4, 8]
    lines[5] = b'{"format":"wyntaxis-history","version":1,"date":"2026'
    place.write_bytes(b"\n".join(lines))
    history = read_history(path)
    assert [damaged.line for damaged in history.damaged] == [6]
    reported = {}
    for index, entry in enumerate(history.entries):
        try:
            reported[entry.line] = gain_of(history.rig_at(index))
        except InputError:
            reported[entry.line] = None
    assert reported == {line: None if line in (7, 8) else 99 + line for line in range(1, 13) if line != 6}


def test_a_save_looks_at_no_more_than_the_end(path, monkeypatch):
    monkeypatch.setattr(recording, "CHECKPOINT", 3)
    saved(path, *range(100, 108))
    lines = history_path(path).read_bytes().split(b"\n")
    assert [index for index, line in enumerate(lines) if b'"rig":' in line] == [0, 3, 6]
    assert [entry.line for entry in read_lines(history_path(path), last=3).entries] == [6, 7, 8]
    place = history_path(path)
    place.write_bytes(place.read_bytes() + b"junk\n" * 5)
    history = saved(path, 120)
    assert gain_of(history.rig_at(len(history.entries) - 1)) == 120, "what is damaged at the end is looked past"
    assert history.entries[-1].before == history.entries[-2].after


def test_a_compacted_history_keeps_each_day_and_each_reason(path, clock):
    for day in ("2026-01-01", "2026-01-02"):
        clock["day"] = day
        for gain in (100, 110, 120):
            save(rig_with(gain), path, (f"Gain {gain}",), "why" if (day, gain) == ("2026-01-01", 110) else None)
    clock["day"] = "2026-03-01"
    saved(path, 130, 140)
    before, after = compact(path, "2026-03-02T00:00:00Z", days=30)
    assert (before, after) == (8, 6)
    history = read_history(path)
    assert [(entry.date[:10], gain_of(history.rig_at(i))) for i, entry in enumerate(history.entries)] == [
        ("2026-01-01", 100), ("2026-01-01", 110), ("2026-01-01", 120), ("2026-01-02", 120),
        ("2026-03-01", 130), ("2026-03-01", 140),
    ]  # fmt: skip
    assert history.entries[3].labels == ("Gain 100", "Gain 110", "Gain 120")
    assert not any(history.is_branch(index) for index in range(6))
    assert path.with_name(history_path(path).name + "~").exists()


def test_a_thousand_saves_are_read_and_every_one_is_exact(path):
    first, documents, lines = document_of(rig_with(100)), [], []
    for index in range(1000):
        documents.append(first | {"note": f"save {index}", "name": f"rig {index % 7}"})
        before = documents[-2] if index else None
        patch = patch_between(before, documents[-1]) if before is not None else None
        whole = documents[-1] if index % CHECKPOINT == 0 else None
        was = digest(before) if before is not None else None
        date = f"2026-03-01T00:00:{index:05d}"
        lines.append(Entry(date, ("x",), digest(documents[-1]), was, None, None, patch, whole).as_line())
    history_path(path).write_bytes(b"".join(lines))
    history = read_history(path)  # how long it takes, benchmarks/bench_history.py measures
    assert len(history.entries) == 1000
    for index in (0, 1, CHECKPOINT - 1, CHECKPOINT, 777, 999):
        assert history.document_at(index) == documents[index]


DOCUMENTS = st.recursive(
    st.none() | st.booleans() | st.integers(-5, 5) | st.text(max_size=4),
    lambda own: st.lists(own, max_size=4) | st.dictionaries(st.text("ab/~", max_size=3), own, max_size=4),
    max_leaves=12,
)


@settings(deadline=None)
@given(st.dictionaries(st.text("ab/~", max_size=3), DOCUMENTS, max_size=4), st.lists(DOCUMENTS, max_size=3))
def test_a_patch_leads_from_any_document_to_any_other(before, list_):
    after = {**{key: value for key, value in before.items() if key != "a"}, "b": list_}
    patch = json.loads(json.dumps(patch_between(before, after)))
    assert patched(copy.deepcopy(before), patch) == after


@settings(deadline=None, max_examples=60)
@given(st.binary(max_size=300), st.integers(0, 2000))
def test_no_bytes_in_a_history_are_more_than_a_line_of_complaint(tmp_path_factory, junk, at):
    folder = tmp_path_factory.mktemp("h")
    path = folder / "a.rig.json"
    save(rig_with(100), path)
    place = history_path(path)
    data = place.read_bytes()
    place.write_bytes(data[:at] + junk + data[at:])
    with contextlib.suppress(InputError):
        history = read_history(path)
        for index in range(len(history.entries)):
            history.document_at(index)
    save(rig_with(111), path)
    assert gain_of(load(path).rig) == 111


@pytest.mark.parametrize("text", ["yesterday", "2026-13-01", "", "2026-03-01T99:00"])
def test_what_is_no_date_is_refused(text):
    with pytest.raises(InputError, match="is no date"):
        moment_of(text)


def test_unsaved_edits_are_told_in_words():
    history = edit.History([rig_with(100)])
    for gain in (110, 120):
        history.push(rig_with(gain), f"Gain {gain}")
    assert history.unsaved_labels == ("Gain 110", "Gain 120")
    history.mark_saved()
    assert history.unsaved_labels == ()
    history.undo()
    assert history.unsaved_labels == ("Undo: Gain 120",)
    history.push(rig_with(130), "Gain 130")
    assert history.unsaved_labels == ("Gain 110", "Gain 130"), "what was saved is no version any more"


@pytest.mark.parametrize("at", [0, 59, *further(1, 3, 9, 10, 11, 30)])
@pytest.mark.parametrize("how", ["cut", "tampered"])
def test_after_a_damaged_line_every_later_save_can_be_shown_again_and_it_is_said(path, at, how):
    """Sixty saves, a line of them damaged: the next save says so, and all that follow can be rebuilt."""
    saved(path, *range(100, 160))
    place = history_path(path)
    lines = place.read_bytes().split(b"\n")
    lines[at] = lines[at][:40] if how == "cut" else lines[at].replace(b'"value":', b'"value":7')
    if lines[at].count(b'"value":') == 0 and how == "tampered":
        lines[at] = lines[at].replace(b"true", b"false", 1)
    place.write_bytes(b"\n".join(lines))
    was_lost = not read_history(path).is_whole_at(len(read_history(path).entries) - 1)
    notes = save(rig_with(200), path, ("Gain 200",)).notes
    assert bool(notes) == was_lost
    if was_lost:
        assert "cannot be shown again; this one is written whole" in notes[0]
    for gain in range(201, 241):
        assert save(rig_with(gain), path, (f"Gain {gain}",)).notes == ()
    history = read_history(path)
    reported = [
        entry for entry in history.entries if entry.labels and entry.labels[0] in {f"Gain {g}" for g in range(200, 241)}
    ]
    rebuilt = [gain_of(history.rig_at(history.entries.index(entry))) for entry in reported]
    assert rebuilt == list(range(200, 241))


def test_saves_count_in_their_order_where_a_clock_goes_back(path, clock):
    clock["day"] = "2026-05-01"
    saved(path, 100)
    clock["day"] = "2027-01-01"  # a clock that ran ahead
    saved(path, 110)
    clock["day"] = "2026-05-02"
    saved(path, 120)
    history = read_history(path)
    assert gain_of(history.rig_at(history.index_at("2026-05-01"))) == 100
    assert gain_of(history.rig_at(history.index_at("2026-05-02"))) == 120
    assert gain_of(history.rig_at(history.index_at("2027-06-01"))) == 120, "the last save is the last"


def test_joining_keeps_the_order_of_each_side(path, tmp_path, clock):
    saved(path, 100)
    there = tmp_path / "there"
    there.mkdir()
    other = there / path.name
    other.write_bytes(path.read_bytes())
    history_path(other).write_bytes(history_path(path).read_bytes())
    for place, gains in ((path, (110, 111, 112)), (other, (210, 211))):
        for day, gain in zip(("2026-06-09", "2026-06-01", "2026-06-05"), gains, strict=False):
            clock["day"] = day
            save(rig_with(gain), place, (f"Gain {gain}",))
    own, theirs = ([e.key for e in read_history(one).entries] for one in (path, other))
    assert join(path, history_path(other)) == 2
    merged = [entry.key for entry in read_history(path).entries]
    assert [key for key in merged if key in own] == own
    assert [key for key in merged if key in theirs] == theirs
    assert merged[-1] == own[-1]


def test_a_history_larger_than_one_reads_is_still_written_and_compacted(path, monkeypatch, clock):
    for day in ("2026-01-01", "2026-01-02", "2026-03-01"):
        clock["day"] = day
        saved(path, 100, 110, 120)
    size = history_path(path).stat().st_size
    monkeypatch.setattr(entries, "END_BYTES", size - 1000)
    for module in (entries, states):
        monkeypatch.setattr(module, "SIZE_LIMIT_BYTES", size - 1)
    monkeypatch.setattr(entries.read_lines, "__defaults__", (None, size - 1))
    monkeypatch.setattr(states.read_history, "__defaults__", (size - 1,))
    with pytest.raises(InputError, match="compacted first"):
        read_history(path)
    assert save(rig_with(130), path, ("Gain 130",)).notes == ()
    assert b"Gain 130" in history_path(path).read_bytes()
    seen = []
    before, after = compact(path, "2026-03-02T00:00:00Z", watch=lambda done, of: seen.append((done, of)))
    assert (before, after) == (10, 7)
    assert seen[-1] == (10, 10)
    monkeypatch.undo()
    history = read_history(path)
    assert [gain_of(history.rig_at(index)) for index in range(7)] == [100, 120, 120, 100, 110, 120, 130]


def _save_often(path, key, start):
    """Another process: it sets its own value again and again."""
    for count in range(12):
        edit_file(
            path,
            lambda rig, value=start + count: edit.apply(rig, Change.of("x", ("measured", key), quantity_value(value))),
        )


def quantity_value(value):
    return {"value": value, "standard_uncertainty": 0.1}


def test_processes_that_save_at_the_same_time_keep_each_others_values(path):
    saved(path, 100)
    keys = {"star_fwhm_arcsec": 1, "polar_error_arcmin": 101}
    processes = [
        multiprocessing.get_context("spawn").Process(target=_save_often, args=(path, key, start))
        for key, start in keys.items()
    ]
    for process in processes:
        process.start()
    for process in processes:
        process.join(60)
        assert process.exitcode == 0
    rig = load(path).rig
    assert {key: rig.measured[key].value for key in keys} == {key: start + 11 for key, start in keys.items()}
    history = read_history(path)
    for key in keys:
        found = [history.rig_at(i).measured.get(key) for i in range(len(history.entries))]
        values = [one.value for one in found if one is not None]
        assert values == sorted(values), "no save set the other's value back"
    assert len(history.entries) == 1 + 24


def test_what_a_command_keeps_goes_where_its_device_stands_now(path, capsys):
    """Between reading and saving another program puts a device ahead of the one that was measured."""
    rig = rig_with(100)
    save(rig, path)
    change = Change.of("x", ("devices", 0, "settings", "gain", "value"), 111)
    moved = document_of(rig)
    moved["devices"].insert(0, {"id": "newcomer", "kind": "other"})
    now = validated(moved)
    assert gain_of(edit.apply(now, change.for_version(rig, now))) == 111
    moved["devices"] = moved["devices"][:1]
    with pytest.raises(InputError, match="is no longer in this rig; nothing was changed"):
        change.for_version(rig, validated(moved))


@pytest.mark.parametrize(
    ("more", "there", "lies"),
    [
        ([], 1, ["a", "x"]),
        (["b"], 1, ["a", "b", "x"]),
        (["b", "c"], 1, ["a", "b", "c", "x"]),
        (["b"], 0, ["x", "b"]),
    ],
)
def test_what_two_append_to_one_list_is_kept_of_both(more, there, lies):
    """One read a list of one entry and writes behind it, or over it; the other has appended to it since."""

    def noted(*words):
        document = document_of(rig_with(100))
        document["incidents"] = [{"date": "2026-01-01", "symptom": word} for word in words]
        return validated(document)

    entry = {"date": "2026-01-02", "symptom": "x"}
    before, now = noted("a"), noted("a", *more)
    change = Change.of("x", ("incidents", there), entry).for_version(before, now)
    assert [own.symptom for own in edit.apply(now, change).incidents] == lies
    two = Change("x", ((("incidents", 1), entry), (("incidents", 2), entry)))
    assert len(edit.apply(now, two.for_version(before, now)).incidents) == 1 + len(more) + 2


@pytest.mark.parametrize("setup", [{"setup": {"kind": "carried", "date": "2026-11-20T18:00:00Z"}}, {}])
def test_commands_that_tick_at_the_same_time_lose_no_tick(path, setup):
    save(validated(document_of(rig_with(100)) | setup), path)
    script = "from wyntaxis.cli import main; import sys; [main(sys.argv[1:]) for _ in range(6)]"
    words = [sys.executable, "-c", script, "tonight", str(path), "--done", "run-up.power", "--json"]
    running = [subprocess.Popen(words, stdout=subprocess.DEVNULL) for _ in range(2)]
    assert [process.wait(120) for process in running] == [0, 0]
    assert len(load(path).rig.setup.done) == 12


def test_a_command_that_keeps_says_what_of_the_history_is_lost(path, capsys):
    saved(path, 100, 110)
    history_path(path).write_bytes(b"notes of mine\n")
    assert main(["scale", str(path), "--typed", "1.5", "--u", "0.01", "--keep"]) in (0, 1)
    assert "its history was not written" in capsys.readouterr().err


def test_an_empty_history_and_a_broken_chain(path):
    assert read_history(path).entries == ()
    with pytest.raises(InputError, match="nothing has been saved"):
        read_history(path).index_at("2026-01-01")
    with pytest.raises(InputError, match="no history to compact"):
        compact(path, "2026-03-02T00:00:00Z")
    isolated = RigHistory((Entry("2026-01-01T00:00:00Z", (), "b", "a", patch=[]),))
    with pytest.raises(InputError, match="goes on from is lost"):
        isolated.document_at(0)
    ring = RigHistory((Entry("x", (), "b", "a", patch=[]), Entry("y", (), "a", "b", patch=[])))
    with pytest.raises(InputError, match="is lost"):
        ring.document_at(0)
    record(path, None, document_of(rig_with(100)))
    assert read_history(path).entries[0].words == recording.BEGUN
