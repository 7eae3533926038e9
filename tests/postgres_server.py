"""A PostgreSQL server of this machine for tests, in a folder of its own; none where the programs are not there."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
from pathlib import Path

FOLDERS = sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True)
INITDB = shutil.which("initdb") or next((str(one / "initdb") for one in FOLDERS if (one / "initdb").exists()), None)


class PostgresServer:
    """Started by an unprivileged user, for PostgreSQL refuses to run as root."""

    def __init__(self, folder: Path, port: int) -> None:
        assert INITDB is not None
        self.programs, self.port = Path(INITDB).parent, port
        self.data = folder / "data"
        self.user = "postgres" if os.getuid() == 0 else ""
        if self.user:
            os.chown(folder, pwd.getpwnam(self.user).pw_uid, -1)
        self._run("initdb", "-D", str(self.data), "-U", "drovik", "-A", "trust", "-E", "UTF8", "--no-sync")
        self.start()

    @property
    def url(self) -> str:
        return f"postgresql://drovik@127.0.0.1:{self.port}/postgres"

    def start(self) -> None:
        more = f"-p {self.port} -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c fsync=off"
        self._run("pg_ctl", "-D", str(self.data), "-w", "-l", str(self.data / "log"), "-o", more, "start")

    def stop(self, how: str = "fast") -> None:
        self._run("pg_ctl", "-D", str(self.data), "-w", "-m", how, "stop")

    def _run(self, name: str, *words: str) -> None:
        command = [str(self.programs / name), *words]
        if self.user:
            command = ["setpriv", f"--reuid={self.user}", "--regid=postgres", "--clear-groups", *command]
        done = subprocess.run(command, cwd="/", capture_output=True, text=True)
        assert done.returncode == 0, done.stdout + done.stderr
