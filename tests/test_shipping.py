"""What is shipped beside the program: completions and man page as the parsers tell them, desktop entry, MIME type."""

import configparser
import shutil
import subprocess
from pathlib import Path
from xml.etree import ElementTree

import pytest

from wyntaxis.cli import main
from wyntaxis.commands.parsers import all_parsers
from wyntaxis.commands.shell_files import SHELLS, completion, man_page

PACKAGING = Path(__file__).parents[1] / "packaging"
MIME = "application/x-wyntaxis-rig+json"


def entries(*command):
    """Run a tool where it is there; None where it is not."""
    if shutil.which(command[0]) is None:
        return None
    return subprocess.run(command, capture_output=True, text=True, check=False)


@pytest.mark.parametrize("shell", SHELLS)
def test_completions_are_as_the_parsers_tell_them(shell, capsys):
    text = completion(shell, all_parsers())
    assert (PACKAGING / "completions" / f"wyntaxis.{shell}").read_text("utf-8") == text, "say: make shell-files"
    assert main(["completion", shell]) == 0
    assert capsys.readouterr().out == text
    for name in ("numbers", "dossier", "rehearse"):
        assert name in text
    checked = entries(shell, "-n", str(PACKAGING / "completions" / f"wyntaxis.{shell}"))
    if checked is not None:
        assert (checked.returncode, checked.stderr) == (0, "")


@pytest.mark.parametrize(
    ("words", "completed"),
    [
        (["num"], ["numbers"]),
        (["--de"], ["--demo", "--debug"]),
        (["dossier", "--pr"], ["--private"]),
        (["dossier", "a.rig.json", "--paper", ""], ["A4", "A5", "A6", "Letter"]),
        (["completion", "--d"], ["--debug"]),
    ],
)
def test_bash_completes(words, completed):
    script = PACKAGING / "completions" / "wyntaxis.bash"
    quoted = " ".join(f"'{word}'" for word in ["wyntaxis", *words])
    line = f'source {script}; COMP_WORDS=({quoted}); COMP_CWORD={len(words)}; _wyntaxis; echo "${{COMPREPLY[@]}}"'
    done = subprocess.run(["bash", "-c", line], capture_output=True, text=True, check=True, cwd=PACKAGING)
    assert sorted(done.stdout.split()) == sorted(completed)


def test_the_man_page_tells_every_command_and_option(capsys):
    page = man_page(all_parsers())
    assert (PACKAGING / "man" / "wyntaxis.1").read_text("utf-8") == page, "say: make shell-files"
    assert main(["manual"]) == 0
    assert capsys.readouterr().out == page
    for name, parser in all_parsers().items():
        if name:
            assert f".SS wyntaxis {name}" in page
        for action in parser._actions:
            for option in action.option_strings:
                if option.startswith("--"):
                    assert option.replace("-", "\\-") in page
    shown = entries("man", "--warnings", "-l", str(PACKAGING / "man" / "wyntaxis.1"))
    if shown is not None:
        assert (shown.returncode, shown.stderr) == (0, "")


def test_the_desktop_entry_and_the_mime_type_name_each_other():
    entry = configparser.ConfigParser(interpolation=None)
    entry.read(PACKAGING / "wyntaxis.desktop", "utf-8")
    assert MIME in entry["Desktop Entry"]["MimeType"].split(";")
    types = ElementTree.parse(PACKAGING / "wyntaxis-mime.xml").getroot()
    (kind,) = types
    assert kind.get("type") == MIME
    assert any(own.get("pattern") == "*.rig.json" for own in kind)
    info = ElementTree.parse(PACKAGING / "org.wyntaxis.Wyntaxis.metainfo.xml").getroot()
    assert info.findtext("launchable") == "wyntaxis.desktop"
    assert MIME in [own.text for own in info.find("provides")]
    for command in (
        ("desktop-file-validate", str(PACKAGING / "wyntaxis.desktop")),
        ("appstreamcli", "validate", "--no-net", str(PACKAGING / "org.wyntaxis.Wyntaxis.metainfo.xml")),
    ):
        checked = entries(*command)
        if checked is not None:
            assert checked.returncode == 0, checked.stdout + checked.stderr
