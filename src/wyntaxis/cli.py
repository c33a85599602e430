"""The command line: the same core as the window, in text and JSON."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

# Matrices are small here, and two threads of ours work side by side: more threads below them only wait for each other.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from wyntaxis.commands.parsers import DEBUG, UNREADABLE, command_list, commands_by_name, parser_of, tell, window_parser
from wyntaxis.outputs import drop_output, plain_outputs

if TYPE_CHECKING:
    from wyntaxis.commands.shared import Command


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command and return its exit code; see ``wyntaxis --help``."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    try:
        found = commands_by_name().get(given[0]) if given and not given[0].startswith("-") else None
        with plain_outputs(needed=found is not None):
            return _run_window(given) if found is None else _run_command(given, found)
    except OSError as error:  # commands tell their own files' errors: this is the output's
        drop_output()
        reason = "its reader has gone" if isinstance(error, BrokenPipeError) else error.strerror or str(error)
        tell(f"the output cannot be written: {reason}")
        return UNREADABLE
    except KeyboardInterrupt:
        return 130
    except MemoryError:
        tell("there is not enough memory for this: close other programs, or give it less")
        return UNREADABLE
    except Exception as error:  # whatever nobody foresaw: one line, and the trace in the log
        from wyntaxis.core.files.faults import fault_line, log_path, note_fault

        note_fault(error, debug=DEBUG in given)
        text = "" if DEBUG in given else f"; the details are in {log_path()}, or printed with {DEBUG}"
        tell(f"failed inside ({fault_line(error)}){text}")
        return UNREADABLE


def _run_command(given: Sequence[str], command: Command) -> int:
    name = given[0]
    options = parser_of(name, command).parse_args(given[1:])
    options.command = name
    from wyntaxis.core.files.errors import InputError

    try:
        return command.run(options)
    except InputError as error:
        tell(str(error))
        return UNREADABLE


def _asks_help(given: Sequence[str]) -> bool:
    return any(word in ("-h", "--help") for word in given)


def _run_window(given: Sequence[str]) -> int:
    options = window_parser(command_list() if _asks_help(given) else "").parse_args(given)
    from wyntaxis.desk.app import run

    return run(options.file, demo=options.demo, screenshots=options.screenshot, view=options.view, debug=options.debug)
