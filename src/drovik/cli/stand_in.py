"""`drovik stand-in`: the simulated service alone, until it is stopped."""

from __future__ import annotations

import argparse
import asyncio
import signal
from pathlib import Path

from drovik.cli.printing import say
from drovik.errors import DONE, Problem, UsageError
from drovik.standin.desk import Ledger
from drovik.standin.faults import read_faults
from drovik.standin.service import StandIn, serve

EXAMPLE = "drovik stand-in --port 8765 --faults limit=0.1,lost=0.05 --slow 0.5"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument("--port", type=int, default=8765, help="0 takes any that is free (default: 8765)")
    parser.add_argument("--key", default="lost-and-found", help="the key it asks for (default: lost-and-found)")
    parser.add_argument("--slow", type=float, default=0.0, metavar="SECONDS", help="this much longer for each answer")
    parser.add_argument(
        "--faults",
        default="",
        metavar="SHARES|FILE",
        help="how often to fail, like lost=0.05,seed=7, or a fault plan: a .toml file (docs/stand-in.md)",
    )
    parser.add_argument(
        "--ledger", type=Path, metavar="FILE", help="write each request and what was billed to a file"
    )


def run(arguments: argparse.Namespace) -> int:
    """Serve until interrupted."""

    faults = read_faults(arguments.faults)
    if arguments.slow < 0 or not 0 <= arguments.port <= 65535:
        raise UsageError(Problem("--slow is not negative, and --port from 0 to 65535", "correct it"))
    try:
        ledger = Ledger(arguments.ledger)
    except OSError as error:
        raise UsageError(
            Problem(f"cannot be written: {error.strerror}", "give another file", str(arguments.ledger))
        ) from None
    standin = StandIn(arguments.key, arguments.slow, faults, ledger)
    asyncio.run(_serve(standin, arguments.port))
    ledger.close()
    return DONE


async def _serve(standin: object, port: int) -> None:

    assert isinstance(standin, StandIn)
    try:
        runner, port = await serve(standin, port)
    except OSError:
        raise UsageError(Problem(f"port {port} is taken", "stop what uses it, or give another by --port")) from None
    stopped = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, stopped.set)
    say(f"The stand-in answers at http://127.0.0.1:{port} and asks for the key '{standin.key}'. Ctrl-C stops it.")
    await stopped.wait()
    await runner.cleanup()
    summary = standin.ledger.summary()
    say(f"It was asked {summary['requests']} times and billed {summary['billed']}.")
