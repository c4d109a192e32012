"""Mailboxes over IMAP with QUOTA (RFC 2087): usage and limits read, limits set, by a master user who signs in as each
of them. What RFC 9208 adds is not needed: STORAGE is asked of every server; a mailbox without it adds up its folders.
"""

from __future__ import annotations

import imaplib
import re
import ssl
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass

from fair_ladle.connectors.outbound import Network, look_up
from fair_ladle.connectors.storage import Found, GoingOn, NotReached, Trouble

KIB = 1024
TIMEOUT_SECONDS = 20
QUOTA = re.compile(rb'^\s*(?P<root>"(?:[^"\\]|\\.)*"|[^\s()]+)\s*\((?P<resources>[^)]*)\)')
MOST_LOST = 3
"""So many in a row that end the connection are the server, not the mailbox."""


@dataclass(frozen=True)
class ImapStore:
    """A server, and who reads it: ``master`` signs in as ``user*master``. ``security`` is tls, starttls or none."""

    host: str
    port: int
    master: str
    password: str
    security: str
    listed: Sequence[Network]
    can_list = False
    can_limit = True

    def usage(self, subjects: Sequence[str], going_on: GoingOn) -> Iterator[Found | Trouble]:
        """Each mailbox's STORAGE."""
        lost = 0
        for user in subjects:
            if not going_on():
                return
            try:
                used, limit = self._storage(user)
                yield Found(user, used * KIB, limit=None if limit is None else limit * KIB)
                lost = 0
            except imaplib.IMAP4.abort as trouble:
                lost += 1
                if lost >= MOST_LOST:
                    raise NotReached(f"{self.host} stopped answering: {trouble}") from None
                yield Trouble(user, f"the server ended the connection: {trouble}")
            except (imaplib.IMAP4.error, ValueError) as refused:
                lost = 0
                yield Trouble(user, _said(refused))
            except OSError as trouble:
                lost += 1
                if lost >= MOST_LOST or isinstance(trouble, ConnectionRefusedError):
                    raise NotReached(f"{self.host} cannot be reached: {trouble}") from None
                yield Trouble(user, f"not reached: {trouble}")

    def _storage(self, user: str) -> tuple[int, int | None]:
        """KiB used and allowed of a mailbox, by the first of its quota roots that has a STORAGE."""
        connection = self._sign_in(user)
        try:
            kind, answers = connection.getquotaroot("INBOX")
            if kind != "OK" or not _names(answers[0]):
                raise imaplib.IMAP4.error("the mailbox has no quota root; switch quotas on there")
            for line in answers[1] if len(answers) > 1 else []:
                match = QUOTA.match(line or b"")
                words = match["resources"].split() if match else []
                for name, used, limit in zip(words[::3], words[1::3], words[2::3], strict=False):
                    if name.upper() == b"STORAGE":
                        return int(used), int(limit)
            # A mailbox without a limit answers a root without resources: what it stores is added up.
            return _stored_kib(connection), None
        finally:
            _leave(connection)

    def set_limits(self, wanted: Sequence[tuple[str, int | None]], going_on: GoingOn) -> Iterator[Trouble]:
        """SETQUOTA on the first root of each mailbox; a new limit holds from that user's next session."""
        for user, limit in wanted:
            if not going_on():
                return
            try:
                connection = self._sign_in(user)
                try:
                    kind, answers = connection.getquotaroot("INBOX")
                    roots = _names(answers[0]) if kind == "OK" else []
                    if not roots:
                        raise imaplib.IMAP4.error("the mailbox has no quota root; switch quotas on there")
                    asked = "()" if limit is None else f"(STORAGE {-(-limit // KIB)})"
                    kind, said = connection.setquota(f'"{roots[0]}"', asked)
                    if kind != "OK":
                        raise imaplib.IMAP4.error(str(said))
                finally:
                    _leave(connection)
            except (imaplib.IMAP4.error, ValueError) as refused:
                yield Trouble(user, _said(refused))
            except OSError as trouble:
                raise NotReached(f"{self.host} cannot be reached: {trouble}") from None

    def _sign_in(self, user: str) -> imaplib.IMAP4:
        if not user.isascii() or not user or re.search(r'[\s"*\\(){}\x00-\x1f\x7f]', user):
            raise imaplib.IMAP4.error("a mailbox is never called so")
        if not self.password.isascii():
            raise NotReached(f"The password of {self.master} has letters that IMAP does not take.")
        address = str(look_up(self.host, self.port, self.listed))
        context = ssl.create_default_context()
        # The name is looked up once; the certificate is held against the name.
        if self.security == "tls":
            connection: imaplib.IMAP4 = _Named(self.host, address, self.port, context)
        else:
            connection = imaplib.IMAP4(address, self.port, timeout=TIMEOUT_SECONDS)
        try:
            if self.security == "starttls":
                connection.host = self.host
                connection.starttls(context)
            connection.login(f"{user}*{self.master}", self.password)
            if "QUOTA" not in connection.capabilities:  # it is told only after signing in
                _, answers = connection.capability()
                if b"QUOTA" not in (answers[0] or b"").upper().split():
                    raise imaplib.IMAP4.error("the server has no QUOTA; it cannot say what is stored")
        except BaseException:
            _leave(connection)
            raise
        return connection


class _Named(imaplib.IMAP4_SSL):
    """A connection to an address whose certificate is held against a name."""

    def __init__(self, name: str, address: str, port: int, context: ssl.SSLContext):
        self._name = name
        super().__init__(address, port, ssl_context=context, timeout=TIMEOUT_SECONDS)

    def _create_socket(self, timeout: float | None) -> ssl.SSLSocket:
        plain = imaplib.IMAP4._create_socket(self, timeout)  # type: ignore[attr-defined]
        return self.ssl_context.wrap_socket(plain, server_hostname=self._name)  # type: ignore[no-any-return]


def _names(answers: Sequence[bytes | None]) -> list[str]:
    """The quota roots a QUOTAROOT answer names after the mailbox."""
    for line in answers:
        words = re.findall(rb'"(?:[^"\\]|\\.)*"|[^\s]+', line or b"")
        if len(words) > 1:
            return [_plain(each) for each in words[1:]]
    return []


def _plain(word: bytes) -> str:
    text = word.decode("utf-8", "replace")
    return text[1:-1].replace('\\"', '"').replace("\\\\", "\\") if text.startswith('"') else text


def _stored_kib(connection: imaplib.IMAP4) -> int:
    """What a mailbox without a limit stores, by STATUS SIZE (RFC 8438) of every folder."""
    total = 0
    kind, folders = connection.list()
    for line in folders if kind == "OK" else []:
        words = re.findall(rb'"(?:[^"\\]|\\.)*"|[^\s]+', line if isinstance(line, bytes) else b"")
        if not words or b"\\noselect" in (line if isinstance(line, bytes) else b"").lower():
            continue
        kind, answers = connection.status(words[-1].decode("ascii", "replace"), "(SIZE)")
        size = re.search(rb"SIZE (\d+)", (answers[0] or b"") if kind == "OK" else b"")
        total += int(size[1]) if size else 0
    return -(-total // KIB)


def _said(error: Exception) -> str:
    if isinstance(error, ValueError):
        return "what the server says of it cannot be read"
    text = str(error)
    return text[2:-1] if text.startswith(("b'", 'b"')) else text


def _leave(connection: imaplib.IMAP4) -> None:
    with suppress(imaplib.IMAP4.error, OSError):
        connection.logout()
