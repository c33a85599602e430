"""Which findings the margin lists: those of the step that is shown, the gravest first, or all of them."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wyntaxis.core.findings.finding import Finding
    from wyntaxis.desk.findings_panel import FindingsPanel
    from wyntaxis.desk.workplace import Workplace

MOST_BEFORE = 3
"""So many incidents of a finding's subject are shown with it, the newest first."""


class ListedFindings:
    """Fills the margin of a window, and shows the step of a finding that is chosen in it."""

    def __init__(self, window: Workplace, margin: FindingsPanel) -> None:
        self._window, self._margin = window, margin
        self._step_has_any = False
        self.entries: tuple[Finding, ...] = ()
        margin.finding_chosen.connect(self._choose)

    def step_shown(self) -> None:
        """List the findings of a step that is newly shown; its gravest one is chosen."""
        self._step_has_any = False
        self.refresh()

    def refresh(self) -> None:
        """List the findings of the step shown, and the chosen one; all of them when the margin is asked for all.

        A step newly shown, or one that has just had its first findings, has its gravest one chosen.
        """
        from wyntaxis.core.records.incidents import in_a_line, incidents_about
        from wyntaxis.core.steps import READY
        from wyntaxis.core.worklist import step_applies, step_of

        session = self._window.session
        assert session is not None
        own = self._of_step()
        newly, self._step_has_any = bool(own) and not self._step_has_any, bool(own)
        if newly and session.chosen_finding not in own:
            session.choose_finding(max(own, key=lambda f: (not f.accepted, f.verdict.severity)))
        chosen = session.chosen_finding
        if self._margin.all_steps:
            found = tuple(f for f in session.evaluation.findings if step_applies(session.rig, step_of(f)))
        else:
            found = own if chosen is None or chosen in own else (chosen, *own)
        found = tuple(finding for finding in found if self._margin.lists(finding) or finding is chosen)
        # The gravest first; of one verdict, in the order in which they are told.
        self.entries = tuple(sorted(found, key=lambda finding: -finding.verdict.severity))
        condition = session.chosen_condition if self._window.step is READY else None
        told = chosen if condition is None else condition.as_finding()
        before = incidents_about(session.rig, told.subject)[:MOST_BEFORE] if told is not None else ()
        noted = [in_a_line(incident) for incident in before]
        self._margin.show_findings(self.entries, told, session.subject_of, noted)

    def _of_step(self) -> tuple[Finding, ...]:
        """Return the findings told at the step shown; at the list of conditions, all that do not hold."""
        from wyntaxis.core.ledger import Verdict
        from wyntaxis.core.steps import READY
        from wyntaxis.core.worklist import belongs, step_applies

        session, step = self._window.session, self._window.step
        assert session is not None
        findings = session.evaluation.findings
        if not step_applies(session.rig, step):
            return ()
        if step is READY:
            return tuple(f for f in findings if f.verdict in (Verdict.FAILS, Verdict.TIGHT) or f.accepted)
        return tuple(f for f in findings if belongs(step, f))

    def _choose(self, row: int) -> None:
        self.go_to(self.entries[row])

    def go_on(self, by: int) -> None:
        """Go to the next (or the last) finding that does not hold, over all steps and around the ends."""
        from wyntaxis.core.ledger import Verdict
        from wyntaxis.core.steps import steps
        from wyntaxis.core.worklist import step_applies, step_of

        session = self._window.session
        if session is None:
            return
        order = {step: place for place, step in enumerate(steps())}
        open_ones = [
            finding
            for finding in session.evaluation.findings
            if finding.verdict is not Verdict.HOLDS and not finding.accepted
            if step_applies(session.rig, step_of(finding))
        ]
        open_ones.sort(key=lambda finding: (order[step_of(finding)], -finding.verdict.severity))
        if not open_ones:
            self._window.notice.tell("Every finding holds.")
            return
        chosen = session.chosen_finding
        if chosen in open_ones:
            place = open_ones.index(chosen) + by
        else:
            at = order[self._window.step]
            later = [place for place, finding in enumerate(open_ones) if order[step_of(finding)] >= at]
            place = (later[0] if later else 0) if by > 0 else (later[0] if later else len(open_ones)) - 1
        self.go_to(open_ones[place % len(open_ones)])

    def go_to(self, finding: Finding) -> None:
        """Choose a finding, and show a step that tells it."""
        from wyntaxis.core.steps import steps
        from wyntaxis.core.worklist import belongs

        if self._window.session is None:
            return
        self._window.session.choose_finding(finding)
        if not belongs(self._window.step, finding):
            step = next((s for s in steps() if belongs(s, finding)), self._window.step)
            self._window.show_step(step.key)
