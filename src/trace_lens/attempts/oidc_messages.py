"""Messages of OpenID Connect and OAuth 2.0 as read: parameters, tokens, documents, each with its source."""

from __future__ import annotations

from functools import partial
from typing import Any

from trace_lens.common.guarding import Faults
from trace_lens.common.kinds import KINDS, PARAMETER_KINDS, TOKEN_KINDS
from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.carried import BEARER, EXCHANGE
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.oauth_pieces import NAMED, OPAQUE, parameters_of
from trace_lens.intake.peeling import Peeled
from trace_lens.oidc.jose import JoseDamaged, Jwe, read_jwe, read_jws
from trace_lens.oidc.parameters import Parameters
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.oidc.tokens import NoClaims, Token, code_challenge, half_hashes, read_token

CAPTURES = ("har", "header-dump")
"""The kinds of what is no message but a capture of the way."""


class OidcMessage(NamedTuple):
    """One message of a source. `damage` (a code and the reason) is set where it cannot be read.

    `content` is a Token, a Jwe, Parameters, or the members of a document; `within` the message that it stands in.
    """

    source: str
    found: FoundMessage
    content: Token | Jwe | Parameters | dict[str, Any] | None = None
    damage: tuple[str, str] | None = None
    within: OidcMessage | None = None

    @property
    def exchange(self) -> int | None:
        """The number of the exchange that carried it; None where it comes from no capture."""
        number = self.found.context.get(EXCHANGE)
        return int(number) if number is not None else None

    @property
    def kind(self) -> str:
        """The kind of message."""
        return self.found.kind

    @property
    def place(self) -> Location:
        """Where in the source it stands."""
        return self.found.where or Location(part="the whole")

    @property
    def named(self) -> str:
        """The parameter or member that it stood in, where that says what it should be: `id_token`, `access_token`."""
        return self.found.context.get(NAMED, "")

    @property
    def parameters(self) -> Parameters | None:
        """Its parameters, where it is made of such."""
        return self.content if isinstance(self.content, Parameters) else None

    @property
    def token(self) -> Token | None:
        """The token that it is."""
        return self.content if isinstance(self.content, Token) else None

    @property
    def document(self) -> dict[str, Any]:
        """Its members, where it is a JSON document."""
        return self.content if isinstance(self.content, dict) else {}

    def get(self, name: str) -> str | None:
        """A parameter or member as text."""
        if isinstance(self.content, Parameters):
            return self.content.get(name)
        value = self.document.get(name) if isinstance(self.content, dict) else None
        if isinstance(self.content, Token):
            value = self.content.claims.get(name)
        return str(value) if isinstance(value, str | int | float) and not isinstance(value, bool) else None

    @property
    def keys(self) -> set[str]:
        """The values by which it surely belongs to other messages: what one try at signing in makes, and no other.

        A session id, a subject, an address are none: they span applications and tries. State and nonce are asked for
        apart (`weak_keys`), since an application may use one for ever.
        """
        found = {f"{name} {value}" for name in ("code", "request_uri", "device_code") if (value := self.get(name))}
        verifier, challenge, code = self.get("code_verifier"), self.get("code_challenge"), self.get("code")
        if verifier:
            found.add(f"challenge {code_challenge(verifier)}")
        if challenge:
            found.add(f"challenge {challenge}")
        for name in ("access_token", "id_token", "refresh_token"):
            if value := self.get(name):
                found.add(f"token {value}")
        for value in (self.get("access_token"), code):
            found |= {f"hash {digest}" for digest in half_hashes(value)} if value else set()
        if self.token:
            found.add(f"token {self.token.jws.text}")
            found |= {f"hash {value}" for name in ("at_hash", "c_hash") if (value := self.token.text(name))}
        bearer = self.found.context.get(BEARER)
        return found | ({f"token {bearer}"} if bearer else set())

    @property
    def weak_keys(self) -> set[str]:
        """State and nonce: they join messages unless they are seen with two codes."""
        return {f"{name} {value}" for name in ("state", "nonce") if (value := self.get(name))}

    @property
    def session(self) -> str | None:
        """The session at the provider (`sid`), by which only sign-outs look for their sign-in."""
        return self.token.text("sid") if self.token else self.get("sid")

    @property
    def signs_out(self) -> bool:
        """Whether it ends a session."""
        return self.kind in ("logout-token", "logout-request")


def read_oidc(source: str, peeled: Peeled, faults: Faults) -> list[OidcMessage]:
    """The messages of a source by OpenID Connect, each linked to the one that it stands in; those that make the program
    fail are told to `faults`.
    """
    made: dict[int, OidcMessage] = {}
    for position, found in enumerate(peeled.found):
        if found.kind not in KINDS:
            continue
        message = faults.attempt(source, f"reading {found.where or 'it'}", partial(_read, source, found))
        if message is not None:
            within = made.get(found.within) if found.within is not None else None
            made[position] = message._replace(within=within)
    return list(made.values())


def _read(source: str, found: FoundMessage) -> OidcMessage:
    try:
        if found.kind in PARAMETER_KINDS and found.data[:3] != b"eyJ":
            return OidcMessage(source, found, parameters_of(found))
        if OPAQUE in found.context:
            return OidcMessage(source, found, {})
        if found.kind == "jwe":
            return OidcMessage(source, found, read_jwe(found.data.decode("utf-8", "replace")))
        if found.kind in TOKEN_KINDS or found.data[:3] == b"eyJ":
            return OidcMessage(source, found, read_token(read_jws(found.data.decode("utf-8", "replace"))))
        document = read_json(found.data).value
        return OidcMessage(source, found, document if isinstance(document, dict) else {})
    except (JoseDamaged, JsonDamaged) as error:
        code = "capture-truncated" if error.truncated else "malformed-message"
        return OidcMessage(source, found, damage=(code, error.reason))
    except NoClaims as error:
        return OidcMessage(source, found, damage=("malformed-message", str(error)))
