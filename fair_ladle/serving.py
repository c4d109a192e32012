"""The process that keeps the others: workers that answer, and the one that does the jobs. It answers nothing itself
where there are several, and has nothing in memory of what they need for it."""

from __future__ import annotations

import logging
import os
import shutil
import subprocess
import sys
import threading
from contextlib import suppress
from pathlib import Path

import uvicorn

from fair_ladle.app.plumbing import metrics
from fair_ladle.app.plumbing.installation import open_database, watch_over
from fair_ladle.app.plumbing.processes import share_memory_among_threads
from fair_ladle.app.plumbing.schedule import STOPPED_WITHIN
from fair_ladle.app.plumbing.settings import Settings

LOOK_SECONDS, AGAIN_SECONDS = 0.2, 1.0
MOST_WORKERS, HANGS_SECONDS = 4, 60
ENDS_WITHIN = 20
"""Seconds that requests under way have when the server is told to stop."""
logger = logging.getLogger("fair_ladle")


def _keep_jobs(stopping: threading.Event) -> None:
    """Keep the process of the jobs running until told to stop; begun again when it dies."""
    while not stopping.is_set():
        try:
            process = subprocess.Popen([sys.executable, "-m", "fair_ladle.beside", str(os.getpid())])
        except OSError as trouble:  # the system has no process to give just now
            logger.warning("the jobs' process cannot begin (%s); it is tried again", trouble)
            stopping.wait(AGAIN_SECONDS)
            continue
        while process.poll() is None and not stopping.wait(LOOK_SECONDS):
            pass
        if process.poll() is None:
            process.terminate()
            try:
                process.wait(STOPPED_WITHIN + 5)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        elif not stopping.wait(AGAIN_SECONDS):
            logger.warning("the jobs' process ended (%s) and is begun again", process.returncode)


def serve(port: int, home: Path, demo: bool) -> None:
    """Serve on 127.0.0.1 until told to stop; a demo without a mail server of its own gets the stand-in."""
    share_memory_among_threads()
    settings = Settings.read()
    pid_file = home / f"web.{port}.pid"
    pid_file.write_text(str(os.getpid()))
    stopping = threading.Event()
    if settings.database_url is None:
        threading.Thread(target=watch_over, args=(settings, stopping), name="database watch", daemon=True).start()
    stand_in = None
    if demo:
        from fair_ladle.connectors.mail import StandIn
        from fair_ladle.demo import reporting
        from fair_ladle.demo.mail import FOLDER

        if settings.smtp_url is None:
            stand_in = StandIn(home / FOLDER)
            os.environ["FAIR_LADLE_SMTP"] = stand_in.start()
            os.environ["FAIR_LADLE_OUTBOUND"] = ",".join(["127.0.0.1", *filter(None, [settings.outbound])])
        os.environ["FAIR_LADLE_STORAGE_ROOTS"] = ":".join(
            [*filter(None, [settings.storage_roots]), str(reporting.sizes_folder(home))]
        )
        reporting.begin(open_database(settings, serves=True), home, f"http://127.0.0.1:{port}")
    jobs_kept = threading.Thread(target=_keep_jobs, args=(stopping,), name="jobs' process")
    jobs_kept.start()
    workers = settings.workers or min(MOST_WORKERS, len(os.sched_getaffinity(0)))
    metrics_folder = home / f"metrics.{port}"
    if workers > 1:
        metrics.prepare(metrics_folder)
    try:
        uvicorn.run(
            "fair_ladle.main:worker" if workers > 1 else "fair_ladle.main:alone",
            factory=True,
            workers=workers,
            timeout_worker_healthcheck=HANGS_SECONDS,
            host="127.0.0.1",
            port=port,
            log_level="warning",
            access_log=False,
            server_header=False,
            forwarded_allow_ips=settings.proxy or "",
            proxy_headers=bool(settings.proxy),
            timeout_graceful_shutdown=ENDS_WITHIN,
            limit_concurrency=1000,
        )
    finally:
        stopping.set()
        jobs_kept.join()
        if stand_in is not None:
            stand_in.stop()
        shutil.rmtree(metrics_folder, ignore_errors=True)
        with suppress(FileNotFoundError):
            if pid_file.read_text() == str(os.getpid()):
                pid_file.unlink()
