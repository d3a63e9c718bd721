"""The captured exchanges by OpenID Connect of the fortnight: those that work, and those that break in their own way."""

from __future__ import annotations

import base64
import hashlib
import json
import random
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime
from html import escape
from typing import Any
from urllib.parse import urlencode

from trace_lens.demo.captured import Capture
from trace_lens.demo.clients import AUTHORIZE, CLIENT, CURRENT, ISSUER, LOGOUT, RETIRED, TOKEN, Client, subject_of
from trace_lens.demo.diary import Entry, put_down
from trace_lens.demo.keys import SigningKey
from trace_lens.demo.tokens import encrypt, half, sign, to_base64url

_LOGOUT: dict[str, dict[str, str]] = {"http://schemas.openid.net/event/backchannel-logout": {}}


class CodeExchange:
    """One sign-in by the code flow; what is drawn comes from the demo's seed."""

    def __init__(self, draw: random.Random, keys: dict[str, SigningKey], app: str, email: str, *at: int) -> None:
        self.client: Client = CLIENT[app]
        self.email = email
        self._keys = keys
        day, hour, minute = at
        self.issued = datetime(2026, 11, day, hour, minute, draw.randrange(60), tzinfo=UTC)
        names = ("code", "state", "nonce", "verifier", "access", "refresh", "session")
        self._drawn = {name: to_base64url(draw.randbytes(32 if name == "verifier" else 18)) for name in names}
        entry = Entry(email, self.client.redirect_uri, ISSUER, self.issued, self["state"], self["session"])
        put_down(draw, entry)

    def __getitem__(self, name: str) -> str:
        return self._drawn[name]

    @property
    def _challenge(self) -> str:
        return base64.urlsafe_b64encode(hashlib.sha256(self["verifier"].encode()).digest()).rstrip(b"=").decode()

    def request(self, **changes: str | None) -> str:
        """The authorization request, as an address."""
        made = {
            "response_type": "code",
            "client_id": self.client.client_id,
            "redirect_uri": self.client.redirect_uri,
            "scope": " ".join(self.client.scopes),
            "state": self["state"],
            "nonce": self["nonce"],
            "code_challenge": self._challenge,
            "code_challenge_method": "S256",
            **changes,
        }
        return f"{AUTHORIZE}?{_query(made)}"

    def answer(self, address: str | None = None, **changes: str | None) -> str:
        """The address that the browser comes back to."""
        return (
            f"{address or self.client.redirect_uri}?{_query({'code': self['code'], 'state': self['state'], **changes})}"
        )

    def redeem(self, **changes: str | None) -> str:
        """The token request, as an HTTP request without its headers."""
        made = {
            "grant_type": "authorization_code",
            "code": self["code"],
            "redirect_uri": self.client.redirect_uri,
            "client_id": self.client.client_id,
            "code_verifier": self["verifier"],
            **changes,
        }
        return f"POST {TOKEN}\n\n{_query(made)}"

    def claims(self, **changes: Any) -> dict[str, Any]:
        """The claims of the ID token."""
        issued = int(self.issued.timestamp())
        login = self.email.partition("@")[0]
        made = {
            "iss": ISSUER,
            "sub": subject_of(self.email),
            "aud": self.client.client_id,
            "iat": issued,
            "exp": issued + 3600,
            "auth_time": issued - 20,
            "nonce": self["nonce"],
            "acr": "password",
            "amr": ["pwd"],
            "sid": self["session"],
            "at_hash": half(self["access"]),
            "email": self.email,
            "email_verified": True,
            "name": login.replace(".", ". ").title(),
            **changes,
        }
        return {name: value for name, value in made.items() if value is not None}

    def token(self, signer: str = CURRENT, header: dict[str, str] | None = None, **changes: Any) -> str:
        """The ID token, signed with the provider's key."""
        return sign(self.claims(**changes), self._keys[signer].private, kid=signer, **(header or {}))

    def tokens(self, id_token: str | None, **changes: Any) -> str:
        """The token response."""
        made = {
            "access_token": self["access"],
            "token_type": "Bearer",
            "expires_in": 3600,
            "refresh_token": self["refresh"],
            "scope": " ".join(self.client.scopes),
            "id_token": id_token,
            **changes,
        }
        return json.dumps({name: value for name, value in made.items() if value is not None}, indent=1)


