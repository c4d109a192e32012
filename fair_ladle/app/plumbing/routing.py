"""Routes that change something: all of it in one transaction, once for a key; and who may call a route at all."""

from __future__ import annotations

import hashlib
import inspect
import json
import secrets
from collections import defaultdict
from collections.abc import Callable, Coroutine, Sequence
from dataclasses import replace
from functools import wraps
from typing import Any, TypeVar, get_type_hints

from fastapi import APIRouter, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.dependencies.models import Dependant
from fastapi.encoders import jsonable_encoder
from fastapi.exceptions import RequestValidationError, ResponseValidationError
from fastapi.responses import JSONResponse
from fastapi.routing import APIRoute
from pydantic import BaseModel, ValidationError
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect
from starlette.routing import BaseRoute, Match
from starlette.types import Receive, Scope, Send

from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import AskedDatabase, Database, Opening
from fair_ladle.app.plumbing.http import LONGEST_BEARER, Bearer, bearer_of, origin_of, who_asks
from fair_ladle.app.plumbing.once import KeyedDatabase, Replayed, RequestKey, happens_once
from fair_ladle.app.plumbing.permissions import OWN, PERMISSIONS
from fair_ladle.app.plumbing.problems import Problem, Refused, invalid, not_allowed

UNSAFE = {"POST", "PUT", "PATCH", "DELETE"}
KEY, LONGEST_KEY = "Idempotency-Key", 128


def _header(name: str, required: bool, schema: dict[str, Any]) -> dict[str, Any]:
    """A header as the document of the API has it: read by whoever needs it, which takes the framework its time."""
    return {"name": name, "in": "header", "required": required, "schema": schema | {"title": name}}


KEY_HEADER = _header(
    KEY, False, {"anyOf": [{"type": "string", "minLength": 1, "maxLength": LONGEST_KEY}, {"type": "null"}]}
)
BEARER_HEADER = _header("Authorization", True, {"type": "string", "maxLength": LONGEST_BEARER})
Endpoint = TypeVar("Endpoint", bound=Callable[..., Any])


def reads_only(endpoint: Endpoint) -> Endpoint:
    """A route that only looks, though it is asked by POST: it needs no key."""
    endpoint.needs_no_key = endpoint.reads_only = True  # type: ignore[attr-defined]
    return endpoint


def keeps_order_itself(endpoint: Endpoint) -> Endpoint:
    """A route whose steps are transactions of their own, such as signing in."""
    endpoint.needs_no_key = True  # type: ignore[attr-defined]
    return endpoint


def answers_a_secret(endpoint: Endpoint) -> Endpoint:
    """A route whose answer is shown once and kept nowhere."""
    endpoint.answers_a_secret = True  # type: ignore[attr-defined]
    return endpoint


def for_people_of_a_group(endpoint: Endpoint) -> Endpoint:
    """A route that is open to whoever is let run the people of a group, and nothing else of an account."""
    endpoint.for_people_of_a_group = True  # type: ignore[attr-defined]
    return endpoint


def needs(permission: str) -> Callable[[Endpoint], Endpoint]:
    """A route that needs another permission than its router says."""

    def said(endpoint: Endpoint) -> Endpoint:
        endpoint.permission = permission  # type: ignore[attr-defined]
        return endpoint

    return said


Judge = Callable[[Actor], None]


def _in_person(who: Actor) -> None:
    """Refused where a program acts with a key: what is somebody's own is theirs alone."""
    if who.key_id is not None:
        raise not_allowed("A key is not for this; sign in.")


SECOND_FACTOR = Problem(
    "second-factor-required",
    "Second factor required",
    403,
    "This account is run with a second factor. Set yours up under your name first.",
)


def _holds(permission: str, for_people: bool) -> Judge:
    """Whoever calls has a role with a permission, and the route is ``for_people`` of a group where that is all they
    run; refused where not, whatever is asked for."""

    def judge(who: Actor) -> None:
        if who.lacks_second_factor:
            raise Refused(SECOND_FACTOR)
        if permission not in who.permissions:
            raise not_allowed(f"Your role here does not let you {PERMISSIONS[permission]}.")
        if who.people_of is not None and not for_people:
            raise not_allowed("Your role here is for the people of a group, and nothing else.")

    return judge


