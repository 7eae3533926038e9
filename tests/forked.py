"""Runs the program many times quickly: a process that has it loaded forks for each run.

Starting Python and importing what a command needs takes half a second, and the tests run the program
some nine hundred times. Each run is a process of its own with its own folder, environment and streams,
and calls what the installed program calls. Tests about killing, piping, typing and starting run the installed
program itself.
"""

from __future__ import annotations

import gc
import json
import os
import resource
import signal
import socket
import sys
import traceback
from pathlib import Path

LOADED = (
    "aiohttp", "jinja2", "jsonschema_rs", "PIL.Image", "rich.console", "rich.table", "drovik.cli.ask.ask_command", "drovik.cli.check",
    "drovik.cli.compare", "drovik.cli.endpoint.endpoint_command", "drovik.cli.score", "drovik.cli.send", "drovik.cli.show", "drovik.dialects.learn.sample_dialect",
    "drovik.workflow.endpoint_trial", "drovik.evaluation.gathering", "drovik.transport.dispatcher", "drovik.store.answer_store",
    "numpy", "scipy.optimize", "scipy.stats", "rapidfuzz.distance", "regex", "dateutil.parser", "dotenv", "platformdirs", "jinja2.sandbox",
    "drovik.comparing.verdict", "drovik.cli.report", "drovik.project.prompt_templates", "drovik.cli.prompts", "drovik.comparing.against", "drovik.cli.split", "drovik.cli.bring", "drovik.cli.quote", "drovik.cli.pictures.pictures_command", "drovik.cli.pictures.table", "drovik.cli.ask.summary",
    "drovik.cli.causes", "drovik.cli.endpoint.learn", "drovik.reporting.page.document", "drovik.reporting.figures.files", "drovik.images.inspection", "drovik.evaluation.suspects", "drovik.dialects.learn.sample_files",
    "drovik.scoring.measure_checks", "drovik.workflow.sending_plan", "drovik.workflow.project_checks", "drovik.workflow.running", "drovik.workflow.estimating",
    "drovik.workflow.open_project", "drovik.workflow.results", "drovik.workflow.asking", "drovik.workflow.picture_arguments", "drovik.workflow.wire_parts",
    "encodings.utf_8_sig", "encodings.unicode_escape", "encodings.ascii", "importlib.readers", "drovik.cli.main", "drovik.cli.stand_in", "drovik.standin.service", "aiohttp.web", "PIL.ImageOps", "PIL.ImageDraw",
)  # fmt: skip


def run_in(asked: dict[str, object]) -> int:
    """Run one command line in this process, which is a fork, and give its exit code."""
    from drovik.cli.main import main

    words, environment = asked["words"], asked["environment"]
    assert isinstance(words, list)
    assert isinstance(environment, dict)
    os.chdir(str(asked["folder"]))
    os.environ.clear()
    os.environ.update(environment)
    for number, path in ((0, str(asked["in"])), (1, str(asked["out"])), (2, str(asked["err"]))):
        os.dup2(os.open(path, os.O_RDWR | os.O_CREAT, 0o600), number)
    sys.argv = ["drovik", *words]
    sys.path[:0] = environment.get("PYTHONPATH", "").split(os.pathsep) if environment.get("PYTHONPATH") else []
    try:
        code: object = main()
    except SystemExit as leaving:
        code = leaving.code or 0
    except BaseException:
        traceback.print_exc()
        code = 1
    sys.stdout.flush()
    sys.stderr.flush()
    return code if isinstance(code, int) else 1


def serve(path: str) -> None:
    """Fork for each request that comes in at a socket, until the socket is gone."""
    import importlib

    for name in LOADED:
        importlib.import_module(name)
    importlib.import_module("drovik.scoring.language.detecting").language_of("Its model takes a second to read.")
    sys.modules["PIL.Image"].init()
    records = [importlib.import_module("drovik.project.toml_files").Frozen]
    for one in records:  # or each fork would build what reads the files
        one.model_rebuild()
        records += one.__subclasses__()
    demo = Path(importlib.import_module("drovik.demo").__path__[0]) / "project"
    importlib.import_module("drovik.project.reading").read_project(demo)  # its templates too
    gc.collect()
    gc.freeze()  # or each fork would copy the memory of all that is loaded
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(f"{path}.new")
    listening.listen(16)
    os.rename(f"{path}.new", path)  # whoever sees the name may connect
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        connection, _ = listening.accept()
        asked = json.loads(connection.makefile().readline())
        if os.fork() == 0:
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            listening.close()
            connection.sendall(f"{os.getpid()}\n".encode())
            code = run_in(asked)
            memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
            connection.sendall(f"{code} {memory}\n".encode())
            os._exit(0)
        connection.close()


if __name__ == "__main__":
    serve(sys.argv[1])
