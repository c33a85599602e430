"""The parsers of the command line: one for each command that a module of this package declares, one for the window."""

from __future__ import annotations

import argparse
import contextlib
import importlib
import pkgutil
import sys
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from wyntaxis import __version__, commands

if TYPE_CHECKING:
    from wyntaxis.commands.shared import Command

UNREADABLE = 2
DEBUG = "--debug"


def tell(text: str) -> None:
    """Print one line on what went wrong to standard error, where there is one."""
    from wyntaxis.core.files.foreign_text import LINE_CHARACTERS, one_line

    if sys.stderr is not None:
        with contextlib.suppress(OSError, ValueError):
            code = sys.stderr.encoding or "utf-8"
            entries = one_line(text).encode(code, "backslashreplace").decode(code)
            if len(entries) > LINE_CHARACTERS:  # what this terminal cannot show takes more room
                entries = f"{entries[: LINE_CHARACTERS // 2]} ... {entries[-LINE_CHARACTERS // 3 :]}"
            print(f"wyntaxis: {entries}", file=sys.stderr)


class OneLineParser(argparse.ArgumentParser):
    """A parser whose errors are one line."""

    def error(self, message: str) -> NoReturn:
        """Print what is wrong, and where help is, and exit."""
        tell(f"{message}; see {self.prog} --help")
        sys.exit(UNREADABLE)


def commands_by_name() -> dict[str, Command]:
    """Return every command by name: each module of :mod:`wyntaxis.commands` declares its own in ``COMMANDS``.

    These modules import nothing of the core before one of their commands is run.
    """
    modules = [
        importlib.import_module(f"{commands.__name__}.{m.name}") for m in pkgutil.iter_modules(commands.__path__)
    ]
    return {name: command for module in modules for name, command in getattr(module, "COMMANDS", {}).items()}


def parser_of(name: str, command: Command) -> argparse.ArgumentParser:
    """Return the parser of one command."""
    parser = OneLineParser(prog=f"wyntaxis {name}", description=command.help)
    if command.rig:
        help_text = "the rig file, NAME.rig.json"
        parser.add_argument(
            "file", type=Path, metavar="FILE", help=help_text, nargs="?" if command.rig_optional else None
        )
        parser.add_argument("--json", action="store_true", help="print JSON instead of a table")
        parser.add_argument("--variant", metavar="NAME", help="the rig's variant of that name")
        parser.add_argument("--shelf", type=Path, metavar="SHELF", help="a shelf file, JSON or CSV")
    command.add_arguments(parser)
    _add_debug(parser)
    return parser


def _add_debug(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(DEBUG, action="store_true", help="print the traceback of an unexpected error")


GROUPS = ("Build", "Compute", "Connect", "Measure", "Verify", "Files and shell")
"""The headings of the help's list of commands, in the order of the work."""


def command_list() -> str:
    """Return every command on a line of its own, grouped by the work."""
    found = commands_by_name()
    wide = max(map(len, found)) + 2
    lines = ["commands, each with its own --help:"]
    for group in GROUPS:
        lines += ["", group]
        lines += [f"  {name:{wide}}{own.help}" for name, own in found.items() if own.group == group]
    return "\n".join(lines)


def window_parser(epilog: str = "") -> argparse.ArgumentParser:
    """Return the parser of the window: what ``wyntaxis`` takes without a command."""
    parser = OneLineParser(
        prog="wyntaxis",
        usage="wyntaxis [options] [FILE]\n       wyntaxis COMMAND [arguments]",
        description="Open a rig in the window, or run a command on it.",
        epilog=epilog,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("file", nargs="?", type=Path, metavar="FILE", help="the rig to open, NAME.rig.json")
    parser.add_argument("--demo", action="store_true", help="open a copy of the demo rigs")
    parser.add_argument(
        "--screenshot", type=Path, metavar="DIR", help="write a PNG of each view into DIR, without a screen, and end"
    )
    parser.add_argument("--view", metavar="NAME", help="with --screenshot: only the view of that name")
    _add_debug(parser)
    parser.add_argument("--version", action="version", version=f"wyntaxis {__version__}")
    return parser


def all_parsers() -> dict[str, argparse.ArgumentParser]:
    """Return the parser of every command by name, and that of the window by an empty one."""
    return {"": window_parser(), **{name: parser_of(name, own) for name, own in sorted(commands_by_name().items())}}
