"""A condition chosen on Ready is told beside: by the finding that decides it, else by what it lacks and what to do."""

import pytest
from PyQt6.QtCore import Qt


@pytest.mark.parametrize("name", ["tarnfell-triplet-reduced", "meadow-newtonian"])
def test_every_condition_tells_its_own(window, name):
    window.files.open_demo(name)
    window.show_step("ready")
    sheet, margin = window.sheets["ready"], window.margin
    lacking = 0
    for row, entry in enumerate(sheet.found):
        sheet.table.selectRow(row)
        if entry.deciding is None:
            lacking += 1
            assert entry.condition.title in margin.title.text()
            assert margin.guide_button.isHidden()
            assert margin.accept_button.isHidden()
            told = " ".join((*margin.arithmetic.lines, margin.remedy.text())).casefold()
            assert entry.why.rpartition(": ")[2].casefold() in told
        else:
            assert window.session.chosen_finding in entry.findings
            assert window.session.chosen_finding.verdict is entry.verdict
            assert margin.title.text().endswith(window.session.chosen_finding.title)
    assert lacking > 2


def test_another_step_and_another_choice_bring_the_findings_back(window):
    window.show_step("ready")
    sheet = window.sheets["ready"]
    row = next(row for row, entry in enumerate(sheet.found) if entry.deciding is None)
    sheet.table.selectRow(row)
    told = window.margin.title.text()
    finding = next(f for f in window.session.evaluation.findings if f.verdict == "fails")
    window.show_step("light_path")
    assert window.margin.title.text() != told
    window.show_step("ready")
    assert window.margin.title.text() == told, "it stays chosen"
    window.session.choose_finding(finding)
    assert window.margin.title.text().endswith(finding.title)
    assert window.session.chosen_condition is None


def test_a_set_up_is_begun_and_own_conditions_are_ticked_by_keys(window, qtbot):
    window.show_step("ready")
    sheet, session = window.sheets["ready"], window.session
    sheet.setup.usual_button.click()
    assert len(session.rig.conditions) == 10
    assert not sheet.setup.usual_button.isEnabled()
    sheet.setup.start_button.click()
    assert session.rig.setup.kind == "carried"
    assert "Set up since" in sheet.setup.state.text()
    place = next(k for k, entry in enumerate(sheet.found) if entry.condition.key == "own.levelled")
    sheet.table.setCurrentCell(0, 0)
    assert not sheet.tick_button.isEnabled(), "a computed condition is not ticked"
    sheet.table.setCurrentCell(place, 0)
    sheet.table.setFocus()
    qtbot.keyClick(sheet.table, Qt.Key.Key_Space)
    qtbot.keyClick(sheet.table, Qt.Key.Key_Space)
    assert [own.condition for own in session.rig.setup.done] == ["levelled", "balanced"]
    assert [str(sheet.found[place + k].verdict) for k in (0, 1, 3)] == ["holds", "holds", "unproven"]
    session.undo()
    assert [own.condition for own in session.rig.setup.done] == ["levelled"]
    session.set_value(("setup", "date"), "2999-01-01T18:00:00Z", "As if it were begun later")
    assert str(sheet.found[place].verdict) == "unproven", "a new set-up, a new tick"
