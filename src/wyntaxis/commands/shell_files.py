"""What a shell and the manual are told of the command line, made from its parsers: completion and the man page."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Mapping

from wyntaxis import __version__

Parsers = Mapping[str, argparse.ArgumentParser]
SHELLS = ("bash", "zsh", "fish")


def _options(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    for action in parser._actions:
        if action.option_strings and action.help != argparse.SUPPRESS:
            yield action


def _long(action: argparse.Action) -> str:
    return max(action.option_strings, key=len)


def _help(action: argparse.Action) -> str:
    return (action.help or "").replace("%%", "%")


def completion(shell: str, parsers: Parsers) -> str:
    """Return the completion script of a shell.

    Parameters
    ----------
    shell
        ``bash``, ``zsh`` or ``fish``.
    parsers
        Of every command by name, that of the window by an empty one.

    Returns
    -------
    str
        Commands, their options, the choices of an option, and files.
    """
    return {"bash": _bash, "zsh": _zsh, "fish": _fish}[shell](parsers)


def _bash(parsers: Parsers) -> str:
    commands = [name for name in parsers if name]
    first = " ".join([*commands, *(_long(action) for action in _options(parsers[""]))])
    lines = [
        "# bash completion of wyntaxis; made by wyntaxis completion bash",
        "_wyntaxis() {",
        '    local cur="${COMP_WORDS[COMP_CWORD]}" prev="" options=""',
        '    [ "$COMP_CWORD" -gt 0 ] && prev="${COMP_WORDS[COMP_CWORD-1]}"',
        '    if [ "$COMP_CWORD" -eq 1 ]; then',
        f'        COMPREPLY=($(compgen -W "{first}" -- "$cur") $(compgen -f -- "$cur"))',
        "        return",
        "    fi",
        '    case "${COMP_WORDS[1]} $prev" in',
    ]
    for name, parser in parsers.items():
        for action in _options(parser):
            if name and action.choices:
                words = " ".join(map(str, action.choices))
                text = f'COMPREPLY=($(compgen -W "{words}" -- "$cur")); return ;;'
                lines.append(f'        "{name} {_long(action)}") {text}')
    lines += ["    esac", '    case "${COMP_WORDS[1]}" in']
    for name in commands:
        words = " ".join(_long(action) for action in _options(parsers[name]))
        lines.append(f'        {name}) options="{words}" ;;')
    lines += [
        "    esac",
        '    if [[ "$cur" == -* ]]; then',
        '        COMPREPLY=($(compgen -W "$options" -- "$cur"))',
        "    else",
        '        COMPREPLY=($(compgen -f -- "$cur"))',
        "    fi",
        "}",
        "complete -o filenames -F _wyntaxis wyntaxis",
    ]
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    """Return a text in single quotes as zsh and fish read it, without what their specifications take for their own."""
    plain = text.replace("'", "’").replace("[", "(").replace("]", ")").replace(":", ",")
    return f"'{plain}'"


def _zsh(parsers: Parsers) -> str:
    lines = ["#compdef wyntaxis", "# zsh completion of wyntaxis; made by wyntaxis completion zsh", "", "_wyntaxis() {"]
    lines += ["    local -a commands", "    commands=("]
    lines += [
        f"        {_quoted(name)[:-1]}:{_quoted(parser.description or '')[1:]}"
        for name, parser in parsers.items()
        if name
    ]
    lines += ["    )", "    if (( CURRENT == 2 )); then", "        _describe command commands", "        _files"]
    lines += [f"        _arguments {_zsh_options(parsers[''])}", "        return", "    fi", '    case "$words[2]" in']
    lines += [
        f"        {name}) _arguments {_zsh_options(parser)} '*:file:_files' ;;"
        for name, parser in parsers.items()
        if name
    ]
    lines += ["    esac", "}", "", '_wyntaxis "$@"']
    return "\n".join(lines) + "\n"


def _zsh_options(parser: argparse.ArgumentParser) -> str:
    entries = []
    for action in _options(parser):
        text = f"{_long(action)}[{_quoted(_help(action))[1:-1]}]"
        if action.choices:
            text += f":value:({' '.join(map(str, action.choices))})"
        elif action.nargs != 0:
            text += ":value:_files"
        entries.append(f"'{text}'")
    return " ".join(entries)


def _fish(parsers: Parsers) -> str:
    lines = ["# fish completion of wyntaxis; made by wyntaxis completion fish"]
    for name, parser in parsers.items():
        if name:
            entries = _quoted(parser.description or "")
            lines.append(f"complete -c wyntaxis -n __fish_use_subcommand -a {name} -d {entries}")
        where = f"'__fish_seen_subcommand_from {name}'" if name else "__fish_use_subcommand"
        for action in _options(parser):
            parts = ["complete -c wyntaxis -n", where, "-l", _long(action).lstrip("-")]
            if action.choices:
                parts += ["-x -a", f"'{' '.join(map(str, action.choices))}'"]
            elif action.nargs != 0:
                parts.append("-r")
            lines.append(" ".join([*parts, "-d", _quoted(_help(action))]))
    return "\n".join(lines) + "\n"


def man_page(parsers: Parsers) -> str:
    """Return the man page of section 1, in the language of man(7).

    Parameters
    ----------
    parsers
        As :func:`completion` takes them.

    Returns
    -------
    str
        Every command with its options.
    """
    lines = [
        f'.TH WYNTAXIS 1 "" "Wyntaxis {__version__}" "User Commands"',
        ".SH NAME",
        "wyntaxis \\- document, compute and measure a deep-sky imaging rig",
        ".SH SYNOPSIS",
        ".B wyntaxis",
        "[\\fIFILE\\fR]",
        ".br",
        ".B wyntaxis",
        "\\fICOMMAND\\fR [\\fIARGUMENT\\fR...]",
        ".SH DESCRIPTION",
        _roff(parsers[""].description or ""),
        "Without a command the window opens: on FILE, the rig opened last, or the start page.",
        ".SH OPTIONS",
        *_man_options(parsers[""]),
        ".SH COMMANDS",
    ]
    for name, parser in parsers.items():
        if name:
            usage = " ".join(parser.format_usage().removeprefix("usage: ").split())
            lines += [f".SS {_roff(usage)}", _roff((parser.description or "").rstrip(".") + ".")]
            lines += _man_options(parser)
    lines += [
        ".SH EXIT STATUS",
        "0 where nothing fails, 1 where a finding fails, 2 where something cannot be read.",
        ".SH FILES",
        ".TP",
        ".I ~/.local/share/wyntaxis",
        "Shelf, key maps, names of filters.",
        ".TP",
        ".I ~/.local/state/wyntaxis",
        "Journals of unsaved edits, the log of failures, the window's state.",
    ]
    return "\n".join(lines) + "\n"


def _man_options(parser: argparse.ArgumentParser) -> Iterator[str]:
    for action in _options(parser):
        value = f" \\fI{_roff(action.metavar)}\\fR" if isinstance(action.metavar, str) and action.nargs != 0 else ""
        if action.choices:
            value = f" \\fI{_roff('|'.join(map(str, action.choices)))}\\fR"
        yield ".TP"
        yield f"\\fB{_roff(_long(action))}\\fR{value}"
        yield _roff(_help(action)[:1].upper() + _help(action)[1:] + ".")


def _roff(text: str) -> str:
    """Return a text as roff takes it: backslashes and hyphens escaped, no line that looks like a request."""
    words = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{words}" if words.startswith((".", "'")) else words
