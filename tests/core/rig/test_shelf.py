"""The shelf and its exchange as CSV."""

import pytest

from tests.conftest import EXAMPLE
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig.shelf import (
    STARTER,
    Shelf,
    from_csv,
    load_own_shelf,
    load_shelf,
    save_shelf,
    to_csv,
    validated_shelf,
)


def test_shelf_files_round_trip(tmp_path):
    shelf = load_own_shelf(tmp_path / "none.json")
    assert shelf == load_shelf(STARTER)
    save_shelf(shelf, tmp_path / "sub" / "shelf.json")
    assert load_own_shelf(tmp_path / "sub" / "shelf.json") == shelf
    save_shelf(shelf, tmp_path / "shelf.csv")
    again = load_shelf(tmp_path / "shelf.csv")
    assert [(e.part.id, e.owned, e.part.length_mm) for e in again.parts] == [
        (e.part.id, e.owned, e.part.length_mm) for e in shelf.parts
    ]
    assert to_csv(again) == to_csv(shelf)


HEADER = "id,kind,name,owned,length_mm,front_thread,front_gender\n"


@pytest.mark.parametrize(
    "text, words",
    [
        (b"\xff\xfe", "not UTF-8"),
        (b"", "the column id is missing"),
        (b"id,kind\n", "the column length_mm is missing"),
        (b"id,kind,length_mm,colour\n", 'unknown column "colour"'),
        (b"id,id,kind,length_mm\n", "is twice in the header"),
        (HEADER.encode() + b'a,spacer,,1,"12,5 mm",,\n', 'line 2: length_mm: must be a number, got "12,5 mm"'),
        (HEADER.encode() + b"a,spacer,,1,5,,\nb,spacr,,1,5,,\n", "line 3: kind: must be one of"),
        (HEADER.encode() + b"a,spacer,,1,-5,,\n", "line 2: length_mm: must be at least 0"),
        (HEADER.encode() + b"a,spacer,,1,nan,,\n", "line 2: length_mm: must be a finite number"),
        (HEADER.encode() + b"a,spacer,,1.5,5,,\n", "line 2: owned: must be a whole number"),
        (HEADER.encode() + b"a,spacer,,1,5,M42x0.75,\n", "line 2: front.gender: is missing"),
        (HEADER.encode() + b"a,spacer,,1,5,,,,9\n", "more cells than the header"),
        (HEADER.encode() + b"a,spacer,,1,5,,\na,spacer,,1,5,,\n", '"a" is twice'),
        (HEADER.encode() + b'a,"spacer,,1,5,,\n', "broken CSV"),
    ],
)
def test_bad_csv_is_told_by_line(text, words):
    with pytest.raises(InputError) as refused:
        from_csv(text)
    assert words in str(refused.value)
    assert "\n" not in str(refused.value)


def test_csv_with_semicolons_and_decimal_commas():
    shelf = from_csv("\ufeffid;kind;length_mm\na;spacer;12,5\n\n".encode())
    assert shelf.parts[0].part.length_mm == 12.5
    with pytest.raises(InputError, match="is it a shelf file"):
        validated_shelf(EXAMPLE)
    with pytest.raises(InputError, match=r"parts\[0\].part.length_mm"):
        validated_shelf({"format": "wyntaxis-shelf", "parts": [{"part": {"id": "a", "kind": "spacer"}}]})


def test_an_empty_shelf_is_a_shelf():
    assert Shelf().parts == ()
    assert Shelf().find("x") is None
