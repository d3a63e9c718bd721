"""A loopback application that catches sign-ins: an OpenID Connect client (authorization code with PKCE, RFC 8252 §7.3),
or a SAML service provider that takes responses by POST.

What it catches is put down as exchanges and judged like any capture, by an application on record whose identifiers and
addresses are supposed to be the receiver's.
"""

from __future__ import annotations

import base64
import os
import secrets
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any, TypeVar
from urllib.parse import urlencode

from werkzeug.exceptions import RequestEntityTooLarge
from werkzeug.utils import redirect
from werkzeug.wrappers import Request, Response

from trace_lens.common import limits
from trace_lens.common.addresses import parts_of
from trace_lens.common.findings import Stage, Unchecked
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.live.recording import Passed
from trace_lens.live.requests import Sent, authn_request, authorization_request
from trace_lens.live.transport import Answer, Transport, Unreachable
from trace_lens.oidc.jwk import Jwk, read_key_set
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.saml.metadata import Entity, find_entity
from trace_lens.saml.names import IDP_ROLE
from trace_lens.saml.parsing import XMLDamaged
from trace_lens.workspace.own_files import OWN_FOLDER
from trace_lens.workspace.records import App, Provider, Source, Workspace
from trace_lens.workspace.settings import AppSettings, read_table

SECRET = "TRACE_LENS_CLIENT_SECRET"
CALLBACK, ACS, METADATA = "/callback", "/saml/acs", "/saml/metadata"
RECEIVER = "receiver"
OWN_KEY = f"{OWN_FOLDER}/receiver.key"
"""The private key of the receiver for SAML, within the workspace."""
_WELL_KNOWN = "/.well-known/openid-configuration"
_DONE = "<!doctype html><title>Received</title><p>The sign-in was received. You can close this window."
_SCOPES = ("openid", "profile", "email")
_Document = TypeVar("_Document")


class CannotReceive(ValueError):
    """The receiver lacks something; the message says what, and what to do."""


class _Request(Request):
    """A request, within a limit of size."""

    max_content_length = limits.RECEIVED_BYTES
    max_form_memory_size = limits.RECEIVED_BYTES


class Caught(NamedTuple):
    """One sign-in as it was caught: the exchanges, and when the message came."""

    passed: tuple[Passed, ...]
    at: datetime