def _fingerprint(request: Request) -> str:
    asked = f"{request.method} {request.url.path}?{request.url.query}\n".encode()
    return hashlib.sha256(asked + request.state.sent).hexdigest()


def _key_of_actor(who: Actor, request: Request, key: str) -> RequestKey:
    """The key of a request that somebody signed in makes, in the branch they run."""
    asked = hashlib.sha256(f"{who.scope}\n{_fingerprint(request)}".encode()).hexdigest()
    return RequestKey(f"s{who.sign_in_id or 0}", key, asked)


def _key_of_origin(request: Request, key: str) -> RequestKey:
    """The key of a request without an actor, by where it comes from; its answer is not kept."""
    return RequestKey(f"o{origin_of(request)}"[:80], key, _fingerprint(request), keeps_answer=False)


class Switchboard(BaseRoute):
    """Where the route of a path is found by the path or, where something in it varies, by how it begins; the framework
    goes through all of them. It stands before them, and leaves to them what nothing answers."""

    def __init__(self, routes: Sequence[BaseRoute]):
        self._by_path: dict[str, list[APIRoute]] = defaultdict(list)
        self._by_beginning: dict[str, list[APIRoute]] = defaultdict(list)
        for route in routes:
            if isinstance(route, APIRoute) and "{" not in _beginning(route.path):
                by = self._by_beginning if "{" in route.path else self._by_path
                by[_beginning(route.path) if "{" in route.path else route.path].append(route)

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        """As Starlette has it."""
        if scope["type"] == "http" and not scope.get("root_path"):
            path = scope["path"]
            for route in (*self._by_path.get(path, ()), *self._by_beginning.get(_beginning(path), ())):
                match, found = route.matches(scope)
                if match == Match.FULL:
                    return match, found
        return Match.NONE, {}

    async def handle(self, scope: Scope, receive: Receive, send: Send) -> None:
        """What was matched handles it."""
        await scope["route"].handle(scope, receive, send)


def _beginning(path: str) -> str:
    """The first two parts of a path."""
    return "/".join(path.split("/", 3)[:3])


class _Route(APIRoute):
    """A route that writes its answer in the thread that finds it, and reads what is sent where that is one model in
    JSON and nothing else, for which the framework has its whole way with dependencies. Most paths that nothing answers
    are told not to be its own by how they begin."""

    def __init__(self, path: str, endpoint: Callable[..., Any], **options: Any):
        super().__init__(path, endpoint, **options)
        self._begins = self.path.split("{")[0]

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        """As Starlette has it."""
        if not scope.get("root_path") and not scope["path"].startswith(self._begins):
            return Match.NONE, {}
        return super().matches(scope)

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        """As FastAPI has it. What happens once has to know all that was sent; and where something is not valid, whoever
        may not call it is told that, and nothing else."""
        endpoint = self.endpoint
        answers = inspect.isfunction(endpoint) and not inspect.iscoroutinefunction(endpoint)
        call = self._answering(endpoint) if answers else endpoint
        self.dependant.call = call
        handle = super().get_route_handler()
        judge: Judge | None = getattr(endpoint, "judge", None)
        happens_once = getattr(endpoint, "happens_once", False)
        name, model = _only_sent(self.dependant) if answers else ("", None)

        async def handle_judged(request: Request) -> Response:
            is_model = model is not None and request.headers.get("Content-Type") == "application/json"
            if happens_once or is_model:
                try:
                    request.state.sent = await request.body()
                except ClientDisconnect:
                    raise HTTPException(400, "There was an error parsing the body") from None
            if is_model and model is not None:
                try:
                    sent = model.model_validate_json(request.state.sent)
                except ValidationError:
                    pass  # the framework says what is wrong
                else:
                    return await run_in_threadpool(call, **{name: sent, "request": request})
            try:
                return await handle(request)
            except RequestValidationError:
                if judge is not None:
                    database: Database = request.app.state.database
                    await run_in_threadpool(_judged, judge, request, database, database.snapshot)
                raise

        return handle_judged

    def _answering(self, endpoint: Callable[..., Any]) -> Callable[..., Response]:
        """An endpoint with its answer in JSON, as the framework would write it in one thread more."""
        field, status = self.response_field, self.status_code or 200

        @wraps(endpoint)
        def answer(**arguments: Any) -> Response:
            found = endpoint(**arguments)
            if isinstance(found, Response):
                return found
            if field is None:
                return Response(status_code=status) if status == 204 else JSONResponse(jsonable_encoder(found), status)
            value, errors = field.validate(found, {}, loc=("response",))
            if errors:
                raise ResponseValidationError(errors=errors, body=found)
            return Response(field.serialize_json(value), status, media_type="application/json")

        return answer


