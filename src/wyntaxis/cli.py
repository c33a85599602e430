"""The command line: the same core as the window, in text and JSON."""

from __future__ import annotations

import argparse
import importlib
import os
import pkgutil
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis import __version__, commands

if TYPE_CHECKING:
    from wyntaxis.commands.shared import Command

OK, UNREADABLE = 0, 2
DEBUG = "--debug"


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command and return its exit code; see ``wyntaxis --help``."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    try:
        found = _commands().get(given[0]) if given and not given[0].startswith("-") else None
        return _run_window(given) if found is None else _run_command(given, found)
    except BrokenPipeError:  # the reader of a pipe has gone, as with "| head"
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return OK
    except KeyboardInterrupt:
        return 130
    except Exception as error:  # whatever nobody foresaw: one line, and the trace in the log
        from wyntaxis.core.files.faults import fault_line, log_path, note_fault

        note_fault(error, debug=DEBUG in given)
        told = "" if DEBUG in given else f"; the details are in {log_path()}, or printed with {DEBUG}"
        print(f"wyntaxis: failed inside ({fault_line(error)}){told}", file=sys.stderr)
        return UNREADABLE


def _commands() -> dict[str, Command]:
    """Return every command by name: each module of :mod:`wyntaxis.commands` declares its own in ``COMMANDS``.

    These modules import nothing of the core before one of their commands is run.
    """
    modules = [
        importlib.import_module(f"{commands.__name__}.{m.name}") for m in pkgutil.iter_modules(commands.__path__)
    ]
    return {name: command for module in modules for name, command in getattr(module, "COMMANDS", {}).items()}


def _run_command(given: Sequence[str], command: Command) -> int:
    name = given[0]
    parser = argparse.ArgumentParser(prog=f"wyntaxis {name}", description=command.help)
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
    options = parser.parse_args(given[1:])
    options.command = name
    from wyntaxis.core.files.errors import InputError

    try:
        code = command.run(options)
        sys.stdout.flush()
    except InputError as error:
        print(f"wyntaxis: {error}", file=sys.stderr)
        return UNREADABLE
    return code


def _add_debug(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(DEBUG, action="store_true", help="print the trace of a failure inside")


def _asks_help(given: Sequence[str]) -> bool:
    return any(word in ("-h", "--help") for word in given)


def _run_window(given: Sequence[str]) -> int:
    parser = argparse.ArgumentParser(
        prog="wyntaxis",
        description="Open a rig in the window, or run a command on it.",
        epilog="commands: " + "; ".join(f"{name}: {command.help}" for name, command in _commands().items())
        if _asks_help(given)
        else "",
    )
    parser.add_argument("file", nargs="?", type=Path, metavar="FILE", help="the rig to open, NAME.rig.json")
    parser.add_argument("--demo", action="store_true", help="open a copy of the demo rigs")
    parser.add_argument(
        "--screenshot", type=Path, metavar="DIR", help="write a PNG of each view into DIR, without a screen, and end"
    )
    parser.add_argument("--view", metavar="NAME", help="with --screenshot: only the view of that name")
    _add_debug(parser)
    parser.add_argument("--version", action="version", version=f"wyntaxis {__version__}")
    options = parser.parse_args(given)
    from wyntaxis.desk.app import run

    return run(options.file, demo=options.demo, screenshots=options.screenshot, view=options.view, debug=options.debug)
