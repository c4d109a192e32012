"""A MariaDB of our own: its data, socket and log in FAIR_LADLE_HOME, no port, reached by this user only."""

from __future__ import annotations

import fcntl
import getpass
import hashlib
import os
import shutil
import signal
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path

import MySQLdb

from fair_ladle.app.plumbing import keeper
from fair_ladle.app.plumbing.processes import is_over, memory_bytes
from fair_ladle.app.plumbing.settings import PROJECT
from fair_ladle.app.plumbing.slots import private_folder

DATABASE = "fair_ladle"
LONGEST_SOCKET_PATH = 100
START_SECONDS = 60
LINGER_SECONDS = 15.0
_held: dict[Path, int] = {}
"""The files by which this process says that it uses a home."""


class ServerTrouble(RuntimeError):
    """The database server cannot be started or reached; the message says what to do."""


def _program(name: str) -> str:
    found = shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin")
    if not found:
        raise ServerTrouble(f"{name} is missing; run ./start, or install Debian's package mariadb-server-core")
    return found


def _pool_megabytes() -> int:
    """What the database may keep in memory: a quarter of what there is. What it does not keep it reads from the disk
    each time, past the system's own cache."""
    return min(max(memory_bytes() // 2**20 // 4, LEAST_POOL), MOST_POOL)


LEAST_POOL, MOST_POOL = 256, 16_384


@dataclass(frozen=True)
class OwnServer:
    """The server that belongs to one home."""

    home: Path

    @property
    def folder(self) -> Path:
        """Everything of the server."""
        return self.home / "mariadb"

    @property
    def socket(self) -> Path:
        """In the home, or, where that path is too long for a socket, in a private folder for sockets."""
        path = self.folder / "socket"
        if len(str(path)) <= LONGEST_SOCKET_PATH:
            return path
        name = hashlib.sha256(str(self.folder).encode()).hexdigest()[:16]
        try:
            return private_folder() / name
        except OSError as trouble:
            raise ServerTrouble(str(trouble)) from None

    def temporary(self) -> Path:
        """A folder for its temporary tables alone: a server that starts clears away what it finds in its folder,
        also what belongs to another one."""
        found = self.folder / "temporary"
        found.mkdir(parents=True, exist_ok=True, mode=0o700)
        return found

    @property
    def log(self) -> Path:
        """What the server reports."""
        return self.folder / "server.log"

    def url(self) -> str:
        """The SQLAlchemy address."""
        return f"mysql+mysqldb://{getpass.getuser()}@/{DATABASE}?unix_socket={self.socket}&charset=utf8mb4"

    def connect(self) -> MySQLdb.Connection:
        """A bare connection to the server, without a database."""
        return MySQLdb.connect(user=getpass.getuser(), unix_socket=str(self.socket), connect_timeout=5)

    def answers(self) -> bool:
        """Whether the server is up."""
        if not self.socket.exists():
            return False
        try:
            self.connect().close()
        except MySQLdb.OperationalError:
            return False
        return True

    def ensure(self, linger: float = LINGER_SECONDS) -> bool:
        """Start the server if it is not up, making its data first where there is none; True if it was started.

        It runs as long as any process that asked for it lives, and ``linger`` seconds more: commands follow one
        another.
        """
        self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        if self.folder not in _held:
            _held[self.folder] = keeper.hold(self.folder)
        if self.answers():
            return False
        with (self.folder / "start.lock").open("a") as starting:
            fcntl.flock(starting, fcntl.LOCK_EX)
            if self.answers():
                return False
            data = self.folder / "data"
            if not (data / "mysql").exists():
                self._install(data)
            self._launch(data, linger)
            self._run(f"CREATE DATABASE IF NOT EXISTS {DATABASE} CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
        return True

    def _install(self, data: Path) -> None:
        half_done = data.with_name("data.new")
        shutil.rmtree(half_done, ignore_errors=True)
        made = subprocess.run(
            [
                _program("mariadb-install-db"),
                "--no-defaults",
                f"--datadir={half_done}",
                f"--tmpdir={self.temporary()}",
                "--skip-test-db",
                "--auth-root-authentication-method=socket",
                f"--auth-root-socket-user={getpass.getuser()}",
                *self._user_option(),
            ],
            capture_output=True,
            text=True,
            check=False,
        )
        if made.returncode:
            raise ServerTrouble(f"the database could not be made in {data}:\n{made.stdout[-800:]}{made.stderr[-800:]}")
        half_done.rename(data)

    @staticmethod
    def _user_option() -> list[str]:
        return ["--user=root"] if os.getuid() == 0 else []

    def _launch(self, data: Path, linger: float) -> None:
        self.socket.unlink(missing_ok=True)
        command = [
            _program("mariadbd"),
            "--no-defaults",
            f"--datadir={data}",
            f"--tmpdir={self.temporary()}",
            f"--socket={self.socket}",
            f"--pid-file={self.folder / 'pid'}",
            "--skip-networking",
            "--skip-log-bin",
            "--transaction-isolation=READ-COMMITTED",
            "--character-set-server=utf8mb4",
            f"--innodb-buffer-pool-size={_pool_megabytes()}M",
            "--innodb-log-file-size=512M",
            "--max-connections=300",
            "--performance-schema=OFF",
            "--local-infile=OFF",
            "--max-allowed-packet=64M",
            "--innodb-print-all-deadlocks=OFF",
            "--sql-mode=TRADITIONAL",
            *self._user_option(),
        ]
        environment = {**os.environ, "PYTHONPATH": str(PROJECT)}
        process = subprocess.Popen(
            [sys.executable, "-m", "fair_ladle.app.plumbing.keeper", str(self.folder), str(linger), *command],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=self.log.open("ab"),
            start_new_session=True,
            env=environment,
        )
        until = time.monotonic() + START_SECONDS
        while time.monotonic() < until:
            if self.answers():
                return
            if process.poll() is not None:
                break
            time.sleep(0.05)
        raise ServerTrouble(f"the database server did not start; the end of {self.log} says why:\n{self._end_of_log()}")

    def _end_of_log(self) -> str:
        lines = self.log.read_text(errors="replace").splitlines() if self.log.exists() else []
        return "\n".join(lines[-12:])

    def _run(self, statement: str) -> None:
        connection = self.connect()
        try:
            connection.cursor().execute(statement)
            connection.commit()
        finally:
            connection.close()

    def stop(self) -> bool:
        """Shut the server down and wait for it; False where none was running."""
        pid_file = self.folder / "pid"
        if not self.answers() or not pid_file.exists():
            return False
        pid = int(pid_file.read_text())
        os.kill(pid, signal.SIGTERM)
        until = time.monotonic() + START_SECONDS
        while time.monotonic() < until:
            if is_over(pid):
                return True
            time.sleep(0.05)
        raise ServerTrouble(f"the database server (process {pid}) did not stop within {START_SECONDS} s")

    def release(self) -> None:
        """This process does not use the home any more."""
        handle = _held.pop(self.folder, None)
        if handle is not None:
            os.close(handle)
