"""Foreign files: read safely and flat, mapped to quantities, compared with stories; hostile ones get one line."""

import gzip
import os

import pytest
import yaml
from astropy.io import fits
from hypothesis import given
from hypothesis import strategies as st

from tests.rigs import clean_document
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.foreign.keymap import KeyMap, KeyMaps, KeyRule, load_maps, matches, save_maps, stable_path
from wyntaxis.core.evidence.foreign.readers import FORMS, MAX_VALUES, read_foreign
from wyntaxis.core.evidence.foreign.units import convert, foreign_number_in, parse_foreign_number, parse_foreign_truth
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.records.bring_in import record_of
from wyntaxis.core.records.likely_causes import is_placeholder, likely_cause_of_list, likely_cause_of_number
from wyntaxis.core.records.mapping import Suggestions, apply_map
from wyntaxis.core.records.quantities import Comparable, comparables
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.model import variant_rig
from wyntaxis.core.rig.store import validated


@pytest.fixture(scope="module")
def evaluation():
    return evaluate(validated(clean_document()))


@pytest.fixture(scope="module")
def known(evaluation):
    return comparables(evaluation)


FILES = {
    "a.json": ('{"scope": {"focal": 676, "on": true}, "filters": [{"name": "L"}, {"name": null}]}', "scope.focal"),
    "b.toml": ("[scope]\nfocal = 676\nmade = 2026-01-02\n", "scope.focal"),
    "c.yaml": ("scope: &s\n  focal: 676\n  on: yes\nagain: *s\n", "scope.focal"),
    "d.ini": ("[scope]\nfocal = 676\n%(x)s = 1\n", "scope.focal"),
    "e.conf": ("# no section\nfocal=676\n", "file.focal"),
    "f.xml": ('<r xmlns="urn:x"><scope focal="676"><on>1</on></scope></r>', "r.scope.focal"),
    "g.csv": ("key;value\nfocal;676\n", "focal"),
    "h.csv": ("name,focal,gain\nmain,676,100\nguide,200,1\n", "focal[0]"),
    "plain": ("[scope]\nfocal = 676\n", "scope.focal"),
}


@pytest.mark.parametrize("name", FILES)
def test_every_form_is_flattened_to_paths(name, tmp_path):
    text, path = FILES[name]
    (tmp_path / name).write_text(text, "utf-8")
    file = read_foreign(tmp_path / name)
    assert file.form in FORMS
    assert float(file.values[path]) == 676


def test_texts_keep_what_they_hold(tmp_path):
    (tmp_path / "a.json").write_text(FILES["a.json"][0], "utf-8")
    values = read_foreign(tmp_path / "a.json").values
    assert values == {"scope.focal": 676.0, "scope.on": True, "filters[0].name": "L", "filters[1].name": None}
    (tmp_path / "c.yaml").write_text(FILES["c.yaml"][0], "utf-8")
    assert read_foreign(tmp_path / "c.yaml").values["again.focal"] == 676
    (tmp_path / "u.ini").write_bytes("[s]\nname = Fernweh\n".encode("utf-16"))
    assert read_foreign(tmp_path / "u.ini").values == {"s.name": "Fernweh"}
    frame = fits.PrimaryHDU()
    frame.header["FOCALLEN"] = 676.0
    frame.header["HISTORY"] = "taken"
    fits.HDUList([frame, fits.ImageHDU()]).writeto(tmp_path / "f.fits.gz")
    values = read_foreign(tmp_path / "f.fits.gz").values
    assert (values["FOCALLEN"], values["hdu1.NAXIS"]) == (676.0, 0.0)
    assert "HISTORY" not in values


def deep(left, right, count=100_000):
    return (left * count + right * count).encode()


