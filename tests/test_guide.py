"""The guide: it tells everything that is declared, its examples run, its places are there, its search finds."""

import html
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from wyntaxis import cli, demo
from wyntaxis.core import guide
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.findings.registry import in_order
from wyntaxis.core.quantities import evaluator
from wyntaxis.core.quantities.rows import declared_numbers
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.store import load
from wyntaxis.core.steps import steps

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "docs" / "guide"
NAMES = {"triplet": "tarnfell-triplet-reduced", "meadow": "meadow-newtonian"}


@pytest.fixture(scope="session", autouse=True)
def built_guide():
    """Build the guide where it is not there yet, as make does before."""
    if not (guide.FOLDER / "search.json").is_file():
        command = [sys.executable, "-m", "sphinx", "-q", "-W", "-d", "build/doctrees", "docs/guide", str(guide.FOLDER)]
        subprocess.run(command, check=True, cwd=ROOT)


def test_every_fault_is_listed_with_what_ends_it_and_what_helps():
    page = html.unescape((guide.FOLDER / "reference" / "faults.html").read_text("utf-8"))
    for fault in FAULTS.values():
        assert fault.id in page
        assert fault.shows in page
    assert "by itself after 20 min; returns 60 min later" in page


def entries(kind):
    page = (SOURCE / "reference" / f"{kind}s.md").read_text("utf-8")
    return re.findall(rf"\{{{kind}\}} (\S+)", page)


def declared_keys():
    evaluator.import_all()
    return {
        "number": {*QUANTITY_KINDS, *(one.key for one in declared_numbers())},
        "finding": {one.id for one in in_order()},
        "setting": set(SETTINGS),
    }


@pytest.mark.parametrize("kind", ["number", "finding", "setting"])
def test_everything_that_is_declared_is_told_once(kind):
    reported = entries(kind)
    assert sorted(reported) == sorted(declared_keys()[kind])


@pytest.mark.parametrize("kind", ["number", "finding", "setting"])
def test_every_entry_says_something_of_its_own(kind):
    page = (SOURCE / "reference" / f"{kind}s.md").read_text("utf-8")
    words = [block.strip() for block in re.findall(rf":::\{{{kind}\}} \S+\n(.*?):::", page, re.DOTALL)]
    assert all(len(entry) > 7 for entry in words)
    if kind == "finding":
        assert all("*Why*" in entry and "*Do*" in entry for entry in words)
        assert len(set(words)) == len(words)


def test_every_step_has_a_page_and_every_finding_a_place():
    for step in steps():
        assert html.escape(step.title) in guide.page_html(guide.place_of_step(step).page)
    page = guide.page_html("reference/findings")
    for found in evaluate(load(demo.rig_path(NAMES["triplet"])).rig).findings:
        place = guide.place_of_finding(found)
        assert f'id="{place.section}"' in page


@pytest.mark.parametrize("page", ["", "../index", "steps/none", "/etc/passwd", "steps/scales.html", "a/../index"])
def test_nothing_but_pages_is_read(page):
    with pytest.raises(InputError, match="the guide has no page"):
        guide.page_html(page)


@pytest.mark.parametrize(
    ("words", "first"),
    [
        ("back focus error", ("reference/numbers", "number.back_focus_error_mm")),
        ("ports.suspend", ("reference/findings", "finding.ports.suspend")),
        ("waits for ever", ("symptoms", "the-run-waits-for-ever")),
        ("EMBOSSED flats", ("symptoms", "embossed-flats")),
    ],
)
def test_search_finds_titles_first(words, first):
    place = guide.search(words)[0].place
    assert (place.page, place.section) == first


@pytest.mark.parametrize("words", ["", "  ", "zzz", "focus zzz", "ocus"])
def test_search_finds_nothing_where_nothing_is(words):
    assert guide.search(words) == []


def test_search_tells_the_words_around_and_no_more_than_asked():
    hits = guide.search("dust", most=3)
    assert len(hits) == 3
    assert any("dust" in hit.words.lower() for hit in hits)
    assert all(len(hit.words) <= 2 * guide.AROUND + 4 for hit in hits)


def examples():
    page = (SOURCE / "reference" / "command-line.md").read_text("utf-8")
    for number, block in enumerate(re.findall(r"```console\n(.*?)```", page, re.DOTALL)):
        yield pytest.param(block, id=f"{number}-{block.split()[2]}")


def matches(reported, wanted):
    """Whether text is as an example shows it, … standing for anything."""
    pattern = re.escape(wanted.strip()).replace("…\\\n", "(.*\\n)?").replace("\\\n…", "(\\n.*)?").replace("…", ".*")
    return re.fullmatch(pattern, reported.strip(), re.DOTALL) is not None


@pytest.mark.slow
@pytest.mark.parametrize("block", list(examples()))
def test_examples_print_what_the_guide_shows(block, tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(tmp_path)
    for name, rig in NAMES.items():
        Path(f"{name}.rig.json").write_bytes(demo.rig_path(rig).read_bytes())
    for part in re.split(r"^\$ ", block, flags=re.MULTILINE)[1:]:
        line, _, shown = part.partition("\n")
        command, _, asks = line.partition("; echo $?")
        program, *words = shlex.split(command)
        assert program == "wyntaxis"
        code = cli.main(words)
        printed = capsys.readouterr()
        text = printed.out + printed.err + (f"{code}\n" if asks or "echo $?" in line else "")
        assert matches(text, shown), f"$ {command}\n{text[:2000]}"


@pytest.mark.parametrize(
    ("reported", "wanted", "same"),
    [
        ("a\nb\nc\n", "a\n…\nc\n", True),
        ("a\nc\n", "a\n…\n", True),
        ("a\nb\n", "…\nb\n", True),
        ("a\nb\n", "a\n", False),
        ("a (x)\n", "a …\n", True),
        ("b\n", "a\n…\n", False),
    ],
)
def test_examples_are_compared_line_by_line(reported, wanted, same):
    assert matches(reported, wanted) is same
