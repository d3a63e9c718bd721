"""What a captured sign-in shows of both sides' settings: identifiers, addresses, formats, scopes, claims, the key.

Nothing here says that a value is right: it was seen, in a sign-in that worked or in one that failed. Each setting keeps
where it was seen, as a comment for the settings file.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime
from types import MappingProxyType
from typing import Any

from lxml import etree

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.journeys import START, Way
from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.saml.signed import judge_message
from trace_lens.checks.way.signs import outcome_of
from trace_lens.common.addresses import host_of, plain
from trace_lens.common.personal import names_person
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import Options, case_of
from trace_lens.oidc.algorithms import SIGNATURES
from trace_lens.pki.certificates import Certificate
from trace_lens.saml.names import FORMAT_UNSPECIFIED
from trace_lens.saml.signature import XMLSignature
from trace_lens.workspace.records import Workspace

SAML, OIDC = "saml", "oidc"
PUBLIC = "none"
"""How a client without a secret authenticates, as discovery documents spell it."""
_PROTOCOL_CLAIMS = frozenset(
    (
        *("iss", "sub", "aud", "azp", "exp", "nbf", "iat", "jti", "nonce", "auth_time", "acr", "amr", "at_hash"),
        *("c_hash", "s_hash", "sid", "typ", "events"),
    )
)
"""Claims of the protocol itself (OpenID Connect Core §2): no application reads them as data about the person."""
_SHOWN_VALUES = 6


class Observation(NamedTuple):
    """What one attempt shows of its application and provider.

    `settings` are the application's by dotted key, `claims` the claims it was sent with the values seen, `provider`
    those of the provider. `doubt` says why the values may be wrong; None for a sign-in that was answered well.
    `certificate` is the one that came inside the message and made its signature; `bindings` are the SAML bindings by
    which messages came to the addresses under these keys. `is_guess` says that the identifier of the application is not
    known to be right: the provider refused it, or only the provider names it and nothing shows that it was taken.
    """

    protocol: str
    source: str
    at: datetime | None
    settings: Mapping[str, Any]
    claims: Mapping[str, tuple[str, ...]]
    provider: Mapping[str, Any]
    comments: Mapping[str, str]
    certificate: Certificate | None
    doubt: str | None
    bindings: Mapping[str, str] = MappingProxyType({})
    is_guess: bool = False

    @property
    def application_id(self) -> str | None:
        """The identifier by which the application is known: its entity ID or its client_id."""
        return self.settings.get("application.entity_id") or self.settings.get("application.client_id")

    @property
    def provider_id(self) -> str | None:
        """The identifier of the provider: its entity ID or its issuer."""
        return self.provider.get("entity_id") or self.provider.get("issuer")

    @property
    def address(self) -> str:
        """An address of the application, to name it after."""
        for key in ("application.acs_urls", "application.redirect_uris"):
            if self.settings.get(key):
                return str(self.settings[key][0])
        return self.application_id or ""


def observe(attempt: Attempt, now: datetime) -> Observation | None:
    """What an attempt shows; None where it names no application, or is no sign-in.

    What one request demands for itself (a kind of authentication, a maximum age) is no setting, and left out.
    """
    case = case_of(attempt, Workspace(), Options(now))
    if case.attempt.kind not in ("answer", "request"):
        return None
    seen = _of_saml(case) if isinstance(case, SamlCase) else _of_oidc(case)
    return seen if seen.application_id or seen.address else None


def _doubt(case: SamlCase | OidcCase) -> str | None:
    """Why what an attempt shows may be wrong."""
    if case.refused:
        return "the provider refused this sign-in"
    if outcome_of(case).let_in is False:
        return "this sign-in failed at the application"
    if case.attempt.kind == "request":
        return "only the request was captured, not whether it was answered"
    return None


def _filled(values: Mapping[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in values.items() if value not in (None, "", [])}


def _of_saml(case: SamlCase) -> Observation:
    request, response, assertion = case.request, case.response, case.assertion
    audiences = [item.value for item in assertion.conditions.audiences] if assertion and assertion.conditions else []
    asked_by = request.issuer.value if request and request.issuer else None
    recipient = case.bearer.data.recipient if case.bearer and case.bearer.data else None
    destination = response.destination if response else None
    came_to = next((item.value for item in (recipient, destination) if item), None)
    acs = [
        text
        for text in dict.fromkeys((came_to, request.acs_url.value if request and request.acs_url else None))
        if text
    ]
    policy = request.name_id_policy if request else None
    wanted = policy.format.value if policy and policy.format else None
    sent_format = case.name_id.format if case.name_id and case.name_id.format_given else None
    unsolicited = case.started_by == "provider" and not _doubt(case)
    relay = case.attempt.relay_state if unsolicited else None
    issuer = case.issuer.value if case.issuer else None
    way = case.attempt.way
    sent_to = request.destination.value if request and request.destination else None
    settings = {
        "application.entity_id": asked_by or (audiences[0] if len(audiences) == 1 else None),
        "application.acs_urls": acs,
        "application.sign_in_url": _sign_in_url(way, acs, case.started_by),
        "application.provider_entity_id": issuer,
        "application.provider_sso_url": _asked_at(way, sent_to),
        "application.name_id_format": wanted if wanted != FORMAT_UNSPECIFIED else None,
        "application.accepts_unsolicited": True if unsolicited else None,
        "application.relay_state": relay if relay and relay.startswith(("http", "/")) else None,
        "application.signs_requests": True if request and _signed(case) else None,
        "application.session_cookie": _session_cookie(case),
        "provider_setup.audience": audiences[0] if len(audiences) == 1 else None,
        "provider_setup.acs_url": came_to,
        "provider_setup.name_id_format": sent_format,
    }
    claims = {
        attribute.name: tuple(_value(value) for value in attribute.values)
        for attribute in (assertion.attributes if assertion else ())
    }
    verdict = next((verdict for verdict in case.signed.own if verdict.certificate and verdict.good), None)
    return Observation(
        protocol=SAML,
        source=case.attempt.source,
        at=case.at,
        settings=_filled(settings),
        claims={name: values for name, values in claims.items() if name},
        provider=_filled({"entity_id": issuer}),
        comments={**_signed_words(case), **_guessed(asked_by, case)},
        certificate=verdict.certificate if verdict else None,
        doubt=_doubt(case),
        bindings=_bindings(case),
        is_guess=case.refused or bool(_guessed(asked_by, case)),
    )


def _bindings(case: SamlCase) -> dict[str, str]:
    """By which binding the request went, and the answer came, where their wrapping shows it (SAML 2.0 Bindings)."""
    asked = case.attempt.request.binding if case.attempt.request else None
    came = case.attempt.main.binding if case.response and not case.is_ws_federation else None
    seen = {"application.acs_urls": came, "application.provider_sso_url": asked}
    return {key: binding.rpartition(":")[2] for key, binding in seen.items() if binding}


def _guessed(asked_by: str | None, case: SamlCase) -> dict[str, str]:
    """That the entity ID is only what the provider sent as the audience, where nothing shows that it was right."""
    if asked_by or outcome_of(case).let_in:
        return {}
    return {"application.entity_id": "the audience that the provider sent: compare it with the application"}


def _value(value: Any) -> str:
    return str(value.name_id.value if value.name_id else value.text.value)


def _signed(case: SamlCase) -> bool:
    request = case.attempt.request
    return bool(request and judge_message(request, case.keys_of_application))


def _signed_words(case: SamlCase) -> dict[str, str]:
    """Which part was signed and how: for the reader, since what was signed is not what the application demands."""
    held = [verdict.signature for verdict in case.signed.own]
    parts = sorted({etree.QName(item.holder).localname.lower() for item in held if isinstance(item, XMLSignature)})
    algorithms = sorted({(item.algorithm_uri or "").rpartition("#")[2] for item in held})
    if not parts:
        return {}
    return {"application.seen_certificates": f"signed: {' and '.join(parts)}, {', '.join(algorithms)}"}


def _of_oidc(case: OidcCase) -> Observation:
    token, attempt = case.token, case.attempt
    redeemed = attempt.code_requests
    client = case.asked("client_id") or next((text for item in redeemed if (text := item.get("client_id"))), None)
    audience = list(token.audience) if token else []
    client = client or (str(token.claims["azp"]) if token and token.claims.get("azp") else None)
    client = client or (audience[0] if len(audience) == 1 else None)
    issuer = str(token.claims.get("iss") or "") if token else case.response_issuer
    redirect = case.asked("redirect_uri") or next(
        (text for item in redeemed if (text := item.get("redirect_uri"))), None
    )
    answered = bool(attempt.answer or attempt.token_response) and not case.refused
    granted = attempt.token_response.get("scope") if attempt.token_response else None
    asked = (case.asked("scope") or "").split()
    way = case.attempt.way
    authentication = _authentication(redeemed, way)
    settings = {
        "application.client_id": client,
        "application.redirect_uris": [redirect] if redirect else [],
        "application.sign_in_url": _sign_in_url(way, [redirect] if redirect else [], case.started_by),
        "application.provider_sso_url": _asked_at(way, None),
        "application.provider_issuer": issuer,
        "application.response_type": case.asked("response_type"),
        "application.response_mode": case.asked("response_mode"),
        "application.scopes": asked,
        "application.public": True if authentication == PUBLIC else None,
        "application.client_authentication": authentication if authentication != PUBLIC else None,
        "application.session_cookie": _session_cookie(case),
        "provider_setup.client_id": client if answered else None,
        "provider_setup.redirect_uris": [redirect] if redirect and answered else [],
        "provider_setup.scopes_granted": granted.split() if granted else [],
    }
    claims = {
        name: tuple(_texts(value))
        for name, value in (token.claims if token else {}).items()
        if name not in _PROTOCOL_CLAIMS
    }
    comments = {}
    if authentication == PUBLIC:
        comments["application.public"] = "no secret was seen with the code; an export may leave it out"
    if token and token.jws.algorithm in SIGNATURES:
        key = f", key {token.jws.key_id}" if token.jws.key_id else ""
        comments["application.client_id"] = f"tokens signed with {token.jws.algorithm}{key}"
    return Observation(
        protocol=OIDC,
        source=attempt.source,
        at=case.at,
        settings=_filled(settings),
        claims=claims,
        provider=_filled({"issuer": issuer}),
        comments=comments,
        certificate=None,
        doubt=_doubt(case),
        is_guess=case.refused,
    )


def _texts(value: Any) -> Iterator[str]:
    for item in value if isinstance(value, list) else [value]:
        yield item if isinstance(item, str) else str(item).lower() if isinstance(item, bool) else str(item)


def _authentication(redeemed: list[OidcMessage], way: Way | None) -> str | None:
    """How the client showed who it is at the token endpoint (OpenID Connect Core §9); None where it cannot be seen."""
    for item in redeemed:
        hop = way.hop_of(item.found) if way else None
        header = (hop.exchange.request("authorization") or "") if hop else ""
        if item.get("client_assertion"):
            return "private_key_jwt"
        if item.get("client_secret"):
            return "client_secret_post"
        if header.lower().startswith("basic "):
            return "client_secret_basic"
        if hop and item.get("code_verifier") and item.get("client_id"):
            return PUBLIC
    return None


def _sign_in_url(way: Way | None, addresses: list[str], started_by: str | None) -> str | None:
    """Where the person began, where that is a page of the application."""
    if way is None or not way.hops or started_by != "application":
        return None
    first = way.hops[0]
    if first.how != START and first.cause is not None:
        return None
    hosts = {host_of(address) for address in addresses}
    return plain(first.exchange.url) if first.exchange.host in hosts else None


def _asked_at(way: Way | None, told: str | None) -> str | None:
    """The address at the provider that took the request."""
    for hop in way.hops if way else ():
        if {"saml-authn-request", "authorization-request"} & set(hop.kinds):
            return plain(hop.exchange.url)
    return told


def _session_cookie(case: SamlCase | OidcCase) -> str | None:
    """The cookie that was set at the return and served from then on, where one alone did."""
    outcome = outcome_of(case)
    if outcome.let_in is not True:
        return None
    names = {sign.cookie for sign in outcome.favouring if sign.cookie}
    return names.pop() if len(names) == 1 else None


def shown_values(name: str, values: tuple[str, ...]) -> str:
    """The values of a claim for a comment; those that name a person are not written down."""
    if names_person(name):
        return "a value that names a person"
    kept = list(dict.fromkeys(values))
    return ", ".join(kept[:_SHOWN_VALUES]) + (" …" if len(kept) > _SHOWN_VALUES else "")
