"""Applications served alike: the product's and the yardstick's, each in processes of its own behind one address."""

from __future__ import annotations

import http.client
import json
import multiprocessing
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple

import uvicorn
from fastapi import FastAPI

from fair_ladle.app.plumbing.processes import (
    look_for_garbage_seldom,
    share_memory_among_threads,
    take_short_turns,
)


def _serve(make: Callable[[], FastAPI], listening: socket.socket) -> None:
    """As a worker of the product does."""
    share_memory_among_threads()
    look_for_garbage_seldom()
    take_short_turns()
    uvicorn.Server(uvicorn.Config(make(), log_level="warning", access_log=False, timeout_keep_alive=60)).run(
        sockets=[listening]
    )


@contextmanager
def served(make: Callable[[], FastAPI], workers: int = 1) -> Iterator[int]:
    """An application, made in each of its processes; the port it answers at."""
    with socket.create_server(("127.0.0.1", 0), backlog=100) as listening:
        port = int(listening.getsockname()[1])
        fork = multiprocessing.get_context("fork").Process
        serving = [fork(target=_serve, args=(make, listening), daemon=True) for _ in range(workers)]
        for each in serving:
            each.start()
        try:
            Caller(port).ask("GET", "/nowhere")  # whoever connects waits until one is there
            time.sleep(2)  # and the others are
            yield port
        finally:
            for each in serving:
                each.terminate()
            for each in serving:
                each.join()


class Answer(NamedTuple):
    """An answer, read: its status, the request's id, and what it says."""

    status: int
    request_id: str
    said: bytes


class Caller:
    """Who asks, over one connection that stays open."""

    def __init__(self, port: int, headers: dict[str, str] | None = None):
        self.connection = http.client.HTTPConnection("127.0.0.1", port, timeout=600)
        self.headers = {"Content-Type": "application/json", **(headers or {})}

    def ask(self, method: str, path: str, body: Any = None, zipped: bool = False) -> Answer:
        """What is answered; a session that begins with it goes on."""
        headers = self.headers | ({"Accept-Encoding": "gzip"} if zipped else {})
        self.connection.request(method, path, None if body is None else json.dumps(body), headers)
        answer = self.connection.getresponse()
        found = Answer(answer.status, answer.getheader("X-Request-Id") or "", answer.read())
        cookie = answer.getheader("Set-Cookie")
        if cookie:
            self.headers["Cookie"] = cookie.split(";")[0]
        return found

    def post(self, path: str, body: Any) -> bytes:
        """Ask for something that has to be done; what is said to it."""
        answer = self.ask("POST", path, body)
        assert answer.status < 300, answer
        return answer.said

    def sign_in(self, email: str, password: str) -> None:
        """Ask as somebody from now on."""
        self.post("/api/sign-in", {"email": email, "password": password})
        self.headers["X-CSRF-Token"] = json.loads(self.ask("GET", "/api/me").said)["csrf_token"]
