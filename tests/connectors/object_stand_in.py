"""A small object store of ours on loopback: lists one bucket page by page to who signs as published, and no more."""

from __future__ import annotations

import hashlib
import hmac
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qsl, quote, urlsplit
from xml.sax.saxutils import escape

KEY, SECRET, REGION, BUCKET, PAGE = "steward", "a-secret", "eu-1", "shared", 3
NAMESPACE = "http://s3.amazonaws.com/doc/2006-03-01/"
Answer = Callable[[str], bytes | None]


def _signature(method: str, path: str, query: str, headers: dict[str, str], signed: list[str], secret: str) -> str:
    """Of a request, by the published steps: canonical request, text to sign, key by day, region and service."""
    pairs = sorted(parse_qsl(query, keep_blank_values=True))
    asked = "&".join(f"{quote(name, safe='-_.~')}={quote(value, safe='-_.~')}" for name, value in pairs)
    listed = "".join(f"{name}:{' '.join(headers[name].split())}\n" for name in signed)
    canonical = "\n".join([method, path, asked, listed, ";".join(signed), headers["x-amz-content-sha256"]])
    at = headers["x-amz-date"]
    scope = f"{at[:8]}/{REGION}/s3/aws4_request"
    text = "\n".join(["AWS4-HMAC-SHA256", at, scope, hashlib.sha256(canonical.encode()).hexdigest()])
    key = f"AWS4{secret}".encode()
    for part in (*scope.split("/"), text):
        key = hmac.new(key, part.encode(), hashlib.sha256).digest()
    return key.hex()


@contextmanager
def object_store(objects: dict[str, int], instead: Answer = lambda token: None) -> Iterator[int]:
    """Serve sizes by key; ``instead`` may answer the page that a token asks for otherwise. Its port."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            at = urlsplit(self.path)
            headers = {name.lower(): value for name, value in self.headers.items()}
            parts = dict(each.strip().split("=", 1) for each in headers["authorization"].partition(" ")[2].split(","))
            signed = parts["SignedHeaders"].split(";")
            expected = _signature("GET", at.path, at.query, headers, signed, SECRET)
            if not parts["Credential"].startswith(f"{KEY}/") or parts["Signature"] != expected:
                return self.answer(
                    403, b"<Error><Code>SignatureDoesNotMatch</Code><Message>Not signed</Message></Error>"
                )
            query = dict(parse_qsl(at.query, keep_blank_values=True))
            if at.path.strip("/") != BUCKET:
                return self.answer(404, b"<Error><Code>NoSuchBucket</Code><Message>No such bucket</Message></Error>")
            token, prefix = query.get("continuation-token", ""), query.get("prefix", "")
            other = instead(token)
            if other is not None:
                return self.answer(200, other)
            keys = [key for key in sorted(objects) if key.startswith(prefix) and key > token]
            return self.answer(200, page(keys, objects))

        def answer(self, status: int, content: bytes) -> None:
            self.send_response(status)
            self.send_header("Content-Type", "application/xml")
            self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            self.wfile.write(content)

        def log_message(self, *_: object) -> None:
            """Nothing is told."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server.server_address[1]
    server.shutdown()
    server.server_close()


def page(keys: list[str], objects: dict[str, int]) -> bytes:
    """The first of these keys, as a listing."""
    rows = "".join(
        f"<Contents><Key>{escape(quote(key, safe='/'))}</Key><Size>{objects[key]}</Size>"
        "<LastModified>2026-11-01T00:00:00.000Z</LastModified><ETag>x</ETag></Contents>"
        for key in keys[:PAGE]
    )
    more = len(keys) > PAGE
    then = f"<NextContinuationToken>{escape(keys[PAGE - 1])}</NextContinuationToken>" if more else ""
    return (
        f'<ListBucketResult xmlns="{NAMESPACE}"><Name>{BUCKET}</Name><EncodingType>url</EncodingType>'
        f"<IsTruncated>{str(more).lower()}</IsTruncated>{then}{rows}</ListBucketResult>"
    ).encode()
