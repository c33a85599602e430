"""The findings panel: which are listed, a long arithmetic folded, and why the chosen one matters."""

from dataclasses import replace

import pytest

from wyntaxis.core.guide import why_of


def choose(window, words):
    window.margin.which.setCurrentText(words)
    window.margin.which.activated.emit(window.margin.which.currentIndex())


@pytest.mark.parametrize(
    ("words", "wanted"),
    [
        ("fails", lambda f: f.verdict == "fails"),
        ("tight", lambda f: f.verdict == "tight"),
        ("not verified", lambda f: f.verdict == "unproven"),
        ("open", lambda f: f.verdict != "holds" and not f.accepted),
        ("accepted", lambda f: bool(f.accepted)),
        ("all", lambda f: True),
    ],
)
def test_findings_are_listed_by_their_verdict(window, words, wanted):
    window.margin.all_box.click()
    session = window.session
    tight = next(f for f in session.evaluation.findings if f.verdict == "tight")
    session.choose_finding(tight)
    session.accept("cropped")
    choose(window, words)
    listed = {(f.id, f.subject) for f in window.listed.entries if f is not session.chosen_finding}
    others = {(f.id, f.subject) for f in session.evaluation.findings if wanted(f) and f is not session.chosen_finding}
    assert listed <= others
    assert len(listed) > 0 or words == "accepted"
    assert session.chosen_finding in window.listed.entries, "the chosen one stays in sight"


@pytest.mark.parametrize(
    ("lines", "shown", "button"), [(6, 6, ""), (7, 6, "Show 1 more line"), (12, 6, "Show 6 more lines")]
)
def test_a_long_arithmetic_folds_after_six_lines(window, lines, shown, button):
    finding = replace(window.session.chosen_finding, arithmetic=tuple(f"line {k}" for k in range(lines)))
    margin = window.margin
    margin.show_findings((finding,), finding)
    assert len(margin.arithmetic.lines) == shown
    assert margin.more_button.isHidden() is not bool(button)
    if button:
        assert margin.more_button.text() == button
        margin.more_button.click()
        assert len(margin.arithmetic.lines) == lines
        assert margin.more_button.text() == "Show less"
        margin.copy_button.click()
        other = replace(finding, subject="another")
        margin.show_findings((finding, other), other)
        assert len(margin.arithmetic.lines) == shown, "another finding begins folded"


def test_it_says_why_the_finding_matters(window):
    assert window.margin.why.text() == why_of(window.session.chosen_finding) != ""
    window.margin.show_findings((), None)
    assert window.margin.why.isHidden()


def test_filters_that_are_alike_stand_in_one_row(window):
    ledger = window.sheets["light_path"].ledger
    (together,) = [row for key, row in ledger.rows.items() if ".filter" in key]
    assert together.scale.quantity.kind.label == "Back focus error, through L, R, G, B, Ha and OIII"
    wheel = next(place for place, device in enumerate(window.session.rig.devices) if device.kind == "filter_wheel")
    slot = next(k for k, own in enumerate(window.session.rig.devices[wheel].slots) if own.name == "OIII")
    window.session.set_value(("devices", wheel, "slots", slot, "thickness_mm"), 2.5, "A thicker filter")
    labels = [row.scale.quantity.kind.label for key, row in ledger.rows.items() if ".filter" in key]
    assert labels == ["Back focus error, through L, R, G, B and Ha", "Through OIII: back focus error"]
    window.session.undo()
    assert len([key for key in ledger.rows if ".filter" in key]) == 1
