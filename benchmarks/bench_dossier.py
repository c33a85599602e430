"""A dossier of a rig with 25 parts and 12 devices, beside a table of as many cells set by the same library alone."""

import gc
import sys
import time

import weasyprint

from wyntaxis import demo
from wyntaxis.core.dossier.blocks import Table
from wyntaxis.core.dossier.dossier import dossier_of
from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.dossier.printing import dossier_html, pdf_of
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.rig.store import document_of, load, validated

PARTS, DEVICES = 25, 12
MAX_S = 6.0


def large_rig():
    """Return the demo rig with more spacers and one more device."""
    document = document_of(load(demo.rig_path("tarnfell-triplet-reduced")).rig)
    ring = document["train"][3]
    while len(document["train"]) < PARTS:
        more = ring | {
            "id": f"ring{len(document['train'])}",
            "name": f"ring {len(document['train'])}",
            "length_mm": 1.1,
        }
        document["train"].insert(4, more)
    while len(document["devices"]) < DEVICES:
        document["devices"].append({"id": f"other{len(document['devices'])}", "kind": "other", "name": "Other"})
    return validated(document)


def timed(work):
    """Return a result, and the time that it took in s."""
    gc.collect()
    start = time.perf_counter()
    result = work()
    return result, time.perf_counter() - start


def main() -> int:
    """Print the times; return 1 where the PDF takes too long."""
    rig = large_rig()
    weasyprint.HTML(string="<p>warm</p>").write_pdf()
    found, made = timed(lambda: dossier_of(DossierInput(evaluate(rig))))
    html, written = timed(lambda: dossier_html(found))
    made += written
    pdf, printed = timed(lambda: pdf_of(html))
    cells = sum(len(b.rows) * len(b.headings) for c in found.chapters for b in c.blocks if isinstance(b, Table))
    row = "<tr>" + "<td>some words here</td>" * 6 + "</tr>"
    plain = f"<table style='table-layout: fixed; width: 100%'>{row * (cells // 6)}</table>"
    _, alone = timed(lambda: weasyprint.HTML(string=plain).write_pdf())
    print(f"{PARTS} parts, {DEVICES} devices: {made:.2f} s to HTML, {printed:.2f} s to PDF ({len(pdf) / 1e6:.1f} MB)")
    print(f"a bare table of as many cells ({cells}): {alone:.2f} s; ratio {printed / alone:.2f}")
    return 1 if made + printed > MAX_S else 0


if __name__ == "__main__":
    sys.exit(main())