def _query(made: dict[str, str | None]) -> str:
    return urlencode({name: value for name, value in made.items() if value is not None})


def _refusal(code: str, words: str) -> str:
    return json.dumps({"error": code, "error_description": words})


def _capture(file: str, *parts: str) -> Capture:
    return Capture(file, ("\n\n".join(parts) + "\n").encode())


def token_captures(draw: random.Random, keys: dict[str, SigningKey]) -> Iterator[Capture]:
    """All captures of OpenID Connect, in the order of their applications."""
    tern, fulmar, plover = (f"{name}@northmere.example" for name in ("m.tern", "a.fulmar", "l.plover"))
    eider, gannet, dunlin = (f"{name}@northmere.example" for name in ("e.eider", "j.gannet", "k.dunlin"))

    exchange = CodeExchange(draw, keys, "slip-booking", gannet, 18, 7, 2)
    yield _capture(
        "30-slip-booking-works.txt",
        exchange.request(),
        exchange.answer(),
        exchange.redeem(),
        exchange.tokens(exchange.token()),
    )
    exchange = CodeExchange(draw, keys, "slip-booking", gannet, 18, 9, 47)
    wrong = to_base64url(draw.randbytes(32))
    yield _capture(
        "31-slip-booking-verifier.txt",
        exchange.request(),
        exchange.answer(),
        exchange.redeem(code_verifier=wrong),
        _refusal("invalid_grant", "code verification failed"),
    )
    exchange = CodeExchange(draw, keys, "slip-booking", plover, 19, 8, 15)
    bare = exchange.token(email=None, email_verified=None)
    yield _capture(
        "32-slip-booking-scope.txt",
        exchange.request(scope="openid profile"),
        exchange.answer(),
        exchange.redeem(),
        exchange.tokens(bare, scope="openid profile"),
    )
    exchange = CodeExchange(draw, keys, "slip-booking", plover, 19, 10, 1)
    yield _capture("33-slip-booking-email-unverified.txt", exchange.token(email_verified=False))

    exchange = CodeExchange(draw, keys, "weather-desk", eider, 18, 5, 30)
    yield _capture("34-weather-desk-works.txt", exchange.tokens(exchange.token(groups=["grp-staff", "grp-charts"])))
    exchange = CodeExchange(draw, keys, "weather-desk", fulmar, 18, 6, 11)
    elsewhere: dict[str, Any] = {
        "_claim_names": {"groups": "directory"},
        "_claim_sources": {"directory": {"endpoint": f"{ISSUER}/groups"}},
    }
    yield _capture("35-weather-desk-too-many-groups.txt", f"Authorization: Bearer {exchange.token(**elsewhere)}")
    exchange = CodeExchange(draw, keys, "weather-desk", eider, 17, 6, 20)
    yield _capture("36-weather-desk-key-changed.txt", exchange.token(RETIRED, groups=["grp-staff"]))

    exchange = CodeExchange(draw, keys, "rope-store", dunlin, 10, 12, 9)
    yield _capture("37-rope-store-works.txt", exchange.token())
    exchange = CodeExchange(draw, keys, "rope-store", dunlin, 16, 7, 55)
    refused = _refusal("invalid_client", "client authentication failed")
    told = _capture("38-rope-store-secret-ended.txt", exchange.request(), exchange.answer(), exchange.redeem(), refused)
    yield replace(told, arrived=exchange.issued)

    exchange = CodeExchange(draw, keys, "gangway", tern, 19, 4, 58)
    port = "http://127.0.0.1:51763/callback"
    yield _capture(
        "39-gangway-works-loopback.txt",
        exchange.request(redirect_uri=port),
        exchange.answer(port),
        exchange.redeem(redirect_uri=port),
        exchange.tokens(exchange.token()),
    )
    exchange = CodeExchange(draw, keys, "gangway", tern, 19, 5, 1)
    yield _capture(
        "40-gangway-code-twice.txt",
        exchange.request(redirect_uri=port),
        exchange.answer(port),
        exchange.redeem(redirect_uri=port),
        exchange.redeem(redirect_uri=port),
        _refusal("invalid_grant", "the code has been redeemed"),
    )

    exchange = CodeExchange(draw, keys, "night-watch", fulmar, 20, 21, 30)
    watch = keys["night-watch"].private.public_key()
    closed = encrypt(exchange.token(acr="two-factors", amr=["pwd", "otp"]), watch, kid="night-watch")
    yield _capture(
        "41-night-watch-works-encrypted.txt",
        exchange.request(),
        exchange.answer(),
        exchange.redeem(),
        exchange.tokens(closed),
    )
    exchange = CodeExchange(draw, keys, "night-watch", fulmar, 20, 22, 4)
    weak = encrypt(exchange.token(), watch, kid="night-watch")
    yield _capture(
        "42-night-watch-second-factor.txt",
        exchange.request(),
        exchange.answer(),
        exchange.redeem(),
        exchange.tokens(weak),
    )

    exchange = CodeExchange(draw, keys, "parcel-lockers", plover, 18, 13, 40)
    access = exchange.token(
        header={"typ": "at+jwt"},
        aud="https://api.parcels.northmere.example",
        nonce=None,
        at_hash=None,
        auth_time=None,
        client_id=exchange.client.client_id,
        scope="parcels.read",
    )
    yield _capture("43-parcel-lockers-access-token.txt", exchange.tokens(access))
    exchange = CodeExchange(draw, keys, "parcel-lockers", plover, 18, 14, 2)
    fields = {"id_token": exchange.token(at_hash=None), "state": exchange["state"]}
    inputs = "".join(f'<input type="hidden" name="{name}" value="{escape(value)}"/>' for name, value in fields.items())
    yield _capture(
        "44-parcel-lockers-works-form-post.html",
        f'<form method="post" action="{exchange.client.redirect_uri}">{inputs}</form>',
    )
    exchange = CodeExchange(draw, keys, "parcel-lockers", plover, 18, 14, 30)
    yield _capture(
        "45-parcel-lockers-opaque.txt",
        exchange.request(scope="profile email"),
        exchange.answer(),
        exchange.redeem(),
        exchange.tokens(None, scope="profile email"),
    )

    exchange = CodeExchange(draw, keys, "deck-log", tern, 19, 18, 8)
    yield _capture(
        "46-deck-log-port.txt",
        exchange.request(redirect_uri="https://log.northmere.example/callback"),
        "https://id.northmere.example/error?"
        + _query(
            {
                "error": "invalid_request",
                "error_description": "redirect_uri is not registered",
                "state": exchange["state"],
            }
        ),
    )
    exchange = CodeExchange(draw, keys, "deck-log", tern, 20, 6, 40)
    yield _capture("47-deck-log-works-powerful.txt", exchange.token(role="chief-mate"))
    exchange = CodeExchange(draw, keys, "deck-log", plover, 20, 7, 12)
    yield _capture(
        "48-deck-log-refused.txt",
        exchange.request(),
        exchange.answer(code=None, error="access_denied", error_description="N-2207 no assignment"),
    )
    exchange = CodeExchange(draw, keys, "deck-log", tern, 20, 8, 30)
    ended = int(exchange.issued.timestamp()) + 7200
    out = {
        "iss": ISSUER,
        "aud": exchange.client.client_id,
        "iat": ended,
        "exp": ended + 120,
        "jti": exchange["code"],
        "sid": exchange["refresh"],
        "events": _LOGOUT,
    }
    yield _capture(
        "49-deck-log-sign-out.txt",
        exchange.token(role="master"),
        "logout_token=" + sign(out, keys[CURRENT].private, kid=CURRENT, typ="logout+jwt"),
        f"{LOGOUT}?{_query({'id_token_hint': exchange.token(role='master')})}",
    )
