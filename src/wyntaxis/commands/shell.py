"""Commands for the shell: completion scripts and the man page, made from the parsers."""

from __future__ import annotations

import argparse

from wyntaxis.commands.shared import OK, Command

SHELLS = ("bash", "zsh", "fish")


def _completion(options: argparse.Namespace) -> int:
    from wyntaxis.commands.parsers import all_parsers
    from wyntaxis.commands.shell_files import completion

    print(completion(options.shell, all_parsers()), end="")
    return OK


def _completion_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=SHELLS, help="the shell that completes")


def _manual(_options: argparse.Namespace) -> int:
    from wyntaxis.commands.parsers import all_parsers
    from wyntaxis.commands.shell_files import man_page

    print(man_page(all_parsers()), end="")
    return OK


COMMANDS = {
    "completion": Command(
        _completion, "print the completion script of a shell", _completion_arguments, rig=False, group="Files and shell"
    ),
    "manual": Command(_manual, "print the man page", rig=False, group="Files and shell"),
}
"""Commands for the shell."""