@dataclass
class Receiver:
    """What answers; `caught` hears each sign-in, `told` what is not one.

    `waiting` are the OpenID Connect sign-ins that began, by state, `asked` those of SAML, by relay state.
    """

    base: str
    protocol: str
    client_id: str
    scopes: tuple[str, ...]
    endpoints: dict[str, str]
    caught: Callable[[Caught], None]
    told: Callable[[str], None]
    waiting: dict[str, tuple[Sent, Passed]] = field(default_factory=dict)
    asked: dict[str, Passed] = field(default_factory=dict)
    begun: int = 0
    lock: threading.Lock = field(default_factory=threading.Lock)

    @property
    def registered(self) -> str:
        """What the provider must have on record for it, in words."""
        if self.protocol == "oidc":
            return f"the redirect URI {self.base}{CALLBACK} of the client {self.client_id}"
        return f"the service provider {self.client_id} with the ACS URL {self.base}{ACS}"

    def __call__(self, environ: dict[str, Any], start: Any) -> Iterable[bytes]:
        """The receiver as a WSGI application."""
        request = _Request(environ)
        try:
            answer = self._answer(request)
        except RequestEntityTooLarge:
            self.told(f"More than {limits.RECEIVED_BYTES:,} bytes came at once; they were not used.")
            answer = Response("This is too large.", 413, content_type="text/plain")
        answer.headers["Cache-Control"] = "no-store"
        answer.headers["Referrer-Policy"] = "no-referrer"
        return answer(environ, start)

    def _answer(self, request: Request) -> Response:
        path = request.path
        if path == "/" and request.method == "GET":
            return self._begin(request)
        if path == CALLBACK and self.protocol == "oidc":
            return self._callback(request)
        if path == ACS and self.protocol == "saml" and request.method == "POST":
            return self._response(request)
        return Response("There is nothing here.", 404, content_type="text/plain")

    def _begin(self, request: Request) -> Response:
        """Send the browser to the provider."""
        self.begun += 1
        if self.protocol == "saml":
            relay = secrets.token_urlsafe(16)
            asking = authn_request(self.endpoints["sso"], self.client_id, self.base + ACS, datetime.now(UTC), relay)
            with self.lock:
                self.asked[relay] = _sent_away(request, asking)
            return redirect(asking, 302)
        sent = authorization_request(
            self.endpoints["authorization_endpoint"], self.client_id, self.base + CALLBACK, self.scopes
        )
        with self.lock:
            self.waiting[sent.state] = (sent, _sent_away(request, sent.url))
        return redirect(sent.url, 302)

    def _callback(self, request: Request) -> Response:
        """The provider's answer: its state must be one that was sent, and is used once."""
        values = {**request.args.to_dict(), **request.form.to_dict()}
        with self.lock:
            held = self.waiting.pop(values.get("state", ""), None)
        if held is None:
            self.told("An answer came whose state is none that was sent; it was not used.")
            return Response("This answer belongs to no sign-in that began here.", 400, content_type="text/plain")
        sent, begun = held
        came = self._put_down(request)
        passed = [begun, came]
        if "code" in values:
            passed += self._redeemed(values["code"], sent)
        self.caught(Caught(tuple(passed), datetime.fromtimestamp(came.at, UTC)))
        return Response(_DONE, 200, content_type="text/html; charset=utf-8")

    def _redeemed(self, code: str, sent: Sent) -> list[Passed]:
        """The token request, and the call of userinfo where a token came."""
        body = urlencode(
            {
                "grant_type": "authorization_code",
                "code": code,
                "redirect_uri": self.base + CALLBACK,
                "client_id": self.client_id,
                "code_verifier": sent.verifier,
            }
        ).encode()
        headers = {"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
        secret = os.environ.get(SECRET)
        if secret:
            pair = base64.b64encode(f"{self.client_id}:{secret}".encode()).decode()
            headers["Authorization"] = f"Basic {pair}"
        token = _asked(self.endpoints["token_endpoint"], "POST", headers, body)
        made = [token]
        access = _access_token(token)
        if access and "userinfo_endpoint" in self.endpoints:
            made.append(_asked(self.endpoints["userinfo_endpoint"], "GET", {"Authorization": f"Bearer {access}"}, None))
        return made

    def _response(self, request: Request) -> Response:
        """A SAML response, asked for or not."""
        if "SAMLResponse" not in request.form:
            self.told("A form came without a SAMLResponse; it was not used.")
            return Response("There is no SAMLResponse in it.", 400, content_type="text/plain")
        came = self._put_down(request)
        with self.lock:
            begun = self.asked.pop(request.form.get("RelayState", ""), None)
        passed = (begun, came) if begun else (came,)
        self.caught(Caught(passed, datetime.fromtimestamp(came.at, UTC)))
        return Response(_DONE, 200, content_type="text/html; charset=utf-8")

    def _put_down(self, request: Request) -> Passed:
        at = time.time()
        headers = (("Content-Type", "text/html; charset=utf-8"), ("Date", _http_date(at)))
        answer = Answer(request.url, 200, headers, _DONE.encode(), at, at)
        body = urlencode(list(request.form.items(multi=True))).encode() if request.method == "POST" else None
        return Passed(request.method, request.url, _fields(request), body, at, answer)


def _fields(request: Request) -> tuple[tuple[str, str], ...]:
    """The header fields, without cookies: those are of other programs on this host, or the receiver's own."""
    return tuple((str(name), str(value)) for name, value in request.headers.items() if name.lower() != "cookie")


def _sent_away(request: Request, url: str) -> Passed:
    """The request that began a sign-in, answered by sending the browser to the provider."""
    at = time.time()
    answer = Answer(request.url, 302, (("Location", url), ("Date", _http_date(at))), b"", at, at)
    return Passed("GET", request.url, _fields(request), None, at, answer)


def _http_date(at: float) -> str:
    from email.utils import formatdate

    return formatdate(at, usegmt=True)


def _asked(url: str, method: str, headers: dict[str, str], body: bytes | None) -> Passed:
    at = time.time()
    sent = tuple(headers.items())
    try:
        with Transport() as transport:
            return Passed(method, url, sent, body, at, transport.ask(url, method, headers, body))
    except Unreachable as error:
        return Passed(method, url, sent, body, at, None, error.because)


def _access_token(passed: Passed) -> str | None:
    if passed.answer is None or passed.answer.status != 200:
        return None
    try:
        told = read_json(passed.answer.data).value
    except JsonDamaged:
        return None
    value = told.get("access_token") if isinstance(told, dict) else None
    return value if isinstance(value, str) else None


# -- what it needs of the provider, and by which application it is judged


def with_documents(provider: Provider, protocol: str, told: Callable[[str], None]) -> Provider:
    """A provider with its documents for a protocol as they are now; one that cannot be had is that on record, and
    `told` hears so.

    Raises CannotReceive where there is none on record either.
    """
    settings = provider.settings
    if protocol == "saml":
        if not settings.metadata or "://" not in settings.metadata:
            return provider
        url = settings.metadata
        entity = _now_or_kept(url, lambda: _entity(url, settings.entity_id), provider.entity, told)
        made = Provider(provider.id, settings, provider.source)
        made.__dict__.update(discovery=provider.discovery, key_set=provider.key_set, entity=entity)
        return made
    named = settings.discovery if settings.discovery and "://" in settings.discovery else None
    if not named and (settings.discovery or not settings.issuer):
        return provider
    url = named or f"{str(settings.issuer).rstrip('/')}{_WELL_KNOWN}"
    discovery = _now_or_kept(url, lambda: _json(url), provider.discovery or None, told)
    jwks = discovery.get("jwks_uri")
    own = settings.key_set
    where = own if own and "://" in own else jwks if isinstance(jwks, str) and not own else None
    keys = provider.key_set
    if where:
        address = where
        keys = _now_or_kept(address, lambda: _keys(address), provider.key_set or None, told)
    made = Provider(provider.id, settings._replace(discovery=url, key_set=where or own), provider.source)
    made.__dict__.update(discovery=discovery, key_set=keys, entity=provider.entity)
    return made


def with_keys_now(workspace: Workspace, app: str) -> Workspace:
    """A workspace with the key set of an application's provider as it is after a sign-in: an application that meets an
    unknown key fetches it again. As it was before where it cannot be had.
    """
    provider = workspace.provider_of(workspace.apps[app])
    where = provider.settings.key_set if provider else None
    if provider is None or not where or "://" not in where:
        return workspace
    try:
        keys = _keys(where)
    except CannotReceive:
        return workspace
    made = replace(provider, key_set_had=datetime.now(UTC))
    made.__dict__.update(discovery=provider.discovery, key_set=keys, entity=provider.entity)
    return replace(workspace, providers=workspace.providers | {provider.id: made}, _kept={})


def _now_or_kept(
    url: str, get: Callable[[], _Document], kept: _Document | None, told: Callable[[str], None]
) -> _Document:
    try:
        return get()
    except CannotReceive as error:
        if kept is None:
            raise
        told(f"{url} cannot be had now: {error}. What was kept of it is used.")
        return kept


def as_received(diagnosis: Diagnosis, lacking: Sequence[str]) -> Diagnosis:
    """The diagnosis where documents could not be had: sound by what was kept of them is not sound for who asks now."""
    if not lacking or diagnosis.outcome != "sound":
        return diagnosis
    questions = tuple(Unchecked("document-not-fetched", words, decides=True) for words in lacking)
    stages = tuple(
        stage._replace(status="unchecked", unchecked=(*stage.unchecked, *questions))
        if stage.stage is Stage.AUTHENTIC
        else stage
        for stage in diagnosis.stages
    )
    return diagnosis._replace(
        outcome="inconclusive",
        cause=f"By what was kept nothing breaks, but an application that asks now lacks a document. {lacking[0]}",
        unchecked=(*diagnosis.unchecked, *questions),
        stages=stages,
    )


def _entity(url: str, entity_id: str | None) -> Entity:
    try:
        entity, damage = find_entity(_fetched(url), entity_id, IDP_ROLE)
    except XMLDamaged as error:
        raise CannotReceive(f"it is no metadata: {error.reason}") from None
    if entity is None:
        raise CannotReceive(f"it describes no such provider{f' ({damage.reason})' if damage else ''}")
    return entity


def _keys(url: str) -> tuple[Jwk, ...]:
    keys = read_key_set(_json(url))
    if not keys:
        raise CannotReceive("it holds no key, so no application can verify a token now")
    return keys


def _fetched(url: str) -> bytes:
    try:
        with Transport() as transport:
            answer = transport.fetch(url)
    except Unreachable as error:
        raise CannotReceive(f"{error.code}: {error.because}") from None
    if answer.status != 200:
        raise CannotReceive(f"{url} answers with status {answer.status}")
    return answer.data


def _json(url: str) -> dict[str, Any]:
    try:
        told = read_json(_fetched(url)).value
    except (JsonDamaged, XMLDamaged) as error:
        raise CannotReceive(f"{url} is no JSON that can be read: {error.reason}") from None
    if not isinstance(told, dict):
        raise CannotReceive(f"{url} is no discovery document")
    return told


def endpoints_of(provider: Provider, app: App | None, protocol: str) -> dict[str, str]:
    """The addresses of a provider that a sign-in needs: of its documents, else as the application has them. Raises
    CannotReceive.
    """
    if protocol == "saml":
        role = provider.role
        for item in role.endpoints if role else ():
            if item.purpose == "SingleSignOnService" and item.binding.endswith("HTTP-Redirect"):
                return {"sso": item.location}
        held = app.settings.application.provider_sso_url if app else None
        if held:
            return {"sso": held}
        raise CannotReceive(f"no sign-on address for HTTP-Redirect is in the metadata of {provider.name}")
    names = ("authorization_endpoint", "token_endpoint", "userinfo_endpoint")
    found = {name: value for name in names if isinstance(value := provider.discovery.get(name), str)}
    if "authorization_endpoint" not in found or "token_endpoint" not in found:
        raise CannotReceive(f"the discovery document of {provider.name} names no authorization and token endpoint")
    return found


def as_receiver(
    workspace: Workspace, provider: Provider, app: App | None, protocol: str, base: str, client_id: str
) -> tuple[Workspace, str]:
    """A workspace in which an application is the receiver: one on record with the receiver's identifiers and addresses,
    or one of its own; and the ID of it.
    """
    import copy

    raw: dict[str, Any] = copy.deepcopy(app.source.raw) if app else {"name": "The receiver", "protocol": protocol}
    raw["provider"] = provider.id
    told, setup = raw.setdefault("application", {}), raw.get("provider_setup", {})
    if protocol == "oidc":
        told |= {"client_id": client_id, "redirect_uris": [base + CALLBACK], "public": True}
        told.setdefault("scopes", list(_SCOPES))
        for key in ("response_mode", "response_type", "client_authentication", "secret_expires", "sign_in_url"):
            told.pop(key, None)
    else:
        told |= {"entity_id": client_id, "acs_urls": [base + ACS], "accepts_unsolicited": True, "signs_requests": False}
        for key in ("metadata", "sign_in_url", "relay_state", "decryption_key"):
            told.pop(key, None)
        if workspace.root and (workspace.root / OWN_KEY).is_file():
            told["decryption_key"] = OWN_KEY
    for key in ("client_id", "redirect_uris", "audience", "acs_url", "scopes_granted"):
        setup.pop(key, None)
    name = app.id if app else RECEIVER
    source = app.source if app else Source(workspace.root or provider.source.root, "the receiver", "", {})
    made = App(name, read_table(AppSettings, raw), replace(source, raw=raw), workspace.settings)
    apps, providers = workspace.apps | {name: made}, workspace.providers | {provider.id: provider}
    return replace(workspace, apps=apps, providers=providers, _kept={}), name


def scopes_of(app: App | None) -> tuple[str, ...]:
    """The scopes that are asked for: those of an application, else openid profile email."""
    return tuple(app.settings.application.oidc.scopes) if app and app.settings.application.oidc.scopes else _SCOPES


def port_of(base: str) -> int:
    """The port of an address."""
    return parts_of(base).port or 0
