"""What the Dossier sheet writes into files: the dossier, the field card, and everything in one ZIP."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from wyntaxis.core.dossier.apart import card_apart, dossier_apart
from wyntaxis.core.dossier.card import card_of
from wyntaxis.core.dossier.dossier import as_csv, dossier_of
from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.dossier.printing import SMALL_PAPERS, Paper, card_html, dossier_html
from wyntaxis.core.files.errors import Progress, shown
from wyntaxis.core.files.places import home, own_maps_path
from wyntaxis.core.files.saving import write_atomically
from wyntaxis.core.rig.store import SUFFIX
from wyntaxis.desk.background import Job
from wyntaxis.desk.session import Session

EXPORT_KINDS = "PDF (*.pdf);;HTML in one file (*.html);;Tables as CSV (*.csv)"
CARD_KINDS = "PDF (*.pdf);;HTML in one file (*.html)"


@dataclass(frozen=True)
class Chosen:
    """What the sheet has chosen: what the dossier is made from, its chapters, the paper, and how the card is read."""

    given: Callable[[], DossierInput]
    keys: list[str]
    paper: Paper
    lamp: bool
    private: bool


class DossierExports:
    """Asks where to write, and writes there in the background; ``job`` tells when and whether it is done."""

    def __init__(self, session: Session, owner: QWidget, chosen: Callable[[], Chosen]) -> None:
        self._session, self._owner, self._chosen = session, owner, chosen
        self.job = Job(owner)

    def _start_name(self, ending: str) -> str:
        path = self._session.path
        folder = path.parent if path is not None else home()
        stem = path.name.removesuffix(SUFFIX) if path is not None else "rig"
        return str(folder / f"{stem}{ending}")

    def _ask(self, title: str, start: str, kinds: str) -> Path | None:
        chosen, kind = QFileDialog.getSaveFileName(self._owner, title, start, kinds)
        if not chosen:
            return None
        path = Path(chosen)
        return path if path.suffix else path.with_suffix(kind.partition("*")[2].partition(")")[0])

    def ask_export(self) -> None:
        """Ask for a file; its suffix says which kind."""
        path = self._ask("Export the dossier", self._start_name("-dossier.pdf"), EXPORT_KINDS)
        if path is not None:
            self.export(path)

    def export(self, path: Path) -> None:
        """Write the chosen chapters as PDF, HTML or CSV, by the suffix, in the background."""
        chosen = self._chosen()
        given, keys, paper = chosen.given, chosen.keys, chosen.paper
        kind = path.suffix.lower()
        if kind not in (".pdf", ".html", ".csv"):
            self._session.refused.emit(f"{shown(path)}: “{kind}” is no kind of dossier; use .pdf, .html or .csv")
            return
        if paper in SMALL_PAPERS:
            self._session.refused.emit(f"{paper} is for the field card: choose A4 or Letter for the dossier")
            return

        def work(progress: Progress) -> bytes:
            found = dossier_of(given(), keys, progress)
            if kind == ".csv":
                return as_csv(found).encode()
            html = dossier_html(found, paper)
            return dossier_apart(html, lambda: progress(0, 0)) if kind == ".pdf" else html.encode()

        self._write(path, work)

    def ask_card(self) -> None:
        """Ask for a file, and write the field card."""
        path = self._ask("Write the field card", self._start_name("-card.pdf"), CARD_KINDS)
        if path is not None:
            self.export_card(path)

    def export_card(self, path: Path) -> None:
        """Write the field card as PDF or HTML, by the suffix."""
        chosen = self._chosen()
        given, paper, lamp = chosen.given, chosen.paper, chosen.lamp
        if path.suffix.lower() not in (".pdf", ".html"):
            self._session.refused.emit(f"{shown(path)}: a card is written as .pdf or .html")
            return

        def work(progress: Progress) -> bytes:
            card = card_of(given())
            if path.suffix.lower() == ".html":
                return card_html(card, paper, lamp=lamp).encode()
            return card_apart(card, paper, lambda: progress(0, 0), lamp=lamp)

        self._write(path, work)

    def ask_zip(self) -> None:
        """Ask for a file, and write everything into it."""
        path = self._ask("Write everything into one file", self._start_name(".zip"), "ZIP (*.zip)")
        if path is not None:
            self.export_zip(path)

    def export_zip(self, path: Path) -> None:
        """Write rig, history, shelf, key maps, evidence, photographs and dossier into one ZIP; a private one: rig and
        dossier.
        """
        from wyntaxis.core.dossier.bundle import bundle_bytes, private_bundle
        from wyntaxis.core.evidence.foreign.keymap import load_maps

        is_private = self._chosen().private
        given, document, shelf = self._chosen().given, self._session.document, self._session.stock.shelf
        own = self._session.path
        name = own.name.removesuffix(SUFFIX) if own is not None else document.name

        def work(progress: Progress) -> bytes:
            own_given = given()
            html = dossier_html(dossier_of(own_given, None, progress))
            if is_private:
                return private_bundle(document, html)
            return bundle_bytes(own_given.evaluation, document, name, shelf, load_maps(own_maps_path()), html, own)

        self._write(path, work)

    def _write(self, path: Path, make: Callable[[Progress], bytes]) -> None:
        def work(progress: Progress) -> Path:
            data = make(progress)
            write_atomically(data, path, keep_previous=False)
            return path

        self.job.start(work)
