"""Saving: what is written can be opened, nothing is replaced without a word, and nothing older is destroyed."""

import json
import os

import pytest

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.files import saving
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import SIZE_LIMIT_BYTES
from wyntaxis.core.files.saving import ProtectedError, is_protected, write_atomically
from wyntaxis.core.rig.recovery import find_left_behind, write_journal
from wyntaxis.core.rig.shelf import STARTER, Shelf, load_shelf, merged
from wyntaxis.core.rig.store import load, save, to_bytes, validated


@pytest.fixture
def rig():
    return validated(clean_document())


def large(share):
    """A rig that takes this share of what a reader takes, written without a space."""
    document = clean_document()
    frames = {f"f{number}.fits": {"gain": 1, "offset": 2, "exposure_s": 3} for number in range(5000)}
    document["corrections"] = frames
    values = {f"key{number:09d}": 1 for number in range(3000)}
    record = {"name": "r", "values": values}
    document["records"] = []
    size = len(json.dumps(document, separators=(",", ":")))
    while size < share * SIZE_LIMIT_BYTES and len(document["records"]) < 100:
        entry = record | {"id": f"r{len(document['records'])}", "note": "n" * 3000}
        document["records"].append(entry)
        size += len(json.dumps(entry, separators=(",", ":"))) + 1
    return validated(document)


def test_a_rig_that_could_be_opened_can_be_opened_again(tmp_path):
    rig, path = large(0.72), tmp_path / "large.rig.json"
    indented = len(json.dumps(rig.model_dump(mode="json", exclude_unset=True), indent=2))
    assert indented > SIZE_LIMIT_BYTES, "written as people like it, it would be too large"
    save(rig, path)
    assert path.stat().st_size <= SIZE_LIMIT_BYTES
    assert load(path).rig == rig
    journal = tmp_path / "1-2.journal.json"
    write_journal(journal, rig, path, "0" * 64)
    assert [found.rig == rig for found in find_left_behind(tmp_path)] == [True]


def test_a_rig_too_large_to_be_opened_again_is_not_written(tmp_path):
    path = tmp_path / "a.rig.json"
    path.write_text("as it was", "utf-8")
    with pytest.raises(InputError, match=r"no more than 4.2 MB can be opened again"):
        save(large(1.02), path)
    assert path.read_text("utf-8") == "as it was"


def test_a_protected_file_is_not_overwritten_without_a_word(tmp_path, rig, capsys):
    path = tmp_path / "a.rig.json"
    save(rig, path)
    before = path.read_bytes()
    path.chmod(0o444)
    assert is_protected(path)
    with pytest.raises(ProtectedError, match=r"a\.rig\.json: is write-protected"):
        save(rig.model_copy(update={"name": "other"}), path)
    assert main(["scale", str(path), "--typed", "1.5", "--keep"]) == 2
    assert "is write-protected" in capsys.readouterr().err
    assert path.read_bytes() == before
    save(rig.model_copy(update={"name": "other"}), path, protected=True)
    assert load(path).rig.name == "other"
    assert path.stat().st_mode & 0o777 == 0o444


def test_mode_and_attributes_are_kept_and_hard_links_told(tmp_path, rig):
    path = tmp_path / "a.rig.json"
    save(rig, path)
    path.chmod(0o640)
    has_attributes = True
    try:
        os.setxattr(path, "user.origin", b"hut")
    except OSError:
        has_attributes = False
    assert save(rig, path).notes == ()
    assert path.stat().st_mode & 0o777 == 0o640
    if has_attributes:
        assert os.getxattr(path, "user.origin") == b"hut"
    os.link(path, tmp_path / "other name")
    assert save(rig, path).notes == ("its other names (hard links) hold the version before",)


def test_owner_and_group_are_kept(tmp_path, rig, monkeypatch):
    path, given = tmp_path / "a.rig.json", []
    save(rig, path)
    real = os.stat_result([*list(path.stat())[:4], 12345, 54321, *list(path.stat())[6:]])
    monkeypatch.setattr(type(path), "stat", lambda self, **_: real if self == path else os.stat(self))  # noqa: PTH116
    monkeypatch.setattr(saving.os, "fchown", lambda _fd, user, group: given.append((user, group)))
    assert save(rig, path).notes == ()
    assert given == [(12345, 54321)]

    def refuse(_fd, user, _group):
        if user != -1:
            raise PermissionError(1, "not allowed")

    monkeypatch.setattr(saving.os, "fchown", refuse)
    assert save(rig, path).notes == ("it belongs to you now, as its owner cannot be kept",)


@pytest.mark.parametrize("length", [200, 201, 245, 254, 255])
def test_names_up_to_the_longest(tmp_path, rig, length):
    path = tmp_path / ("n" * (length - 9) + ".rig.json")
    assert save(rig, path).notes == ()
    notes = save(rig, path).notes
    assert load(path).rig == rig
    assert bool(notes) == (length == 255), "only then the version before has no room for its mark"
    assert path.with_name(path.name + "~").exists() if length < 255 else True
    assert not [one for one in tmp_path.iterdir() if "saving-" in one.name]
    with pytest.raises(InputError, match="cannot be saved"):
        save(rig, tmp_path / ("n" * 256))


def test_a_folder_in_the_place_of_the_version_before_is_told_and_nothing_is_left(tmp_path, rig):
    path = tmp_path / "x.rig.json"
    save(rig, path)
    (tmp_path / "x.rig.json~").mkdir()
    assert save(rig, path).notes == ("the version before is not kept: x.rig.json~ is a folder",)
    assert sorted(one.name for one in tmp_path.iterdir()) == ["x.rig.json", "x.rig.json~"]


def test_a_new_file_has_what_the_mask_allows_and_the_mask_is_never_touched(tmp_path, monkeypatch):
    before = os.umask(0o027)
    try:
        with monkeypatch.context() as patched:
            patched.setattr(os, "umask", lambda _mask: pytest.fail("other threads may write just now"))
            write_atomically(b"x", tmp_path / "new", keep_previous=False)
    finally:
        os.umask(before)
    assert (tmp_path / "new").stat().st_mode & 0o777 == 0o640


def test_a_full_disk_destroys_nothing(tmp_path, monkeypatch):
    path = tmp_path / "export.csv"
    path.write_text("an older export", "utf-8")

    def full(_descriptor):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(saving.os, "fsync", full)
    with pytest.raises(InputError, match="no space left on device; save it in another place"):
        write_atomically(b"new", path, keep_previous=False)
    assert path.read_text("utf-8") == "an older export"
    assert [one.name for one in tmp_path.iterdir()] == ["export.csv"]


def test_two_changes_of_one_shelf_are_both_kept():
    before = load_shelf(STARTER)
    first, *rest = before.parts
    changed = first.model_copy(update={"owned": 7})
    mine = Shelf(parts=(changed, *rest[1:]))  # one changed, one taken out
    others = Shelf(
        parts=(first, *rest, rest[0].model_copy(update={"part": rest[0].part.model_copy(update={"id": "new"})}))
    )
    found = {entry.part.id: entry for entry in merged(before, mine, others).parts}
    assert found[first.part.id].owned == 7
    assert rest[0].part.id not in found
    assert "new" in found
    assert merged(before, before, others) == others
    assert merged(before, mine, before) == Shelf(parts=(changed, *rest[1:]))


def test_what_is_written_is_as_people_like_it_while_there_is_room(rig):
    assert to_bytes(rig).startswith(b'{\n  "format": "wyntaxis-rig"')
