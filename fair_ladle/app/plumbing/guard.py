"""In front of the application: what every request has to keep to, and what every answer carries."""

from __future__ import annotations

import logging
import secrets
from collections.abc import Callable
from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fair_ladle.app.plumbing.http import SAFE, problem_response
from fair_ladle.app.plumbing.problems import Problem
from fair_ladle.app.plumbing.watch import Watched, watching

logger = logging.getLogger("fair_ladle")
MOST_BODY, MOST_FILE = 2 * 2**20, 20 * 2**20


def _as_sent(headers: dict[str, str]) -> list[tuple[bytes, bytes]]:
    return [(name.lower().encode(), value.encode()) for name, value in headers.items()]


SECURITY_HEADERS = _as_sent(
    {
        "Content-Security-Policy": "default-src 'self'; style-src 'self'; img-src 'self' data:; "
        "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
        "X-Content-Type-Options": "nosniff",
        "Referrer-Policy": "same-origin",
        "Cross-Origin-Opener-Policy": "same-origin",
        "Permissions-Policy": "camera=(), geolocation=(), microphone=(), payment=(), usb=()",
    }
)
OVER_TLS = _as_sent({"Strict-Transport-Security": "max-age=31536000"})
NOT_KEPT = _as_sent({"Cache-Control": "no-store"})
LETTERS = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789"


class Guard:
    """Refuses bodies that are too large and changes from other sites; adds the security headers; turns what nobody
    expected into an answer with a reference that stands in the log.
    ``uploads`` are the paths that take files from who carries the cookie of a session, ``open_uploads`` those that take
    them from anybody; ``tell`` hears of every request what it cost."""

    def __init__(
        self,
        app: ASGIApp,
        uploads: frozenset[str],
        open_uploads: frozenset[str],
        cookie: str,
        tell: Callable[[str, str, int, Watched], None],
    ):
        self.app, self.uploads, self.open_uploads, self.cookie, self.tell = app, uploads, open_uploads, cookie, tell

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """One request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        with watching() as watched:
            await self._one(scope, receive, send, watched)

    async def _one(self, scope: Scope, receive: Receive, send: Send, watched: Watched) -> None:
        begun, status, request_id = False, 0, secrets.token_hex(8)
        scope.setdefault("state", {})["request_id"] = request_id

        async def answer(message: Message) -> None:
            nonlocal begun, status
            if message["type"] == "http.response.start":
                begun, status = True, message["status"]
                there = {name.lower() for name, _ in message["headers"]}
                extra = [*SECURITY_HEADERS, *(OVER_TLS if scope["scheme"] == "https" else ())]
                if scope["path"].startswith("/api/"):
                    extra += NOT_KEPT
                added = [each for each in extra if each[0] not in there]
                message["headers"] = [*message["headers"], (b"x-request-id", request_id.encode()), *added]
            await send(message)

        problem = self._refused(scope)
        try:
            if problem is not None:
                await problem_response(problem)(scope, receive, answer)
                return
            try:
                await self.app(scope, receive, answer)
            except Exception:
                reference = "".join(secrets.choice(LETTERS) for _ in range(6))
                logger.exception(
                    "%s %s: reference %s, request %s", scope["method"], scope["path"], reference, request_id
                )
                if begun:
                    raise
                said = f"Something went wrong (ref {reference}). Try again, or tell your administrator."
                broken = Problem("unexpected", "Something went wrong", 500, said, {"reference": reference})
                await problem_response(broken)(scope, receive, answer)
        finally:
            route = scope.get("route")
            watched.route = getattr(route, "path", "") if scope["path"].startswith("/api/") else "page"
            self.tell(request_id, scope["method"], status, watched)

    def _refused(self, scope: Scope) -> Problem | None:
        if scope["method"] in SAFE:
            return None
        headers = Headers(scope=scope)
        # A browser says nothing of the length of a DELETE that has no body.
        bare = scope["method"] == "DELETE" and "Transfer-Encoding" not in headers
        length = headers.get("Content-Length", "0" if bare else "")
        signed_in = f"{self.cookie}=" in headers.get("Cookie", "") or "Authorization" in headers
        path = scope["path"]
        most = MOST_FILE if path in self.open_uploads or (path in self.uploads and signed_in) else MOST_BODY
        if not length.isdigit() or int(length) > most:
            said = f"At most {most // 2**20} MB here, and the request says how many bytes it has."
            return Problem("too-large", "Too large", 413, said)
        origin = headers.get("Origin")
        if origin is not None and urlsplit(origin).netloc != headers.get("Host"):
            return Problem("other-origin", "From another site", 403, "This request comes from another site.")
        return None