def _only_sent(dependant: Dependant) -> tuple[str, type[BaseModel] | None]:
    """What a route is sent, by its name, where that is one model and nothing else but the request."""
    sent = dependant.body_params
    others = dependant.path_params, dependant.query_params, dependant.header_params, dependant.cookie_params
    if len(sent) == 1 and not any(others) and not dependant.dependencies and sent[0].field_info.is_required():
        model = sent[0].field_info.annotation
        if isinstance(model, type) and issubclass(model, BaseModel) and dependant.request_param_name == "request":
            return sent[0].name, model
    return "", None


def _judged(judge: Judge, request: Request, database: Database, see: Callable[..., Any]) -> Actor:
    """Who asks, and may. ``see`` runs a use-case that only reads."""
    who = who_asks(request, database, see)
    judge(who)
    return who


class Router(APIRouter):
    """Routes that declare what they may refuse, closed to whoever is not signed in unless ``is_open``, and then to
    whose role lacks a permission: ``sees`` for those that look, ``changes`` for the others, or what the route itself
    says. A change is wrapped so that it happens once for its key."""

    def __init__(
        self,
        prefix: str,
        tag: str,
        is_open: bool = False,
        responses: dict[int | str, dict[str, Any]] | None = None,
        sees: str | None = None,
        changes: str | None = None,
    ):
        self.is_open, self.sees, self.changes = is_open, sees, changes
        super().__init__(prefix=prefix, tags=[tag], responses=responses, route_class=_Route)

    def add_api_route(self, path: str, endpoint: Callable[..., Any], **options: Any) -> None:
        """As FastAPI has it, with the permission it needs; a change with its key."""
        is_unsafe = bool(UNSAFE & set(options.get("methods") or ()))
        looks, judge = not is_unsafe or getattr(endpoint, "reads_only", False), None
        extra: dict[str, Any] = {}
        permission = getattr(endpoint, "permission", None) or (self.sees if looks else self.changes)
        for_people = getattr(endpoint, "for_people_of_a_group", False)
        if not self.is_open:
            assert permission == OWN or permission in PERMISSIONS, f"{endpoint.__qualname__} needs no permission"
            extra["x-permission"] = permission
            judge = _in_person if permission == OWN else _holds(permission, for_people)
        if is_unsafe and not getattr(endpoint, "needs_no_key", False):
            endpoint = _keyed(endpoint, judge)
            extra["parameters"] = [KEY_HEADER]
        else:
            endpoint = _asked(endpoint, judge, looks)
        if endpoint.carries_a_bearer:  # type: ignore[attr-defined]
            extra["parameters"] = [BEARER_HEADER, *extra.get("parameters", [])]
        super().add_api_route(path, endpoint, **options | {"openapi_extra": extra or None})