ALIASES = "a: &a [x,x,x,x,x,x,x,x,x]\n" + "".join(
    f"{b}: &{b} [{','.join(f'*{a}' for _ in range(9))}]\n" for a, b in zip("abcdefgh", "bcdefghi", strict=True)
)
ENTITIES = (
    '<!DOCTYPE x [<!ENTITY a "ha">'
    + "".join(f'<!ENTITY {b} "{f"&{a};" * 9}">' for a, b in zip("abcdefg", "bcdefgh", strict=True))
    + "]><x>&h;</x>"
)
HOSTILE = {
    "deep.json": deep("[", "]"),
    "deep.yaml": deep("[", "]", 5000),
    "deep.toml": b"a = " + deep("[", "]"),
    "deep.xml": b"<a>" * 50_000 + b"</a>" * 50_000,
    "bomb.yaml": ALIASES.encode(),
    "endless.yaml": b"&a [*a]",
    "bomb.xml": ENTITIES.encode(),
    "outside.xml": b'<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]><x>&a;</x>',
    "object.yaml": b"!!python/object/apply:os.system ['touch /tmp/never']\n--- b",
    "nul.ini": b"[a]\nb = \x00\x00\n",
    "nul.json": b'{"a": "\x00"}',
    "empty.json": b"",
    "blank.csv": b" \n \n",
    "broken.json": b'{"a": ',
    "digits.json": b'{"a": ' + b"9" * 5000 + b"}",
    "many.json": b"[" + b"1," * (MAX_VALUES + 1) + b"1]",
    "noise.fits": os.urandom(9000),
    "cut.fits": b"SIMPLE  =                    T" + b" " * 50,
    "bomb.fits.gz": gzip.compress(b"x" * 100_000)[:500],
    "binary.bin": bytes(range(256)) * 40,
    "wide.csv": b"a,b,c\n" + b'"' + b"x" * 200_000 + b"\n",
}


@pytest.mark.parametrize("name", HOSTILE)
def test_hostile_files_get_one_line(name, tmp_path):
    path = tmp_path / name
    path.write_bytes(HOSTILE[name])
    with pytest.raises(InputError) as entries:
        read_foreign(path)
    line = str(entries.value)
    assert line.startswith(str(path))
    assert "\n" not in line
    assert len(line) < 400


def test_a_huge_a_missing_and_a_strange_file_are_refused(tmp_path):
    with (tmp_path / "huge.json").open("wb") as file:
        file.truncate(200_000_000)
    for path, words in (
        (tmp_path / "huge.json", "200 MB"),
        (tmp_path / "none.json", "cannot be read"),
        (tmp_path, "is a folder"),
    ):
        with pytest.raises(InputError, match=words):
            read_foreign(path)


@given(st.binary(max_size=400), st.sampled_from([".json", ".toml", ".yaml", ".ini", ".xml", ".csv", ".fits", ""]))
def test_any_bytes_are_read_or_refused_in_a_line(tmp_path_factory, data, ending):
    path = tmp_path_factory.mktemp("any") / f"file{ending}"
    path.write_bytes(data)
    try:
        values = read_foreign(path).values
    except InputError as error:
        values = {"told": str(error)}
    assert values
    assert all(isinstance(value, (float, bool, str, type(None))) for value in values.values())
    assert not any("\n" in value for value in values.values() if isinstance(value, str))


TREES = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(-1000, 1000), st.text("abc ", max_size=5)),
    lambda inner: st.one_of(
        st.lists(inner, max_size=3), st.dictionaries(st.text("abc", min_size=1), inner, max_size=3)
    ),
    max_leaves=12,
).filter(lambda tree: tree not in ([], {}))


@given(TREES)
def test_json_and_yaml_flatten_alike(tmp_path_factory, tree):
    import json

    folder = tmp_path_factory.mktemp("tree")
    (folder / "t.json").write_text(json.dumps({"t": tree}), "utf-8")
    (folder / "t.yaml").write_text(yaml.safe_dump({"t": tree}), "utf-8")
    try:
        one = read_foreign(folder / "t.json").values
    except InputError:  # nothing but empty lists
        return
    assert {k: v for k, v in one.items() if v != ""} == {
        k: v for k, v in read_foreign(folder / "t.yaml").values.items() if v != ""
    }


@pytest.mark.parametrize(
    "text, value",
    [(676, 676), ("676,5", 676.5), ("676 mm", 676), ("-47 18 00", -47.3), ("47° 18′ 36″", 47.31), ("1e3", 1000)],
)
def test_numbers_as_programs_write_them(text, value):
    assert parse_foreign_number(text) == pytest.approx(value)


@pytest.mark.parametrize("value", [True, "", "wide", "12 parsec 3", "1.2.3"])
def test_what_is_no_number_is_refused(value):
    with pytest.raises(ValueError, match="no number"):
        parse_foreign_number(value)


