"""The case of an OpenID Connect sign-in: its messages, the token that is judged, and what is said of the person."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import Any, ClassVar

from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.checks.case import Case, Need, Sent
from trace_lens.checks.oidc.opened import Decryption, open_token
from trace_lens.checks.oidc.verified import Verdict, judge
from trace_lens.common.findings import Allows, Evidence, lack
from trace_lens.common.locations import Location
from trace_lens.common.personal import personal
from trace_lens.common.sentences import Person
from trace_lens.oidc.claims_request import ClaimAsked, read_claims_request
from trace_lens.oidc.jose import Jwe
from trace_lens.oidc.parameters import SECRET, Parameters
from trace_lens.oidc.strict_json import JsonDamaged
from trace_lens.oidc.tokens import ACCESS, ID, Token, texts

PROTOCOL_CLAIMS = {
    "iss",
    "sub",
    "aud",
    "exp",
    "nbf",
    "iat",
    "auth_time",
    "nonce",
    "acr",
    "amr",
    "azp",
    "at_hash",
    "c_hash",
    "s_hash",
    "sid",
    "jti",
    "typ",
    "ver",
    "scope",
    "scp",
    "client_id",
    "events",
    "_claim_names",
    "_claim_sources",
    "email_verified",
    "phone_number_verified",
    "updated_at",
}
"""Claims that serve the protocol; they count as said of the person only where the application reads them."""
CLAIM_NAMES = "_claim_names"


@dataclass(frozen=True, eq=False, repr=False)
class OidcCase(Case):
    """An OpenID Connect sign-in or sign-out."""

    attempt: OidcAttempt
    protocol: ClassVar[str] = "oidc"
    subject_label: ClassVar[str] = "sub"
    address_label: ClassVar[str] = "redirect URI"
    main_source: ClassVar[str] = "id-token"

    @cached_property
    def judged(self) -> OidcMessage | None:
        """The message in the place of the ID token."""
        return self.attempt.id_token

    @cached_property
    def opening(self) -> Decryption | None:
        """The judged token opened, where it is encrypted."""
        content = self.judged.content if self.judged else None
        return open_token(content, self.app, self.workspace) if isinstance(content, Jwe) else None

    @property
    def token(self) -> Token | None:
        """The token that is judged, opened where it was encrypted."""
        return self.opening.token if self.opening else self.judged.token if self.judged else None

    @cached_property
    def verdict(self) -> Verdict | None:
        """Whose key made the judged token's signature."""
        return judge(self.token.jws, self.provider, self.workspace) if self.token else None

    @property
    def as_access_token(self) -> bool:
        """Whether the token came to an interface of the application, which access tokens are made for."""
        token, app = self.token, self.app
        if token is None or token.kind != ACCESS or app is None or (self.judged and self.judged.named == "id_token"):
            return False
        return bool(set(app.settings.application.oidc.api_audience) & set(token.audience))

    @property
    def userinfo(self) -> OidcMessage | None:
        """What the userinfo endpoint said."""
        found = self.attempt.userinfo
        return found if found and found is not self.judged else None

    @cached_property
    def userinfo_claims(self) -> dict[str, Any]:
        """The userinfo claims, where they speak of the token's subject (OpenID Connect Core 1.0 §5.3.2)."""
        if self.userinfo is None:
            return {}
        claims = self.userinfo.token.claims if self.userinfo.token else self.userinfo.document
        if self.token and claims.get("sub") != self.token.claims.get("sub"):
            return {}
        return claims

    @property
    def request(self) -> Parameters | None:
        """What the application asked, where its authorization request was captured."""
        message = self.attempt.request
        return message.parameters if message else None

    def asked(self, name: str) -> str | None:
        """A parameter of the authorization request: of the request object, where it holds it (RFC 9101 §6.3)."""
        signed = self.attempt.request_object
        if signed and name in signed.claims:
            return signed.text(name)
        return self.request.get(name) if self.request else None

    @cached_property
    def claims_asked(self) -> tuple[ClaimAsked, ...]:
        """The single claims that the request asks for. Raises JsonDamaged where that parameter is no JSON."""
        signed = self.attempt.request_object
        told = signed.claims.get("claims") if signed else None
        text = json.dumps(told) if isinstance(told, dict) else self.asked("claims")
        return read_claims_request(text) if text else ()

    def demanded(self, name: str) -> tuple[str, ...]:
        """The values, one of which a claim must have by the request's `claims` parameter (Core §5.5.1.1)."""
        try:
            asked = self.claims_asked
        except JsonDamaged:
            return ()
        return next(
            (claim_asked.values for claim_asked in asked if claim_asked.name == name and claim_asked.essential), ()
        )

    @property
    def response_issuer(self) -> str | None:
        """The `iss` of the answer (RFC 9207)."""
        answer = self.attempt.answer
        return answer.get("iss") if answer else None

    @property
    def error(self) -> tuple[OidcMessage, str] | None:
        """The answer that is an error, and its code: of the authorization endpoint first."""
        for message in (self.attempt.answer, self.attempt.token_response):
            code = message.get("error") if message else None
            if message and code:
                return message, code
        return None

    @property
    def refused(self) -> bool:
        """Whether the authorization endpoint answered with an error."""
        return bool(self.attempt.answer and self.attempt.answer.get("error"))

    @property
    def client_id(self) -> str | None:
        """The client's identifier, as set in the application."""
        settings = self.app.settings if self.app else None
        return (settings.application.oidc.client_id or settings.provider_setup.client_id) if settings else None

    @property
    def expected_issuer(self) -> str | None:
        """The issuer that the application expects: as set there, else the provider's."""
        told = self.app.settings.application.oidc.provider_issuer if self.app else None
        return told or (self.provider.issuer if self.provider else None)

    @property
    def issuer_name(self) -> str | None:
        """Who issued the token, else who the answer says that it is from."""
        return (self.token.text("iss") if self.token else None) or self.response_issuer

    @property
    def issuer_evidence(self) -> list[Evidence]:
        """Where the issuer stands: in the token, else in the answer."""
        token = self.token.text("iss") if self.token else None
        return self.of_token("iss", "iss") if token else self.parameter(self.attempt.answer, "iss")

    @property
    def subject(self) -> Sent | None:
        """The `sub` of the token, else of userinfo."""
        value = self.token.text("sub") if self.token else None
        if value is not None and value.strip():
            return Sent(Person(value), lambda label: self.of_token(label, "sub"))
        return None

    @property
    def name_closed(self) -> bool:
        """Whether the token is encrypted and could not be opened."""
        return self.opening is not None and self.opening.token is None

    @property
    def started_by(self) -> str | None:
        """`application`: an OpenID Connect answer always answers its request; None for a sign-out."""
        return None if self.attempt.kind in ("sign-out", "way") else "application"

    @property
    def made_at(self) -> list[datetime]:
        """When the token was issued."""
        made = self.token.at("iat") if self.token else None
        return [made] if made else []

    @property
    def most_groups(self) -> int | None:
        """The most groups that fit: fewer where the token came through the address."""
        most = self.provider.settings.most_groups if self.provider else None
        if most is None:
            return None
        home = self.judged.within if self.judged else None
        by_address = home and home.parameters and home.parameters.carried in ("query", "fragment")
        return most.url if by_address and most.url else most.token

    @cached_property
    def _read(self) -> set[str]:
        """The names that the application reads."""
        settings = self.app.settings if self.app else None
        names = {name for claim in settings.claims for name in (claim.name, *claim.also_as)} if settings else set()
        return names | {self.account_source}

    @cached_property
    def said(self) -> Mapping[str, tuple[str, ...]]:
        """The claims about the person, of the token first and then of userinfo."""
        found: dict[str, tuple[str, ...]] = {}
        for name, value in self._claims():
            if (name not in PROTOCOL_CLAIMS or name in self._read - {"sub"}) and name not in found:
                found[name] = values_of(value)
        return found

    def _claims(self) -> Iterator[tuple[str, Any]]:
        yield from self.token.claims.items() if self.token else ()
        yield from self.userinfo_claims.items()

    def claim(self, name: str) -> Any:
        """A claim as it stands, of the token or else of userinfo."""
        if self.token and name in self.token.claims:
            return self.token.claims[name]
        return self.userinfo_claims.get(name)

    def evidence_of(self, name: str) -> list[Evidence]:
        """Where a claim stands."""
        if self.token and name in self.token.claims:
            return self.of_token(name, name)
        if self.userinfo and name in self.userinfo_claims:
            return self.shown(self.userinfo, name, values_of(self.userinfo_claims[name]), Location(path=f"/{name}"))
        return []

    def source_of(self, name: str) -> str:
        """`id-token`, `access-token` or `userinfo`: which of them said it."""
        if self.token and name in self.token.claims:
            return self.token.kind if self.token.kind in (ID, ACCESS) else self.main_source
        return "userinfo" if name in self.userinfo_claims else self.main_source

    @property
    def markers(self) -> tuple[str, ...]:
        """What says that groups did not fit: the provider's own claims, and a pointer (Core §5.6.2) to groups."""
        own = self.provider.settings.left_out_markers if self.provider else ()
        held = {name for name, _ in self._claims()}
        found = [name for name in own if name in held]
        names = self.claim(CLAIM_NAMES)
        if isinstance(names, dict) and set(names) & self._group_names and CLAIM_NAMES not in found:
            found.append(CLAIM_NAMES)
        return tuple(found)

    @property
    def _group_names(self) -> set[str]:
        claims = self.app.settings.claims if self.app else ()
        return {"groups", "group", "roles", "role", *(claim.name for claim in claims if claim.means != "plain")}

    def of_token(self, label: str, name: str) -> list[Evidence]:
        """A claim of the judged token as evidence."""
        if self.token is None or self.judged is None:
            return []
        inside = "inside, payload" if self.opening else "payload"
        return self.shown(
            self.judged, label, values_of(self.token.claims.get(name)), Location(field=f"{inside} /{name}")
        )

    def of_header(self, name: str) -> list[Evidence]:
        """A member of the judged token's header as evidence."""
        if self.token is None or self.judged is None:
            return []
        value = self.token.jws.header.get(name)
        return self.shown(
            self.judged,
            name,
            values_of(value) if value is not None else ("not there",),
            Location(field=f"header /{name}"),
        )

    def parameter(self, message: OidcMessage | None, name: str) -> list[Evidence]:
        """A parameter or member of a message as evidence; nothing where it is not there."""
        value = message.get(name) if message else None
        if message is None or value is None:
            return []
        where = Location(field=f"parameter {name}") if message.parameters else Location(path=f"/{name}")
        return self.shown(message, name, (value,), where)

    def shown(self, message: OidcMessage, label: str, values: tuple[str, ...], where: Location) -> list[Evidence]:
        """A value of a message as evidence."""
        place = message.found.where.then(where)
        return [
            Evidence(
                label,
                personal(label, ", ".join(values)),
                message.source,
                place,
                exchange=message.exchange,
                secret=label in SECRET,
            )
        ]

    def lacks(self, need: Need) -> str | None:
        """Why a question that needs a part of the attempt cannot be asked; None where it can."""
        if need is Need.NOTHING:
            return None
        if need is Need.WAY:
            return None if self.attempt.way else lack("the capture does not show the way", Allows.RECORDING)
        main = self.attempt.main
        if main.damage:
            return "the message could not be read"
        if need is Need.REQUEST:
            has_request = self.request is not None or self.attempt.request_object is not None
            return None if has_request else lack("the request is not in this capture", Allows.RECORDING)
        if need is Need.SIGN_OUT:
            return None if self.attempt.sign_outs else lack("no sign-out is in this capture", Allows.RECORDING)
        if self.attempt.kind != "answer":
            return lack("the answer to the request is not in this capture", Allows.RECORDING)
        if need is Need.MESSAGE or self.token:
            return None
        return self._no_token()

    def decided_by(self) -> bool:
        """On a way that the capture shows, a token fetched from server to server would need a fuller capture."""
        return not (self.attempt.way and self._fetched_by_itself)

    @property
    def _fetched_by_itself(self) -> bool:
        """Whether nothing of a token is in the capture: then the application fetched it from server to server."""
        attempt = self.attempt
        if attempt.kind != "answer" or attempt.main.damage:
            return False
        return not (self.token or self.error or self.opening or attempt.token_response or attempt.of("access-token"))

    def _no_token(self) -> str:
        if self.error:
            return "the provider sent an error and no token"
        if self.opening:
            return "the token is encrypted and could not be opened"
        if self.attempt.token_response:
            return lack("the token response holds no ID token", Allows.SERVER_MESSAGE)
        if self.attempt.of("access-token"):
            return "only an opaque access token is in this capture, which says nothing to anybody but its maker"
        return lack("no ID token is in this capture: the application fetches it by itself", Allows.SERVER_MESSAGE)


def values_of(value: Any) -> tuple[str, ...]:
    """A claim's values as texts: structures as JSON, null as an empty value."""
    if value is None:
        return ("",)
    if isinstance(value, dict):
        return (json.dumps(value, ensure_ascii=False),)
    return texts(value)
