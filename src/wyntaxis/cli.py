"""The command line: the same core as the window, in text and JSON."""

from __future__ import annotations

import argparse
import contextlib
import importlib
import pkgutil
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from wyntaxis import __version__, commands
from wyntaxis.outputs import drop_output, plain_outputs

if TYPE_CHECKING:
    from wyntaxis.commands.shared import Command

OK, UNREADABLE = 0, 2
DEBUG = "--debug"


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command and return its exit code; see ``wyntaxis --help``."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    try:
        found = _commands().get(given[0]) if given and not given[0].startswith("-") else None
        with plain_outputs(needed=found is not None):
            return _run_window(given) if found is None else _run_command(given, found)
    except OSError as error:  # commands tell their own files' errors: this is the output's
        drop_output()
        reason = "its reader has gone" if isinstance(error, BrokenPipeError) else error.strerror or str(error)
        _tell(f"the output cannot be written: {reason}")
        return UNREADABLE
    except KeyboardInterrupt:
        return 130
    except MemoryError:
        _tell("there is not enough memory for this: close other programs, or give it less")
        return UNREADABLE
    except Exception as error:  # whatever nobody foresaw: one line, and the trace in the log
        from wyntaxis.core.files.faults import fault_line, log_path, note_fault

        note_fault(error, debug=DEBUG in given)
        told = "" if DEBUG in given else f"; the details are in {log_path()}, or printed with {DEBUG}"
        _tell(f"failed inside ({fault_line(error)}){told}")
        return UNREADABLE


def _tell(text: str) -> None:
    """Print one line on what went wrong, where there is somebody to hear it."""
    from wyntaxis.core.files.foreign_text import LINE_CHARACTERS, one_line

    if sys.stderr is not None:
        with contextlib.suppress(OSError, ValueError):
            code = sys.stderr.encoding or "utf-8"
            told = one_line(text).encode(code, "backslashreplace").decode(code)
            if len(told) > LINE_CHARACTERS:  # what this terminal cannot show takes more room
                told = f"{told[: LINE_CHARACTERS // 2]} ... {told[-LINE_CHARACTERS // 3 :]}"
            print(f"wyntaxis: {told}", file=sys.stderr)


class _Parser(argparse.ArgumentParser):
    """A parser whose errors are one line."""

    def error(self, message: str) -> NoReturn:
        """Tell what is wrong, and where help is."""
        _tell(f"{message}; see {self.prog} --help")
        sys.exit(UNREADABLE)


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
    parser = _Parser(prog=f"wyntaxis {name}", description=command.help)
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
        return command.run(options)
    except InputError as error:
        _tell(str(error))
        return UNREADABLE


def _add_debug(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(DEBUG, action="store_true", help="print the trace of a failure inside")


def _asks_help(given: Sequence[str]) -> bool:
    return any(word in ("-h", "--help") for word in given)


def _run_window(given: Sequence[str]) -> int:
    parser = _Parser(
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
