"""The command line: the same core as the window, in text and JSON."""

from __future__ import annotations

import argparse
import importlib
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis import __version__

if TYPE_CHECKING:
    from wyntaxis.commands.shared import Command

OK, UNREADABLE = 0, 2
DEBUG = "--debug"

_MODULES = {
    "numbers": "rig",
    "check": "rig",
    "spacers": "rig",
    "schema": "rig",
    "footprint": "sky",
    "scale": "sky",
    "night": "sky",
    "paths": "maps",
    "map": "maps",
    "records": "connect",
    "headers": "connect",
    "ports": "connect",
    "ready": "connect",
    "sensor": "bench",
    "cooling": "bench",
}
"""Which module of :mod:`wyntaxis.commands` holds a command: only the one asked for is imported."""


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command and return its exit code; see ``wyntaxis --help``."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    try:
        if given and given[0] in _MODULES:
            return _run_command(given)
        return _run_window(given)
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


def _command(name: str) -> Command:
    module = importlib.import_module(f"wyntaxis.commands.{_MODULES[name]}")
    found: Command = module.COMMANDS[name]
    return found


def _run_command(given: Sequence[str]) -> int:
    name, command = given[0], _command(given[0])
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
        epilog="commands: " + "; ".join(f"{name}: {_command(name).help}" for name in _MODULES)
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
