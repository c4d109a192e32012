"""Object stores over HTTP, by their XML listing: how much lies below each first part of a key in a bucket.

Listings come in pages, bounded in size and time each; a store that is asked stays what its admin named: it is looked up
once a page, it does not send elsewhere, and its certificate is held against its name.
"""

from __future__ import annotations

import io
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any
from xml.etree.ElementTree import ParseError

import urllib3
from minio import Minio, S3Error
from minio.error import MinioException

from fair_ladle.connectors.outbound import Network, look_up
from fair_ladle.connectors.storage import Found, GoingOn, NotReached, Trouble

TIMEOUT_SECONDS, PAGE_SECONDS = 20, 120
MOST_PAGE_BYTES = 8 * 2**20
"""A page has a thousand keys of at most a thousand bytes."""
MOST_BYTES = 2**60
RETRIES = urllib3.Retry(
    total=2,
    redirect=0,
    backoff_factor=0.5,
    status_forcelist=(500, 502, 503, 504),
    raise_on_redirect=False,
    raise_on_status=False,
)


@dataclass(frozen=True)
class ObjectStore:
    """A bucket of a store, and the key it is read with; ``prefix`` is where the folders begin that are subjects."""

    host: str
    port: int
    security: str
    region: str
    bucket: str
    prefix: str
    access_key: str
    secret_key: str
    listed: Sequence[Network]
    can_list = True
    can_limit = False

    def usage(self, subjects: Sequence[str], going_on: GoingOn) -> Iterator[Found | Trouble]:
        """What lies below each first part of a key, in the order of their names; what lies in none is ``.``."""
        start = f"{self.prefix.strip('/')}/" if self.prefix.strip("/") else ""
        loose, last, sizes = 0, "", _Sum("")
        try:
            client = Minio(
                f"{self.host}:{self.port}",
                access_key=self.access_key,
                secret_key=self.secret_key,
                secure=self.security == "tls",
                region=self.region,
                http_client=_Bounded(self.listed),
            )
            for each in client.list_objects(self.bucket, prefix=start, recursive=True):
                if not going_on():
                    return
                key = each.object_name or ""
                if key <= last or not key.startswith(start):
                    raise NotReached(f"{self.host} lists {self.bucket} out of order; what it says cannot be relied on.")
                last = key
                subject, inside, _ = key[len(start) :].partition("/")
                if not subject or not inside:
                    loose += max(0, each.size or 0)
                    continue
                if subject != sizes.subject:
                    yield from sizes.told()
                    sizes = _Sum(subject)
                sizes.add(each.size)
        except S3Error as refused:
            raise NotReached(f"{self.host} refuses: {refused.message or refused.code}") from None
        except (MinioException, ParseError, ValueError) as trouble:
            raise NotReached(f"{self.host} answers with something else than a listing: {trouble}"[:300]) from None
        except urllib3.exceptions.HTTPError as trouble:
            raise NotReached(f"{self.host} cannot be reached: {trouble}"[:300]) from None
        except OSError as trouble:
            raise NotReached(f"{self.host} cannot be reached: {trouble}") from None
        yield from sizes.told()
        if loose:
            yield Found(".", loose)

    def set_limits(self, wanted: Sequence[tuple[str, int | None]], going_on: GoingOn) -> Iterator[Trouble]:
        """No store of this kind knows limits."""
        return iter(())


class _Sum:
    """What is added up of one subject."""

    def __init__(self, subject: str):
        self.subject, self.bytes, self.is_absurd = subject, 0, False

    def add(self, size: int | None) -> None:
        """An object more."""
        self.is_absurd |= size is None or not 0 <= size <= MOST_BYTES
        self.bytes += size or 0

    def told(self) -> Iterator[Found | Trouble]:
        """What there is to say of it; nothing before the first."""
        if not self.subject:
            return
        if self.is_absurd or self.bytes > MOST_BYTES:
            yield Trouble(self.subject, "the store tells sizes that cannot be")
        else:
            yield Found(self.subject, self.bytes)


class _Bounded(urllib3.PoolManager):
    """Connections to where a name may lead, with answers that end."""

    def __init__(self, listed: Sequence[Network]):
        super().__init__(timeout=urllib3.Timeout(TIMEOUT_SECONDS), retries=RETRIES)
        self._listed = listed

    def connection_from_host(
        self,
        host: str | None,
        port: int | None = None,
        scheme: str | None = "http",
        pool_kwargs: dict[str, Any] | None = None,
    ) -> urllib3.HTTPConnectionPool:
        """A connection to the address a name has now, its certificate held against the name."""
        name = host or ""
        address = str(look_up(name, port or (443 if scheme == "https" else 80), self._listed))
        named = {"server_hostname": name, "assert_hostname": name} if scheme == "https" else {}
        return super().connection_from_host(address, port, scheme, {**(pool_kwargs or {}), **named})

    def urlopen(self, method: str, url: str, redirect: bool = True, **options: Any) -> urllib3.BaseHTTPResponse:  # type: ignore[override]
        """An answer of at most so many bytes and seconds, which leads nowhere else."""
        until, parts, size = time.monotonic() + PAGE_SECONDS, [], 0
        response = super().urlopen(method, url, redirect=False, **{**options, "preload_content": False})
        try:
            for part in response.stream(2**16, decode_content=True):
                size += len(part)
                if size > MOST_PAGE_BYTES or time.monotonic() > until:
                    raise NotReached("A page of its listing does not end; nothing more of it is read.")
                parts.append(part)
        except BaseException:
            response.close()
            raise
        response.release_conn()
        headers = {name: value for name, value in response.headers.items() if name.lower() != "content-encoding"}
        return urllib3.HTTPResponse(io.BytesIO(b"".join(parts)), headers, response.status)
