"""Which measurement would settle most: each kind is tried out on the rig, and what it turns is what it promises."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from wyntaxis.core.evaluation import Evaluation, evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.ledger import Quantity, Stale, Verdict
from wyntaxis.core.proof_kinds import CALLIPERS, KINDS, PORTS_READ, PROGRAM, Need, ProofKind
from wyntaxis.core.quantities.ports import LINK
from wyntaxis.core.records.quantities import comparables
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.resting import SCALES, SPACING_ERROR, stale_legs
from wyntaxis.core.rig.shelf import ShelfPart

CALLIPER_MM = 0.02
"""What callipers err by: their scale, and how square they are held."""
HOUR_MIN = 60.0
_BY_BEGINNING = (
    ("field_", "sweep"), ("back_focus", "spacing_sweeps"), ("star_", "star_frames"), ("guide_", "guide_log"),
    ("polar_", "guide_log"), ("flexure", "guide_log"),
)  # fmt: skip
BENCH: tuple[Need, ...] = ("bench", "daylight")
SKY: tuple[Need, ...] = ("stars",)
MAX_CALLIPERED = 40
"""So many parts are tried out one by one."""


@dataclass(frozen=True)
class Proof:
    """One measurement of this rig: what it would settle, and which stale measurements it would make anew."""

    kind: ProofKind
    title: str
    settles: tuple[str, ...]
    stale: tuple[Stale, ...]
    part: str | None = None

    @property
    def worth(self) -> float:
        """Numbers settled per minute."""
        return len(self.settles) / self.kind.minutes

    def as_json(self) -> dict[str, Any]:
        """Return the row as ``wyntaxis proofs --json`` prints it."""
        return {
            "kind": self.kind.key,
            "title": self.title,
            "settles": list(self.settles),
            "needs": self.kind.needs,
            "minutes": self.kind.minutes,
            "stale": [entry.row_id for entry in self.stale],
            "step": self.kind.step.key,
            "usual_uncertainty": self.kind.usual,
            **({"part": self.part} if self.part is not None else {}),
        }


@dataclass(frozen=True)
class ProofPlan:
    """What fits into an hour, in the order in which it settles most; what each turns beyond those before it."""

    title: str
    proofs: tuple[tuple[Proof, int], ...]

    @property
    def minutes(self) -> float:
        """How long it takes altogether."""
        return sum(proof.kind.minutes for proof, _ in self.proofs)

    @property
    def settles(self) -> int:
        """How many numbers it settles."""
        return sum(gain for _, gain in self.proofs)


# Trying out


def is_settled(row: Quantity | None) -> bool:
    """Return whether something is proven of a row, one way or the other."""
    return row is not None and row.verdict is not Verdict.UNPROVEN


def _turned(before: Mapping[str, Quantity], after: Mapping[str, Quantity]) -> tuple[str, ...]:
    """Return the rows that are proven now and were not, or were in doubt, unmeasured, and no longer are."""
    found = []
    for key, row in after.items():
        older = before.get(key)
        doubt = older is not None and older.measured is None and older.verdict is Verdict.TIGHT
        doubt = doubt and row.verdict in (Verdict.HOLDS, Verdict.FAILS)
        if is_settled(row) and (not is_settled(older) or doubt):
            found.append(key)
    return tuple(found)


def tried(evaluation: Evaluation, change: Change) -> Evaluation | None:
    """Return the evaluation of a rig with an edit made that is not kept; None where the rig cannot hold it."""
    try:
        return evaluate(edit.apply(evaluation.rig, change), evaluation.evidence, evaluation.shelf)
    except InputError:
        return None


def proofs_of(
    rig: Rig | Evaluation,
    shelf: tuple[ShelfPart, ...] = (),
    watch: Callable[[], None] = lambda: None,
) -> tuple[Proof, ...]:
    """Return what each kind of measurement would settle of a rig, that which settles most per minute first.

    Parameters
    ----------
    rig
        The rig, or its evaluation.
    shelf
        Parts that remedies may name.
    watch
        Called between trials; may cancel.

    Returns
    -------
    tuple of Proof
        Each trial writes what is expected at the usual uncertainty; the numbers that it turns are what is promised.
        Kinds that would settle nothing, and have no stale number to measure anew, are left out.
    """
    evaluation = rig if isinstance(rig, Evaluation) else evaluate(rig, shelf=shelf)
    stale = {entry.row_id: entry for entry in stale_legs(evaluation.rig)}
    found = list(_calliper_proofs(evaluation, stale, watch))
    for kind in KINDS:
        watch()
        change = kind.trial(evaluation)
        after = tried(evaluation, change) if change is not None else None
        settles = _turned(evaluation.rows, after.rows) if after is not None else ()
        found.append(_proof(kind, kind.title, settles, stale))
    found += [_ports_proof(evaluation, stale), _program_proof(evaluation, stale)]
    useful = [proof for proof in found if proof.settles or proof.stale]
    return tuple(sorted(useful, key=lambda proof: (-proof.worth, proof.kind.minutes, proof.title)))


def _proof(
    kind: ProofKind, title: str, settles: tuple[str, ...], stale: Mapping[str, Stale], part: str | None = None
) -> Proof:
    anew = tuple(entry for entry in stale.values() if measured_by(entry) == kind.key)
    return Proof(kind, title, settles, anew, part)


def measured_by(entry: Stale) -> str:
    """Return the key of the kind of measurement that gives a stale one anew; empty for one that nobody knows.

    Parameters
    ----------
    entry
        A stale measured leg.

    Returns
    -------
    str
        One of the keys of :data:`~wyntaxis.core.proof_kinds.KINDS`.
    """
    if entry.path[0] == "measured":
        key = entry.row_id
        if key in SCALES or key in (SPACING_ERROR, "corrector_magnification"):
            return "solved_frame"
        if key == "guide_scale_arcsec_px":
            return "guide_calibration"
        return next((kind for begins, kind in _BY_BEGINNING if key.startswith(begins)), "")
    if "slots" in entry.path:
        return "focus_night"
    key = str(entry.path[3])
    if key in ("temperature_slope_steps_c", "run_scatter_steps"):
        return "focus_night"
    sheet = SETTINGS[key].sheet
    if sheet == "sensor":
        return "darks" if key.startswith(("dark", "glow", "hot")) else "bench_frames"
    return {"cooling": "cooling_run", "filters": "flats"}.get(sheet, "focus_run")


def _calliper_proofs(evaluation: Evaluation, stale: Mapping[str, Stale], watch: Callable[[], None]) -> Iterator[Proof]:
    """Yield what callipers on each part would settle: its length as it is, known to a few hundredths."""
    count = 0
    for path, part in evaluation.rig.parts():
        if part.length_basis == "measured" or part.kind == "camera" or count >= MAX_CALLIPERED:
            continue
        watch()
        count += 1
        values: tuple[tuple[DocumentPath, Any], ...] = (
            ((*path, "length_mm"), part.length_mm),
            ((*path, "length_basis"), "measured"),
            ((*path, "length_tolerance_mm"), CALLIPER_MM),
        )
        after = tried(evaluation, Change("Trial", values))
        if after is not None:
            title = f"Callipers on {part.name or part.id}"
            yield _proof(CALLIPERS, title, _turned(evaluation.rows, after.rows), stale, part.id)


def _ports_proof(evaluation: Evaluation, stale: Mapping[str, Stale]) -> Proof:
    """Return what reading the ports would settle: the link of every device that is known by its USB identity."""
    keys = []
    if evaluation.ports is None:
        for device in evaluation.rig.devices:
            if device.identity is not None and device.identity.usb_id is not None:
                keys.append(LINK.id_of(device.id))
    return _proof(PORTS_READ, PORTS_READ.title, tuple(keys), stale)


def _program_proof(evaluation: Evaluation, stale: Mapping[str, Stale]) -> Proof:
    """Return what the first program's file would settle: whatever of the rig a program may hold."""
    keys: list[str] = []
    if not evaluation.rig.own_records:
        keys = [
            key for key, item in comparables(evaluation).items() if item.value is not None and key in evaluation.rows
        ]
    return _proof(PROGRAM, PROGRAM.title, tuple(keys), stale)


