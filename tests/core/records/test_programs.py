"""Programs of the rig: the order of their start, who drives what, what is typed into each, and whether they answer."""

import json
import re
import socket
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import wyntaxis
from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.dossier.private import without_private
from wyntaxis.core.dossier.typing_pages import typed_change, typing_pages
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.records.reach import reach
from wyntaxis.core.records.start_order import start_order
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.programs import Program
from wyntaxis.core.rig.store import document_of, validated
from wyntaxis.core.wiring import wiring

CAPTURE = {"id": "cap", "name": "Frametaker", "roles": ["capture"], "drives": ["main", "rondel"], "needs": ["srv"]}
GUIDER = {"id": "gd", "name": "Guidewell", "roles": ["guiding"], "needs": ["srv"]}
SERVER = {
    "id": "srv",
    "name": "Deviced",
    "roles": ["device_server"],
    "host": "hut-nuc",
    "port": 7000,
    "computer": "hut-nuc",
}


def rig_with(*programs, **more):
    return validated(clean_document() | {"programs": list(programs)} | more)


def needing(**needs):
    return [Program(id=key, name=key.upper(), needs=tuple(needed)) for key, needed in needs.items()]


def names(programs):
    return "".join(program.id for program in programs)


@pytest.mark.parametrize(
    ("needs", "order", "circle"),
    [
        ({}, "", ""),
        ({"a": "", "b": ""}, "ab", ""),
        ({"a": "b", "b": ""}, "ba", ""),
        ({"a": "bc", "b": "c", "c": "", "d": ""}, "cbad", ""),
        ({"a": "b", "b": "a"}, "", "ab"),
        ({"a": "a"}, "", "a"),
        ({"a": "b", "b": "c", "c": "b", "d": ""}, "d", "bc"),  # a only waits for the circle
    ],
)
def test_programs_start_after_what_they_need(needs, order, circle):
    found = start_order(needing(**needs))
    assert (names(found.order), names(found.circle), found.missing) == (order, circle, ())


@given(st.dictionaries(st.sampled_from("abcdef"), st.sets(st.sampled_from("abcdefx"))))
def test_whatever_they_need_the_order_keeps_it_and_names_the_rest(needs):
    programs = needing(**needs)
    found = start_order(programs)
    at = {program.id: place for place, program in enumerate(found.order)}
    for program in found.order:
        assert all(at[need] < at[program.id] for need in program.needs if need in needs)
    assert bool(found.circle) == (len(found.order) < len(programs))
    for one, other in zip(found.circle, (*found.circle[1:], *found.circle[:1]), strict=True):
        assert other.id in one.needs
    assert {need for _, need in found.missing} == {n for own in needs.values() for n in own} - set(needs)


def finding(rig, name):
    return [found for found in evaluate(rig).findings if found.id == name]


def test_findings_say_what_cannot_start_and_what_two_drive():
    (holds,) = finding(rig_with(CAPTURE, GUIDER, SERVER), "programs.order")
    assert (holds.verdict, holds.title) == (
        Verdict.HOLDS, "Programs can be started in this order: Deviced, Frametaker, Guidewell",
    )  # fmt: skip
    (missing,) = finding(rig_with(CAPTURE), "programs.order")
    assert (missing.verdict, missing.subject) == (Verdict.FAILS, "cap")
    assert "srv, which is no program of the rig" in missing.title
    (circle,) = finding(rig_with(CAPTURE, SERVER | {"needs": ["cap"]}), "programs.order")
    assert circle.title.endswith("Frametaker → Deviced → Frametaker")
    assert finding(rig_with(), "programs.order") == []
    other = {"id": "b", "name": "Other", "roles": ["focusing"], "drives": ["main"]}
    (shared,) = finding(rig_with(CAPTURE, SERVER, other), "programs.drives")
    assert (shared.verdict, shared.subject) == (Verdict.TIGHT, "main")
    assert "Frametaker and Other" in shared.title
    (through,) = finding(rig_with(CAPTURE, SERVER | {"drives": ["main"]}, other), "programs.drives")
    assert through.verdict is Verdict.HOLDS, "a server stands between"


@pytest.mark.parametrize(
    ("programs", "words"),
    [
        ([CAPTURE | {"drives": ["gone"]}], 'programs[0].drives[0] names "gone", which is no device'),
        ([CAPTURE, CAPTURE], 'programs[1].id: "cap" is there twice'),
        ([CAPTURE | {"port": 70000}], "port"),
        ([CAPTURE | {"roles": ["cooking"]}], "roles"),
    ],
)
def test_programs_that_do_not_fit_are_refused_in_one_line(programs, words):
    with pytest.raises(InputError, match=re.escape(words)):
        rig_with(*programs)
    record = {"id": "r", "name": "R", "program": "gone"}
    with pytest.raises(InputError, match="no program of the rig"):
        validated(clean_document() | {"records": [record]})