@pytest.mark.parametrize(
    "value, written, unit, ours",
    [
        (0.676, "m", "mm", 676),
        (11.811, "in", "mm", 300),
        (0.74, "h", "°", 11.1),
        (263.15, "K", "°C", -10),
        (14, "°F", "°C", -10),
    ],
)
def test_units(value, written, unit, ours):
    assert convert(value, written, unit) == pytest.approx(ours, abs=1e-3)
    with pytest.raises(ValueError, match="cannot be given in"):
        convert(1, "parsec", unit)


def test_truths():
    assert [parse_foreign_truth(v) for v in (True, "Yes", 1.0, "off", 0.0)] == [True, True, True, False, False]
    with pytest.raises(ValueError, match="neither"):
        parse_foreign_truth("perhaps")


def test_a_map_points_paths_at_quantities(known):
    flat = {
        "optics.focal": "0.676",
        "slots[0].n": "L",
        "slots[1].n": "R",
        "slots[10].n": "Ha",
        "slots[2].n": "G",
        "names": "L; R; G",
        "cool": "on",
        "gain": "",
        "bad": "x",
    }
    rules = [
        KeyRule(path="optics.focal", quantity="effective_focal_length_mm", unit="m"),
        KeyRule(path="slots[*].n", quantity="rondel.slots"),
        KeyRule(path="cool", quantity="main.cooler_on"),
        KeyRule(path="gain", quantity="main.gain"),
        KeyRule(path="bad", quantity="main.offset"),
        KeyRule(path="gone", quantity="pixel_um"),
        KeyRule(path="cool", quantity="nothing.known"),
    ]
    found = apply_map(rules, flat, known)
    assert found.values == {
        "effective_focal_length_mm": 676.0,
        "rondel.slots": ("L", "R", "G", "Ha"),
        "main.cooler_on": True,
    }
    assert [fault.split(": ", 1)[1] for fault in found.faults] == [
        "holds no value",
        "“x” is no number",
        "is not in the file",
        "nothing.known is nothing that this rig knows; point the path at another",
    ]
    split = KeyRule(path="names", quantity="rondel.slots", separator="semicolon")
    assert apply_map([split], flat, known).values["rondel.slots"] == ("L", "R", "G")
    assert matches("slots[*].n", flat) == ["slots[0].n", "slots[1].n", "slots[2].n", "slots[10].n"]
    entries = Suggestions(known)
    assert entries.of('profile."Focal Length"') == "effective_focal_length_mm"
    assert entries.of("device.serial") is entries.of("0") is None
    assert entries.of("profile.gain") is None  # two cameras have one
    rules = entries.rules({"a.focallen": 676.0, "b.FocalLength": 500.0, "c.latitude": "", "d.SITELAT": "47 18 00"})
    assert [(rule.path, rule.quantity) for rule in rules] == [
        ("a.focallen", "effective_focal_length_mm"),
        ("d.SITELAT", "site.latitude_deg"),
    ]


def test_maps_are_kept_and_known_again(tmp_path, evaluation):
    path = tmp_path / "own" / "key-maps.json"
    source = tmp_path / "profile.ini"
    source.write_text("[scope]\nfocal = 676\n[cam]\ngain = 120\n", "utf-8")
    chosen = KeyMap(
        name="capture program",
        form="ini",
        rules=(
            KeyRule(path="scope.focal", quantity="effective_focal_length_mm"),
            KeyRule(path="cam.gain", quantity="main.gain"),
        ),
    )
    save_maps(load_maps(path).with_map(chosen), path)
    file = read_foreign(source)
    assert load_maps(path).suiting(file) == chosen
    change, entries = record_of(evaluation, source, file, chosen)
    assert entries == ()
    rig = edit.apply(evaluation.rig, change)
    kept = rig.records[0]
    assert (kept.id, kept.side, kept.values) == (
        "client",
        "client",
        {"effective_focal_length_mm": 676.0, "main.gain": 120.0},
    )
    assert len(kept.evidence.sha256) == 64
    assert len(rig.records) == 2
    other = KeyMap(name="guide program", form="ini", rules=(KeyRule(path="no.where", quantity="main.gain"),))
    with pytest.raises(InputError, match="finds nothing in it"):
        record_of(evaluation, source, file, other)
    path.write_text('{"format": "wyntaxis-key-maps", "version": 1, "maps": [{"nme": 1}]}', "utf-8")
    with pytest.raises(InputError, match=r"maps\[0\]\.nme: unknown key; did you mean name\?"):
        load_maps(path)
    assert KeyMaps().suiting(file) is None


