"""Devices without a network: a request file carried to the server, a signed answer carried back, good for 30 days at
most.

The answer is signed by Ed25519 (RFC 8032) over its canonical JSON: keys sorted, no spaces.
"""

from __future__ import annotations

import base64
import json
from datetime import timedelta
from typing import Any

import sqlalchemy as sa
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts import settings as settings_service
from fair_ladle.app.devices import store, usecases
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Again, Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found

MOST_DAYS = 30
KIND = "fair-ladle device request 1"


def public_key(tx: Transaction) -> str:
    """What answers are checked with, in base64; made when it is first asked for."""
    return base64.b64encode(_signer(tx).public_key().public_bytes_raw()).decode()


def _signer(tx: Transaction) -> Ed25519PrivateKey:
    private = store.signing_key(tx.connection)
    if private is None:
        made = Ed25519PrivateKey.generate()
        try:
            store.keep_signing_key(tx.connection, made.private_bytes_raw(), tx.now)
        except sa.exc.IntegrityError:
            raise Again from None
        return made
    return Ed25519PrivateKey.from_private_bytes(private)


def canonical(answer: dict[str, Any]) -> bytes:
    """What is signed."""
    return json.dumps(answer, sort_keys=True, separators=(",", ":")).encode()


def answer(tx: Transaction, actor: Actor, request: dict[str, Any], days: int | None) -> dict[str, Any]:
    """The signed answer to a request file: the machine has its unit, and works offline for so many days (None = as its
    account has set)."""
    if days is not None and not 1 <= days <= MOST_DAYS:
        raise invalid(f"Between 1 and {MOST_DAYS} days.", "days")
    texts = {name: request.get(name) for name in ("kind", "key_hash", "machine", "nonce")}
    if texts["kind"] != KIND or not all(isinstance(each, str) and 0 < len(each) <= 200 for each in texts.values()):
        raise invalid("This is no request file of a device; have the device write a new one.", "request")
    key, _ = usecases.valid_key(tx, None, "device", str(texts["key_hash"]))
    accounts = accounts_service.known(tx)
    if not accounts_service.sees(accounts, actor, key.row.account_id):
        raise not_found("key", "of this request")
    most = settings_service.value(tx, accounts, accounts.row_of_id[key.row.account_id], "offline_lease")
    if days is not None and days > most:
        raise invalid(f"Devices of {key.account_name} may work offline for {most} days at most.", "days")
    until = tx.now + timedelta(days=days or most)
    usecases.activate(tx, None, str(texts["machine"]), str(request.get("name") or ""), str(texts["key_hash"]), until)
    content = {
        "kind": "fair-ladle device answer 1",
        "machine": texts["machine"],
        "nonce": texts["nonce"],
        "product": key.product.code,
        "account": key.account_name,
        "from": tx.now.isoformat(),
        "until": until.isoformat(),
    }
    return {"answer": content, "signature": base64.b64encode(_signer(tx).sign(canonical(content))).decode()}
