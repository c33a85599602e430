"""From a dossier to HTML in one file and to PDF; nothing is fetched, and nothing of the text is markup."""

from __future__ import annotations

import base64
import gc
import logging
import warnings
from collections.abc import Callable
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any, Literal

from wyntaxis import __version__
from wyntaxis.core.dossier.blocks import Block
from wyntaxis.core.dossier.card import Card
from wyntaxis.core.dossier.dossier import Dossier
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import plain

Paper = Literal["A4", "Letter", "A5", "A6"]
PAPERS: tuple[Paper, ...] = ("A4", "Letter", "A5", "A6")
SMALL_PAPERS: frozenset[Paper] = frozenset({"A5", "A6"})
"""For the card alone: a pocket in the dark."""
TEMPLATES = Path(__file__).parent / "templates"
FONTS = Path(__file__).parents[2] / "assets" / "fonts"
FACES = {"B612-Regular.otf": 400, "B612-Bold.otf": 700}
"""Our typeface: its files and their weights."""
SIGNS = {ord("✕"): "☒", ord("◆"): "♢", ord("◌"): "◎", ord("ρ"): "rho"}
FONT_SCHEME = "own-font"
LEAST_PT: dict[Paper, float] = {"A5": 6.0, "A6": 5.0}
USUAL_LEAST_PT = 6.5
"""No card has smaller letters; on small paper they are smaller, and what is still open is left out first."""
LIBRARIES = "libpango-1.0-0, libpangoft2-1.0-0 and libharfbuzz0b"


@cache
def _environment() -> Any:
    """Return the templates' environment: whatever is put in is escaped."""
    import jinja2

    return jinja2.Environment(
        loader=jinja2.FileSystemLoader(TEMPLATES),
        autoescape=True,
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
        finalize=_in_our_face,
    )


def _in_our_face(value: Any) -> Any:
    """Return a text with the signs that our typeface has, and with nothing in it that turns a line round.

    One sign of another typeface would bring all of that along; what cannot be shown is shown escaped.
    """
    return type(value)(plain(value.translate(SIGNS), keep="\n\t")) if isinstance(value, str) else value


@cache
def _fonts() -> str:
    """Return the rules that bring our typeface along, embedded."""
    return _font_rules(lambda name: f"data:font/otf;base64,{base64.b64encode((FONTS / name).read_bytes()).decode()}")


def _font_rules(where: Callable[[str], str]) -> str:
    """Return the rules of our typeface, each face lying where it is said to."""
    return "".join(
        f'@font-face {{ font-family: "B612"; font-weight: {weight}; src: url("{where(name)}") format("opentype"); }}\n'
        for name, weight in FACES.items()
    )


def _css_text(text: str) -> str:
    """Return a text as it may stand between quotes in a style sheet."""
    shown = plain("".join(char for char in text if char >= " "))
    return shown.replace("\\", "\\\\").replace('"', '\\"').replace("<", "\\3c ")


def dossier_html(found: Dossier, paper: Paper = "A4") -> str:
    """Return a dossier as one HTML file with its typeface, drawings and photographs."""
    from markupsafe import Markup

    environment = _environment()
    block_template = environment.get_template("block.html")

    def show(block: Block, pages: bool) -> Any:
        return Markup(block_template.render(block=block, kind=type(block).__name__, pages=pages))

    style = environment.get_template("style.css").render(
        paper=paper, footer=Markup(_css_text(f"{found.rig} · {found.made}"))
    )
    return str(
        environment.get_template("dossier.html").render(
            dossier=found, version=__version__, fonts=Markup(_fonts()), style=Markup(style), show=show
        )
    )


def card_html(card: Card, paper: Paper = "A4", *, lamp: bool = False, size: float | None = None) -> str:
    """Return a field card as one HTML file; for a red lamp in larger, heavier black, and red on black on a screen.

    ``size`` is that of the letters in pt; left out, it is what such a card usually takes.
    """
    from markupsafe import Markup

    return str(
        _environment()
        .get_template("card.html")
        .render(
            card=card,
            version=__version__,
            fonts=Markup(_fonts()),
            paper=paper,
            lamp=lamp,
            size=size if size is not None else _card_size(card, lamp=lamp),
            weight="bold" if lamp else "normal",
            rule=1.6 if lamp else 0.8,
        )
    )