@pytest.mark.parametrize(
    "has, story",
    [
        (("L", "R", "G"), ""),
        (("L", "G", "R"), "order of R and G swapped"),
        (("G", "R", "L"), "order of L and G swapped"),
        (("L", "R", "G", "Filter 4", ""), "unused slots left over: 4, 5"),
        (("l", "R ", "G"), "only capitals or spaces differ"),
        (("L", "R", "R"), "R stands 2 times"),
        (("L", "R"), "without G"),
        (("L", "R", "B"), "without G; with B"),
    ],
)
def test_stories_of_lists(has, story):
    assert likely_cause_of_list(has, ("L", "R", "G")) == story


@pytest.mark.parametrize("name", ["", "  ", "Filter 5", "slot_6", "Unused", "empty", "Position 3", "-"])
def test_names_that_nobody_gave(name):
    assert is_placeholder(name)
    assert not any(is_placeholder(real) for real in ("L", "Ha 3", "Lum", "SII", "Dark", "Blue"))


@pytest.mark.parametrize(
    "key, factor, words",
    [
        ("effective_focal_length_mm", 0.76, "counted twice"),
        ("pixel_scale_arcsec_px", 0.76, "the reducer Aldous 0.76x is missing"),
        ("effective_focal_length_mm", 1 / 25.4, "unit: inches for mm"),
        ("guide_focal_length_mm", 1000, "unit: mm for m"),
        ("site.longitude_deg", 1 / 15, "unit: hours for degrees"),
        ("pixel_um", 3, "3 times: the binned pixel size"),
        ("pixel_um", 1.3, ""),
        ("main.gain", -1, "the sign is the other way round"),
    ],
)
def test_stories_of_numbers(evaluation, known, key, factor, words):
    item = known[key]
    story = likely_cause_of_number(evaluation.rig, item, item.value * factor, item.value)
    assert words in story
    assert bool(words) == bool(story)


@pytest.mark.parametrize(
    "text, written, unit, expected, value",
    [
        ("11.1 W", "", "°", None, -11.1),
        ("W 11.1", "", "°", None, -11.1),
        ("47.3 S", "", "°", None, -47.3),
        ("47.3N", "", "°", None, 47.3),
        ("47 18 00 S", "", "°", None, -47.3),
        ("S 47°18′00″", "", "°", None, -47.3),
        ("0.5138 m", "mm", "mm", None, 513.8),
        ("51.376 cm", "mm", "mm", None, 513.76),
        ("513.76", "mm", "mm", None, 513.76),
        ("513.76", "cm", "mm", None, 5137.6),  # the rule's unit, where the value has none
        ("51.376 cm", "m", "mm", None, 513.76),  # the value's own comes first
        ("1,240 m", "m", "m", None, 1240.0),
        ("1,240 m", "m", "m", 1.24, 1.24),
        ("1,240.5 m", "m", "m", None, 1240.5),
        ("1.240,5 m", "m", "m", None, 1240.5),
        ("1 240 m", "m", "m", None, 1240.0),
        ("1\u202f240", "m", "m", None, 1240.0),
        ("12,345,678", "", "", None, 12345678.0),
        ("1,567", "″/px", "″/px", 1.566, 1.567),
        ("1,5", "m", "m", 1500.0, 1.5),
        ("0,514", "m", "mm", None, 514.0),
        ("-10 °C", "°C", "°C", None, -10.0),
        ("300 seconds", "s", "s", None, 300.0),
        ("3.9 um", "µm", "µm", None, 3.9),
        ('1.566 "/px', "″/px", "″/px", None, 1.566),
        ("5 px", "", "", None, 5.0),
    ],
)
def test_a_value_carries_its_unit_its_thousands_and_its_compass(text, written, unit, expected, value):
    assert foreign_number_in(text, written or unit, unit, expected) == pytest.approx(value)


@pytest.mark.parametrize(
    "text, unit", [("513 kg", "mm"), ("5 W", "mm"), ("12 ms", "mm"), ("1e999", "m"), ("9" * 400, "m")]
)
def test_a_unit_that_cannot_be_is_refused(text, unit):
    with pytest.raises(ValueError, match=r"cannot be given in|no finite number|too large"):
        foreign_number_in(text, unit, unit)


