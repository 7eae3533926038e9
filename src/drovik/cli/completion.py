"""`drovik completion`: what a shell completes, and the manual page, made of the commands themselves."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from drovik.errors import DONE, Problem, UsageError
from drovik.version import __version__

EXAMPLE = "drovik completion bash > ~/.local/share/bash-completion/completions/drovik"
SHELLS = ("bash", "zsh", "fish")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument("what", choices=(*SHELLS, "manual"), help="a shell; or manual: the manual page, as roff")


def run(arguments: argparse.Namespace) -> int:
    """Print it."""
    from drovik.cli.main import whole_parser

    parser = whole_parser()
    if arguments.what == "manual":
        print("\n".join(_manual(parser)))
        return DONE
    try:
        import shtab
    except ImportError:
        remedy = "install it: pip install 'drovik[completion]'"
        raise UsageError(Problem("completion needs shtab, which is not installed", remedy)) from None
    print(shtab.complete(parser, arguments.what))
    return DONE


def _manual(parser: argparse.ArgumentParser) -> Iterator[str]:
    yield f'.TH DROVIK 1 "" "drovik {__version__}" "User Commands"'
    yield from (".SH NAME", f"drovik \\- {_roff(str(parser.description))}", ".SH SYNOPSIS", ".B drovik")
    yield from (".I COMMAND", "[\\fIOPTION\\fR ...]", ".SH COMMANDS")
    for name, one in _commands(parser).items():
        yield from (".SS", f"drovik {_roff(name)}", _roff(one.description or ""))
        for action in one._actions:
            names = ", ".join(action.option_strings) or str(action.metavar or action.dest)
            takes = f" {action.metavar or action.dest.upper()}" if action.option_strings and action.nargs != 0 else ""
            if action.help and action.help != argparse.SUPPRESS:
                yield from (".TP", f"\\fB{_roff(names)}\\fR{_roff(takes)}", _roff(action.help % vars(action)))
    yield from (".SH EXIT STATUS", "0 done; 1 done, and something does not hold; 2 the command or a file is wrong;")
    yield "3 a service could not be used; 130 interrupted, with all that came back kept."


def _commands(parser: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            return dict(action.choices)
    return {}


def _roff(text: str) -> str:
    """Text that roff takes for nothing else."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{escaped}" if escaped.startswith((".", "'")) else escaped