def test_a_page_lists_what_the_roles_hold_and_ticks_make_it_agree():
    rig = rig_with(CAPTURE, GUIDER, SERVER)
    pages = {page.id: page for page in typing_pages(evaluate(rig))}
    capture = {line.quantity: line for line in pages["cap"].lines}
    assert {"effective_focal_length_mm", "pixel_um", "site.latitude_deg", "main.gain", "rondel.slots"} <= set(capture)
    assert not [key for key in capture if key.startswith(("guide", "glide", "cairn")) or key.endswith("serial_number")]
    assert (capture["main.gain"].type_this, capture["main.gain"].mark) == ("100", "missing")
    guide = {line.quantity for line in pages["gd"].lines}
    assert {"guide_focal_length_mm", "guide_pixel_um", "guiding.exposure_s"} <= guide
    assert "main.gain" not in guide
    server = {line.quantity for line in pages["srv"].lines}
    assert {"main.serial_number", "glide.port", "cairn.tcp_port"} <= server
    assert "main.gain" not in server
    # One line, then all: each agrees from then on, in one edit each.
    one = edit.apply(rig, typed_change(evaluate(rig), pages["cap"], ["main.gain"]))
    page = next(page for page in typing_pages(evaluate(one)) if page.id == "cap")
    assert {line.mark for line in page.lines if line.quantity == "main.gain"} == {"agrees"}
    assert re.fullmatch(r"\d{4}-\d\d-\d\d", page.record.typed["main.gain"])
    whole = edit.apply(one, typed_change(evaluate(one), page, [line.quantity for line in page.lines]))
    page = next(page for page in typing_pages(evaluate(whole)) if page.id == "cap")
    assert {line.mark for line in page.lines} == {"agrees"}
    assert len([record for record in whole.records if record.program == "cap"]) == 1


@pytest.mark.parametrize(
    ("form", "value", "text"),
    [
        ({"unit": "m"}, 0.51376, "0.51376"),
        ({"reducer": "out"}, 676.0, "676"),
        ({"unit": "in"}, 513.76 / 25.4, "20.2268"),
    ],
)
def test_what_is_typed_in_a_form_agrees_in_it(form, value, text):
    key = "effective_focal_length_mm"
    record = {"id": "r", "name": "Frametaker", "program": "cap", "forms": {key: form}}
    rig = rig_with(CAPTURE | {"needs": []}, records=[record])
    (page,) = typing_pages(evaluate(rig))
    line = next(line for line in page.lines if line.quantity == key)
    assert line.value == pytest.approx(value)
    assert line.type_this == text
    typed = edit.apply(rig, typed_change(evaluate(rig), page, [key]))
    (page,) = typing_pages(evaluate(typed))
    line = next(line for line in page.lines if line.quantity == key)
    assert (line.mark, line.there_now) == ("agrees", text)


def test_programs_stand_in_the_wiring_with_lines_to_what_they_drive():
    found = wiring(evaluate(rig_with(CAPTURE, SERVER)))
    assert [block.id for block in found.row("program")] == ["cap", "srv"]
    talk = {(wire.start, wire.end) for wire in found.wires if wire.carries == "talk"}
    assert talk == {("cap", "main"), ("cap", "rondel"), ("cap", "srv")}


def test_a_program_answers_refuses_or_is_not_tried():
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        found = reach(
            [
                Program(id="a", name="A", host="127.0.0.1", port=port),
                Program(id="b", name="B", host="127.0.0.1"),
                Program(id="c", name="C"),
            ],
            limit_s=2.0,
        )
    assert [own.reached for own in found] == [True, False, False]
    assert found[0].seconds < 2.0
    assert [own.why for own in found[1:]] == ["not tried: no port stated", "not tried: no host and no port stated"]
    (closed,) = reach([Program(id="a", name="A", host="127.0.0.1", port=port)], limit_s=2.0)
    assert (closed.reached, closed.why) == (False, "refused: nothing listens at this port")
    (unknown,) = reach([Program(id="a", name="A", host="no such host.invalid", port=1)], limit_s=2.0)
    assert not unknown.reached
    assert unknown.why


def test_one_module_alone_makes_connections():
    package = Path(wyntaxis.__file__).parent
    found = [
        path
        for path in package.rglob("*.py")
        if re.search(r"^\s*(import|from) socket\b", path.read_text("utf-8"), re.M)
    ]
    assert [path.name for path in found] == ["reach.py"]


def test_commands_print_pages_and_what_was_reached(tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    with socket.create_server(("127.0.0.1", 0)) as server:
        programs = [CAPTURE, SERVER | {"host": "127.0.0.1", "port": server.getsockname()[1]}]
        path.write_text(json.dumps(clean_document() | {"programs": programs}), "utf-8")
        assert main(["reach", str(path), "--json"]) == 0
    tried = json.loads(capsys.readouterr().out)
    assert [(own["program"], own["reached"]) for own in tried] == [("cap", False), ("srv", True)]
    assert main(["reach", str(path), "--seconds", "0.2"]) == 1, "it listens no longer"
    assert "refused" in capsys.readouterr().out
    assert main(["typing", str(path), "--program", "cap", "--json"]) == 0
    (page,) = json.loads(capsys.readouterr().out)
    rows = {row["quantity"]: row for row in page["rows"]}
    assert rows["main.gain"] | {"label": "", "note": None} == {
        "quantity": "main.gain", "label": "", "value": 100, "type_this": "100", "unit": "", "holds": None,
        "verdict": "unproven", "note": None, "typed": None,
    }  # fmt: skip
    assert main(["typing", str(path)]) == 0
    assert "to type" in capsys.readouterr().out
    assert main(["typing", str(path), "--program", "gone"]) == 2
    assert "there are: cap, srv" in capsys.readouterr().err


def test_a_private_rig_tells_no_programs_host():
    private, _ = without_private(rig_with(CAPTURE, SERVER))
    assert "hut-nuc" not in json.dumps(document_of(private))
    assert [program.name for program in private.programs] == ["Frametaker", "Deviced"]