LISTS = {
    "a.json": (
        '{"items": [{"name": "GAIN", "value": 125}, {"name": "OFFSET", "value": 36}]}',
        "items[0].value",
        "items[name=GAIN].value",
    ),
    "b.xml": (
        '<d><number name="GAIN">125</number><number name="OFFSET">36</number></d>',
        "d.number[0]",
        "d.number[name=GAIN]",
    ),
    "c.csv": ("Name,Value,Unit\nGAIN,125,x\nOFFSET,36,x\n", "Value[0]", "Value[Name=GAIN]"),
}


@pytest.mark.parametrize("name", LISTS)
def test_an_entry_of_a_list_is_named_by_its_siblings_value(name, tmp_path, known):
    text, path, stable = LISTS[name]
    (tmp_path / name).write_text(text, "utf-8")
    before = read_foreign(tmp_path / name).values
    assert stable_path(path, before) == stable
    assert matches(stable, before) == [path]
    more = {
        "a.json": '{"name": "NEW", "value": 7}, {"name": "GAIN"',
        "b.xml": '<number name="NEW">7</number><number name="GAIN">',
    }
    grown = text.replace('{"name": "GAIN"', more["a.json"]).replace('<number name="GAIN">', more["b.xml"])
    (tmp_path / name).write_text(grown.replace("\nGAIN", "\nNEW,7,x\nGAIN"), "utf-8")
    after = read_foreign(tmp_path / name).values
    rule = KeyRule(path=stable, quantity="main.gain")
    assert apply_map([rule], after, known).values == {"main.gain": 125.0}
    assert apply_map([rule.model_copy(update={"path": path})], after, known).values == {"main.gain": 7.0}


def test_one_entry_alone_and_a_name_that_is_gone(tmp_path, known):
    (tmp_path / "a.xml").write_text('<d><number name="GAIN">125</number></d>', "utf-8")
    values = read_foreign(tmp_path / "a.xml").values
    assert (
        apply_map([KeyRule(path="d.number[name=GAIN]", quantity="main.gain")], values, known).values["main.gain"] == 125
    )
    assert (
        "is not in the file"
        in apply_map([KeyRule(path="d.number[name=X]", quantity="main.gain")], values, known).faults[0]
    )


@pytest.mark.parametrize(
    "key, factor, words", [("width_px", 2, ""), ("width_px", 0.5, "1/2: the size of frames binned 2 × 2")]
)
def test_a_wrong_size_is_no_binned_pixel(evaluation, known, key, factor, words):
    assert likely_cause_of_number(evaluation.rig, known[key], known[key].value * factor, known[key].value) == words


@pytest.mark.parametrize(
    ("has", "wanted", "words"),
    [
        (2000.0, 2.0, "unit: ms for s"),
        (0.002, 2.0, "unit: s for ms"),
        (1 / 30, 2.0, "unit: min for s"),
        (120.0, 2.0, "unit: s for min"),
        (7200.0, 2.0, "unit: s for h"),
    ],
)
def test_a_time_in_another_unit_is_recognised(evaluation, has, wanted, words):
    item = Comparable("guide_exposure_s", "Guide exposure", "s", "number", wanted)
    assert likely_cause_of_number(evaluation.rig, item, has, wanted) == words


def test_a_record_belongs_to_the_train_it_was_made_for():
    document = clean_document()
    native = {"name": "native", "train": [part["id"] for part in document["train"][1:]]}
    document["variants"] = [native]
    document["guiding"]["taps"] = "oag"
    document["records"][0]["variant"] = document["name"]
    rig = validated(document)
    own = evaluate(variant_rig(rig, None))
    assert [record.id for record in own.matrix.records] == ["client", "server"]
    other = evaluate(variant_rig(rig, "native"))
    assert [record.id for record in other.matrix.records] == ["server"]
    assert other.finding("records.focal_length") is None
    renamed = edit.apply(rig, edit.Change.of("Rename", ("name",), "Winter train"))
    assert renamed.records[0].variant == "Winter train"
    with pytest.raises(InputError, match=r"records\[0\].variant names \"gone\""):
        validated(document | {"records": [document["records"][0] | {"variant": "gone"}]})
