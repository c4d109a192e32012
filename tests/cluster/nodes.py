"""Three nodes of MariaDB's cluster (Galera), each with a socket of its own; on 127.0.0.1 they speak to each other alone.

A node that comes back takes what it lacks from the others' caches: all begin as copies of one.
"""

from __future__ import annotations

import getpass
import os
import re
import shutil
import signal
import socket
import subprocess
import time
from dataclasses import dataclass
from pathlib import Path

import MySQLdb

from fair_ladle.app.plumbing.own_server import DATABASE, OwnServer

PROVIDER = Path("/usr/lib/galera/libgalera_smm.so")
ONLY_SAYS_WHERE_IT_STANDS = """#!/bin/sh
# Between two nodes of one machine: nothing is copied, what is lacking comes from a cache.
while [ $# -gt 0 ]; do
    case "$1" in
        --role) role=$2 ;;
        --address) address=$2 ;;
        --gtid) gtid=$2 ;;
        --bypass) bypass=yes ;;
    esac
    shift
done
told="$(dirname "$0")/$(echo "$address" | tr -c '0-9\\n' _)"
if [ "$role" = joiner ]; then
    rm -f "$told"
    echo "ready $address"
    for _ in $(seq 600); do [ -s "$told" ] && break; sleep 0.1; done
    cat "$told"
else
    [ "${bypass:-}" ] || exit 1
    echo "$gtid" > "$told.new"
    mv "$told.new" "$told"
    echo continue
    echo "done $gtid"
fi
"""


def free_ports(count: int) -> list[int]:
    """Ports nobody uses."""
    probes = [socket.socket() for _ in range(count)]
    for probe in probes:
        probe.bind(("127.0.0.1", 0))
    found = [int(probe.getsockname()[1]) for probe in probes]
    for probe in probes:
        probe.close()
    return found


@dataclass
class Node:
    """One of the cluster."""

    folder: Path
    ports: tuple[int, int, int]
    """For the group, for what it lacks, and for the whole (never used)."""
    process: subprocess.Popen[bytes] | None = None

    @property
    def socket(self) -> Path:
        """Where it is reached."""
        return self.folder / "socket"

    def url(self) -> str:
        """The SQLAlchemy address."""
        return f"mysql+mysqldb://{getpass.getuser()}@/{DATABASE}?unix_socket={self.socket}&charset=utf8mb4"

    def command(self, group: str, *others: str) -> list[str]:
        """What runs it."""
        listens, lacks, whole = self.ports
        program = shutil.which("mariadbd", path=f"{os.environ['PATH']}:/usr/sbin")
        assert program
        provider = f"gmcast.listen_addr=tcp://127.0.0.1:{listens};ist.recv_addr=127.0.0.1:{lacks}"
        return [
            program,
            "--no-defaults",
            f"--user={getpass.getuser()}",
            f"--datadir={self.folder}/data",
            f"--socket={self.socket}",
            f"--log-error={self.folder}/log.err",
            "--skip-networking",
            "--binlog-format=ROW",
            "--innodb-autoinc-lock-mode=2",
            "--innodb-flush-log-at-trx-commit=0",
            "--max-connections=300",
            "--wsrep-on=ON",
            f"--wsrep-provider={PROVIDER}",
            f"--wsrep-provider-options={provider}",
            f"--wsrep-cluster-address=gcomm://{group}",
            f"--wsrep-node-address=127.0.0.1:{listens}",
            f"--wsrep-sst-receive-address=127.0.0.1:{whole}",
            "--wsrep-sst-method=told",
            *others,
        ]

    def start(self, group: str, *others: str) -> None:
        """Start it, and wait until it is one of the group."""
        paths = f"{self.folder.parent}:{os.environ['PATH']}"
        self.process = subprocess.Popen(
            self.command(group, *others),
            env=os.environ | {"PATH": paths},
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        for _ in range(600):
            if self.state() == "Synced":
                return
            time.sleep(0.1)
        raise AssertionError((self.folder / "log.err").read_text()[-3000:])

    def state(self) -> str:
        """What it says of itself; empty where it does not answer."""
        try:
            connection = MySQLdb.connect(user=getpass.getuser(), unix_socket=str(self.socket), connect_timeout=2)
            cursor = connection.cursor()
            cursor.execute("SHOW STATUS LIKE 'wsrep_local_state_comment'")
            found = cursor.fetchone()
            connection.close()
            return str(found[1])
        except MySQLdb.Error:
            return ""

    def end(self, how: signal.Signals) -> None:
        """Stop it or kill it."""
        if self.process:
            self.process.send_signal(how)
            self.process.wait(60)
            self.process = None

    def come_back(self, group: str) -> None:
        """Start it after it was killed: first it finds out where it was."""
        log = self.folder / "recovery.err"
        subprocess.run(self.command(group, "--wsrep-recover", f"--log-error={log}"), check=True)
        at = re.findall(r"Recovered position:? (\S+)", log.read_text())
        assert at, log.read_text()[-2000:]
        self.start(group, f"--wsrep-start-position={at[-1]}")


class Cluster:
    """Three nodes in a folder."""

    def __init__(self, folder: Path):
        ports = iter(free_ports(9))
        self.nodes = [Node(folder / f"node{n}", (next(ports), next(ports), next(ports))) for n in range(3)]
        self.group = ",".join(f"127.0.0.1:{node.ports[0]}" for node in self.nodes)
        script = folder / "wsrep_sst_told"
        script.write_text(ONLY_SAYS_WHERE_IT_STANDS)
        script.chmod(0o755)
        first, *others = self.nodes
        own = OwnServer(folder / "plain")
        own.ensure(0.0)
        own.stop()
        first.folder.mkdir()
        shutil.move(own.folder / "data", first.folder / "data")
        first.start(self.group, "--wsrep-new-cluster")
        first.end(signal.SIGTERM)
        for node in others:
            shutil.copytree(first.folder / "data", node.folder / "data", ignore=shutil.ignore_patterns("galera.cache"))
        first.start(self.group, "--wsrep-new-cluster")
        for node in others:
            node.start(self.group)

    def end(self) -> None:
        """Stop all of it."""
        for node in reversed(self.nodes):
            node.end(signal.SIGKILL)
