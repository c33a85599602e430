"""A rig in a page of plain text, to be pasted where help is asked for: without site, serial numbers, hosts, people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from wyntaxis.core.dossier.private import scrubbed, without_private
from wyntaxis.core.evaluation import Evaluation, evaluate
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.rows import is_judged
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.wording import counted, number, plus_minus, short

NUMBERS = (
    "effective_focal_length_mm",
    "focal_ratio",
    "pixel_scale_arcsec_px",
    "field_width_deg",
    "field_height_deg",
    "back_focus_required_mm",
    "back_focus_built_mm",
    "guide_scale_arcsec_px",
    "guide_path_required_mm",
    "guide_path_built_mm",
)
MOST_FINDINGS = 25


def summary_text(evaluation: Evaluation) -> str:
    """Return a rig in a page of plain text.

    Parameters
    ----------
    evaluation
        The rig as it stands.

    Returns
    -------
    str
        The train with its lengths, the chief numbers, and what fails; lines end in a line feed.
    """
    rig, secrets = without_private(evaluation.rig)
    return "".join(f"{scrubbed(line, secrets)}\n" for line in _lines(evaluate(rig)))


def _lines(evaluation: Evaluation) -> Iterator[str]:
    rig = evaluation.rig
    yield rig.name
    telescope = rig.telescope
    optics = [f"{short(telescope.focal_length_mm)} mm" if telescope.focal_length_mm else ""]
    optics.append(f"aperture {short(telescope.aperture_mm)} mm" if telescope.aperture_mm else "")
    yield f"Telescope: {', '.join(text for text in (telescope.name or 'not named', *optics) if text)}"
    yield ""
    yield "Train, from the telescope to the sensor:"
    yield from _parts(rig.train)
    if rig.guiding.path:
        yield f"Guiding ({rig.guiding.kind.replace('_', ' ')}):"
        yield from _parts(rig.guiding.path)
    elif rig.guiding.kind != "none":
        yield f"Guiding: {rig.guiding.kind.replace('_', ' ')}"
    yield ""
    yield "Numbers:"
    for key in NUMBERS:
        row = evaluation.rows.get(key)
        if row is None or row.best is None:
            continue
        best, kind = row.best, row.kind
        value = number(best.value, kind.decimals)
        if best.uncertainty >= 0.5 * 10**-kind.decimals:
            value = plus_minus(best.value, best.uncertainty, kind.decimals)
        verdict = f", {row.verdict.words}" if is_judged(row) else ""
        yield f"  {kind.label}: {value} {kind.unit}".rstrip() + verdict
    for verdict, title in ((Verdict.FAILS, "Fails"), (Verdict.TIGHT, "Tight")):
        found = [own.title for own in evaluation.findings if own.verdict is verdict and own.is_open]
        if found:
            yield ""
            yield f"{title}:"
            yield from (f"  - {words}" for words in found[:MOST_FINDINGS])
            if len(found) > MOST_FINDINGS:
                yield f"  and {number(len(found) - MOST_FINDINGS, 0)} more"
    open_ones = sum(own.verdict is Verdict.UNPROVEN and own.is_open for own in evaluation.findings)
    if open_ones:
        yield ""
        yield f"{counted(open_ones, 'finding')} not verified."


def _parts(parts: Sequence[Part]) -> Iterator[str]:
    for part in parts:
        glass = f", magnifies {short(part.magnification)}×" if part.magnification is not None else ""
        sensor = part.sensor
        chip = f", {sensor.width_px} × {sensor.height_px} px of {short(sensor.pixel_um)} µm" if sensor else ""
        length = short(part.optical_length_mm, 2).rjust(7)
        yield f"  {length} mm  {part.title} ({part.kind.replace('_', ' ')}){glass}{chip}"