def proof_plan(proofs: Sequence[Proof], title: str, needs: Sequence[Need], minutes: float = HOUR_MIN) -> ProofPlan:
    """Return which measurements fit into some minutes and settle most.

    Parameters
    ----------
    proofs
        What each would settle.
    title
        What the plan is called.
    needs
        What is there: bench, daylight, twilight, stars.
    minutes
        How long there is.

    Returns
    -------
    ProofPlan
        One after the other that which settles most per minute of what those before it leave open.
    """
    left, open_ones = minutes, [proof for proof in proofs if proof.kind.needs in needs]
    done: set[str] = set()
    chosen: list[tuple[Proof, int]] = []
    while True:
        gains = [
            (len(set(proof.settles) - done) / proof.kind.minutes, proof)
            for proof in open_ones
            if proof.kind.minutes <= left and set(proof.settles) - done
        ]
        if not gains:
            return ProofPlan(title, tuple(chosen))
        _, best = max(gains, key=lambda entry: (entry[0], -entry[1].kind.minutes))
        chosen.append((best, len(set(best.settles) - done)))
        done |= set(best.settles)
        left -= best.kind.minutes
        open_ones.remove(best)


def hour_plans(proofs: Sequence[Proof]) -> tuple[ProofPlan, ProofPlan]:
    """Return what to do in one hour at the bench, and in one clear hour."""
    return proof_plan(proofs, "One hour at the bench", BENCH), proof_plan(proofs, "One clear hour", SKY)