class _Handed:
    """What an endpoint is handed besides what was sent: ``db``, ``who`` and ``request``, and the bearer's key or token,
    as far as it names them."""

    def __init__(self, endpoint: Callable[..., Any]):
        hints, keyword = get_type_hints(endpoint, include_extras=True), inspect.Parameter.KEYWORD_ONLY
        given = inspect.signature(endpoint).parameters.values()
        sent = {each.name: each.replace(annotation=hints[each.name], kind=keyword) for each in given}
        self.names = {name for name in ("db", "who", "request") if sent.pop(name, None) is not None}
        self.bearer = next((name for name in sent if hints[name] is Bearer), None)
        sent.pop(self.bearer or "", None)
        self.request = inspect.Parameter("request", keyword, annotation=Request)
        self.sent = list(sent.values())

    def of(self, request: Request, **each: Any) -> dict[str, Any]:
        """The request, and of these what it names."""
        found = {name: value for name, value in (each | {"request": request}).items() if name in self.names}
        return found if self.bearer is None else found | {self.bearer: bearer_of(request)}

    def show(self, wrapped: Callable[..., Any], judge: Judge | None) -> Callable[..., Any]:
        """Let the framework see what was sent, with the request."""
        del wrapped.__wrapped__  # type: ignore[attr-defined]
        wrapped.__signature__ = inspect.Signature([*self.sent, self.request])  # type: ignore[attr-defined]
        wrapped.__annotations__ = {}
        wrapped.judge = judge  # type: ignore[attr-defined]
        wrapped.carries_a_bearer = self.bearer is not None  # type: ignore[attr-defined]
        return wrapped


def _asked(endpoint: Callable[..., Any], judge: Judge | None, looks: bool) -> Callable[..., Any]:
    """An endpoint with who asks found and judged (None = it is open) in its own thread: where it only looks, in the
    snapshot that it reads first."""
    handed = _Handed(endpoint)

    @wraps(endpoint)
    def asked(request: Request, **arguments: Any) -> Any:
        database = AskedDatabase(request.app.state.database)
        try:
            see = database.begin_snapshot if looks else database.snapshot
            who = None if judge is None else _judged(judge, request, database, see)
            return endpoint(**arguments, **handed.of(db=database, who=who, request=request))
        finally:
            database.end_snapshot()

    return handed.show(asked, judge)


def _keyed(endpoint: Callable[..., Any], judge: Judge | None) -> Callable[..., Any]:
    """An endpoint that happens once, in one transaction; in it who asks is found, and judged (None = it is open)."""
    handed, secret = _Handed(endpoint), getattr(endpoint, "answers_a_secret", False)
    assert "db" in handed.names, f"{endpoint.__qualname__} changes something without a database"

    @wraps(endpoint)
    def once(request: Request, **arguments: Any) -> Any:
        database, made_key = request.app.state.database, secrets.token_hex(16)
        who: Actor | None = None

        def find_key(opening: Opening) -> RequestKey:
            nonlocal who
            if judge is None:
                return _key_of_origin(request, _given_key(request) or made_key)
            who = _judged(judge, request, database, opening.see)
            key = _key_of_actor(who, request, _given_key(request) or made_key)
            return replace(key, keeps_answer=False) if secret else key

        def work(db: KeyedDatabase) -> Any:
            return endpoint(**arguments, **handed.of(db=db, who=who, request=request))

        found = happens_once(database, find_key, work, _packed)
        return _unpacked(found.answer) if isinstance(found, Replayed) else found

    once.happens_once = True  # type: ignore[attr-defined]
    return handed.show(once, judge)


def _given_key(request: Request) -> str | None:
    found = request.headers.get(KEY)
    if found is not None and not 1 <= len(found) <= LONGEST_KEY:
        raise invalid(f"From 1 to {LONGEST_KEY} characters.", KEY)
    return found


def _packed(answer: Any) -> Any:
    """An answer as it is kept: what the route gave back, or a response of its own with its status."""
    if isinstance(answer, Response):
        return {"status": answer.status_code, "body": json.loads(bytes(answer.body)) if answer.body else None}
    if isinstance(answer, BaseModel):
        return {"value": answer.model_dump(mode="json")}
    return {"value": jsonable_encoder(answer)}


def _unpacked(kept: Any) -> Any:
    if "value" in kept:
        return kept["value"]
    if kept["body"] is None:
        return Response(status_code=kept["status"])
    kind = "application/problem+json" if kept["status"] >= 400 else "application/json"
    return Response(json.dumps(kept["body"]), kept["status"], media_type=kind)
