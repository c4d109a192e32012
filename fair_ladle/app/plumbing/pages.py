"""The built front end's files."""

from __future__ import annotations

from pathlib import Path

from fastapi import Response
from fastapi.responses import FileResponse

from fair_ladle.app.plumbing.http import problem_response
from fair_ladle.app.plumbing.problems import Problem


def page(web: Path, path: str) -> Response:
    """A file of the front end, or its page for any address that is one of its views."""
    if path.startswith("api/"):
        return problem_response(Problem("not-found", "No such address", 404, f"There is nothing at /{path}."))
    if "\0" not in path:
        file = (web / path).resolve()
        if path and file.is_file() and file.is_relative_to(web):
            lasting = "public, max-age=31536000, immutable" if "/assets/" in str(file) else "no-cache"
            return FileResponse(file, headers={"Cache-Control": lasting})
    index = web / "index.html"
    # A username or a code may have a dot in it; only what would be a file of the front end is missed as one.
    if not index.exists() or (Path(path).suffix and (path.startswith("assets/") or "/" not in path)):
        return problem_response(Problem("not-found", "No such page", 404, "There is nothing at this address."))
    return FileResponse(index, headers={"Cache-Control": "no-cache"})