def _card_size(card: Card, *, lamp: bool) -> float:
    """Return a size of letters, in pt, at which a card stays on one page."""
    lines = max(len(card.numbers), len(card.settings)) + max(len(card.start), len(card.end)) + len(card.still_open)
    return max(8.0, min(13.0 if lamp else 11.5, 11.5 * 34 / max(lines + 6, 1)))


def card_pdf(card: Card, paper: Paper = "A4", *, lamp: bool = False) -> bytes:
    """Return a field card as a PDF of one page: its letters are made smaller until it fits.

    On small paper, what does not fit even so is left out: what is still open first, then the end of the night.
    """
    least = LEAST_PT.get(paper, USUAL_LEAST_PT)
    forms = [card]
    if paper in SMALL_PAPERS:
        forms += [replace(card, still_open=()), replace(card, still_open=(), end=())]
        forms.append(replace(card, still_open=(), end=(), numbers=()))
    for form in forms:
        size = _card_size(form, lamp=lamp)
        while True:
            document = _rendered(card_html(form, paper, lamp=lamp, size=size))
            if len(document.pages) == 1 or size <= least:
                break
            size = max(size - 0.75, least)
        if len(document.pages) == 1:
            break
    pdf: bytes = document.write_pdf(pdf_tags=True, full_fonts=True)
    return pdf


def pdf_of(html: str, watch: Callable[[], None] = lambda: None) -> bytes:
    """Return HTML as a tagged PDF with its fonts embedded.

    Parameters
    ----------
    html
        One file; nothing that it names is fetched.
    watch
        Called before the long work; may cancel.

    Returns
    -------
    bytes
        The PDF.

    Raises
    ------
    InputError
        Where the system's libraries for it are missing.
    """
    watch()
    collects = gc.isenabled()
    gc.disable()  # a page is made of thousands of boxes that live till its end: looking through them takes a tenth
    try:
        pdf: bytes = _rendered(html).write_pdf(pdf_tags=True, full_fonts=True)
    finally:
        if collects:
            gc.enable()
    return pdf


def _rendered(html: str) -> Any:
    """Return HTML laid out in pages; nothing that it names is fetched."""
    # Our typeface is handed over by name: to read it out of the text again would take as long as a page.
    html = html.replace(_fonts(), _font_rules(lambda name: f"{FONT_SCHEME}:{name}"))
    return _page_maker()(string=html, base_url=None, url_fetcher=_fetcher()).render(pdf_tags=True, full_fonts=True)


@cache
def _library() -> Any:
    """Return the library that makes pages; :class:`InputError` where what it needs of the system is missing."""
    try:
        with warnings.catch_warnings():  # of what a later version of it will need
            warnings.simplefilter("ignore", DeprecationWarning)
            import weasyprint
    except OSError:
        raise InputError(f"a PDF needs the system packages {LIBRARIES}; install them, or write HTML") from None
    for name in ("weasyprint", "fontTools"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    return weasyprint


@cache
def _page_maker() -> Any:
    """Return what lays our pages out: it knows the elements that our templates have, which is quicker than all."""
    library = _library()
    elements = library.CSS(string=(TEMPLATES / "elements.css").read_text("utf-8"))

    class OwnPages(library.HTML):  # type: ignore[misc, name-defined]
        def _ua_stylesheets(self, forms: bool = False) -> list[Any]:
            return [elements]

    return OwnPages


@cache
def _fetcher() -> Any:
    """Return what fetches for a PDF: our own typeface, and what the text itself holds; nothing else."""
    urls = _library().urls

    class OwnFetcher(urls.URLFetcher):  # type: ignore[misc, name-defined]
        def fetch(self, url: str, headers: Any = None) -> Any:
            scheme, _, name = url.partition(":")
            if scheme == FONT_SCHEME and name in FACES:
                return urls.URLFetcherResponse(
                    url, body=(FONTS / name).read_bytes(), headers={"Content-Type": "font/otf"}
                )
            return super().fetch(url, headers)

    return OwnFetcher(allowed_protocols={"data"}, allow_redirects=False)
