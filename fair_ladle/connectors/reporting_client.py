"""A small reporting client: what a vendor's own would do on a machine, in the plainest way, over the public API.

It keeps what it knows in a folder: its token, or a signed answer that lets it work without a network.
"""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import urllib.error
import urllib.request
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

SECONDS = 15


class NotDone(Exception):
    """What was asked for did not come about, with the reason in words."""


def ask(
    server: str, path: str, body: dict[str, Any] | None = None, token: str | None = None, method: str = "POST"
) -> dict[str, Any]:
    """One request to the public API; NotDone with what the server said where it refused."""
    headers = {"Content-Type": "application/json", "Content-Length": "0"} | (
        {"Authorization": f"Bearer {token}"} if token else {}
    )
    data = b"" if body is None else json.dumps(body).encode()
    headers["Content-Length"] = str(len(data))
    request = urllib.request.Request(
        f"{server.rstrip('/')}/api/public{path}",
        data=data if method == "POST" else None,
        headers=headers,
        method=method,
    )
    try:
        with urllib.request.urlopen(request, timeout=SECONDS) as answer:
            content = answer.read()
            return dict(json.loads(content)) if content else {}
    except urllib.error.HTTPError as refused:
        try:
            detail = json.loads(refused.read())["detail"]
        except (ValueError, KeyError, TypeError):
            detail = f"the server answered {refused.code}"
        raise NotDone(detail) from None
    except OSError as trouble:
        raise NotDone(f"{server} does not answer: {trouble}") from None


class DeviceClient:
    """One machine's client."""

    def __init__(self, folder: Path):
        self.file = folder / "device.json"
        self.state: dict[str, Any] = json.loads(self.file.read_text()) if self.file.exists() else {}

    def _keep(self, **values: Any) -> None:
        self.state = {name: value for name, value in {**self.state, **values}.items() if value is not None}
        self.file.parent.mkdir(parents=True, exist_ok=True)
        self.file.touch(mode=0o600)
        self.file.write_text(json.dumps(self.state, indent=1))

    def activate(self, server: str, key: str, machine: str, name: str = "") -> str:
        """Begin with a key; the product."""
        found = ask(server, "/devices/activate", {"key": key, "machine": machine, "name": name})
        self._keep(
            server=server,
            machine=machine,
            token=found["token"],
            product=found["product"],
            account=found["account"],
            public_key=found["public_key"],
        )
        return str(found["product"])

    def report(self) -> dict[str, Any]:
        """Say that it is there. NotDone where the device was revoked: then it stops."""
        return ask(self._of("server"), "/devices/report", token=self._of("token"))

    def give_back(self) -> None:
        """Give the unit back and forget everything."""
        ask(self._of("server"), "/devices/give-back", token=self._of("token"))
        self.file.unlink(missing_ok=True)

    def _of(self, name: str) -> str:
        if name not in self.state:
            raise NotDone("This machine is not activated; begin with a key.")
        return str(self.state[name])

    def request_file(self, key: str, machine: str, name: str = "") -> dict[str, Any]:
        """What is carried to the server where there is no network; the key itself does not stand in it."""
        nonce = secrets.token_urlsafe(16)
        self._keep(machine=machine, nonce=nonce)
        return {
            "kind": "fair-ladle device request 1",
            "machine": machine,
            "name": name,
            "nonce": nonce,
            "key_hash": hashlib.sha256(key.strip().upper().encode()).hexdigest(),
        }

    def take_answer(self, signed: dict[str, Any], public_key: str) -> datetime:
        """Take what was carried back; until when the machine works. NotDone where it is for another one or not
        signed by this server."""
        answer = signed.get("answer")
        if not isinstance(answer, dict) or not isinstance(signed.get("signature"), str):
            raise NotDone("This is no answer file.")
        content = json.dumps(answer, sort_keys=True, separators=(",", ":")).encode()
        try:
            Ed25519PublicKey.from_public_bytes(base64.b64decode(public_key, validate=True)).verify(
                base64.b64decode(signed["signature"], validate=True), content
            )
        except (InvalidSignature, ValueError):
            raise NotDone("This answer is not signed by the server whose key was given.") from None
        if answer.get("machine") != self.state.get("machine") or answer.get("nonce") != self.state.get("nonce"):
            raise NotDone(
                f"This answer is for another request: of {answer.get('machine')}, here is "
                f"{self.state.get('machine', 'a machine that asked for nothing')}."
            )
        until = datetime.fromisoformat(answer["until"])
        self._keep(
            nonce=None,
            until=answer["until"],
            product=answer["product"],
            account=answer["account"],
            public_key=public_key,
        )
        return until

    def works(self, now: datetime | None = None) -> str:
        """What the machine may do, in words."""
        until = self.state.get("until")
        if until is not None:
            end = datetime.fromisoformat(until)
            return (
                f"works without a network until {end:%-d %b %Y %H:%M %Z}"
                if (now or datetime.now(UTC)) < end
                else "its time without a network is over; ask again"
            )
        return "reports to the server" if "token" in self.state else "not activated"
