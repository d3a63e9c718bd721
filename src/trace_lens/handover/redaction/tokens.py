"""Tokens, signatures, digests and artifacts: what says something is rewritten, what only proves it is made useless."""

from __future__ import annotations

import base64
import binascii

from trace_lens.common.expressions import expression
from trace_lens.handover.redaction.encodings import as_written, spread
from trace_lens.handover.redaction.places import CODE, TOKEN
from trace_lens.handover.redaction.rewriting import Rewrites
from trace_lens.handover.redaction.words import Words
from trace_lens.oidc.jose import from_base64url
from trace_lens.pki.certificates import certificate_or_none
from trace_lens.saml.artifact import is_artifact

_JWT = expression(r"[A-Za-z0-9_=-]{4,}(?:\.[A-Za-z0-9_=+/-]*){1,4}")
_BASE64 = expression(r"[A-Za-z0-9+/_\-]+={0,2}")
_ARTIFACT = 60
"""Characters of an artifact's 44 octets in base64."""
_OF_JWE = 5
"""Parts of an encrypted token."""


class Tokens:
    """Rewrites them. `stand_ins` are the octets that stand in for others, each with those it stands for."""

    def __init__(self, words: Words, rewrites: Rewrites) -> None:
        self._words, self._rewrites = words, rewrites
        self.stand_ins: dict[bytes, bytes] = {}

    def token(self, text: str, name: str, depth: int) -> str | None:
        """A JWS or JWE in its compact form (RFC 7515 §7.1, RFC 7516 §7.1), cut off or not."""
        if text.count(".") > 4 or not text.startswith(("ey", "e3", "ew", "IHsi", "CnsK")) or not _JWT.fullmatch(text):
            return None
        parts = text.split(".")
        header = self._json_part(parts[0], depth)
        if header is None:
            return None
        if len(parts) == _OF_JWE:
            rest = [part and self._octets_part(part, "encrypted") for part in parts[1:]]
        else:
            payload = self._json_part(parts[1], depth) if parts[1] else parts[1]
            rest = [payload if payload is not None else self._octets_part(parts[1], TOKEN)]
            rest += [part and self._octets_part(part, "signature") for part in parts[2:]]
        return self._words.note(TOKEN, text, ".".join([header, *rest]))

    def _json_part(self, part: str, depth: int) -> str | None:
        try:
            octets, lenient = from_base64url(part if len(part.rstrip("=")) % 4 != 1 else part[:-1])
            plain = octets.decode("utf-8", "strict" if len(part) % 4 != 1 else "ignore")
        except (ValueError, UnicodeDecodeError):
            return None
        if plain.lstrip()[:1] != "{":
            return None
        made = self._rewrites.in_json(plain, "", depth + 1)
        if made == plain:
            return part
        return as_written(made.encode("utf-8", "surrogatepass"), part, lenient=lenient)

    def _octets_part(self, part: str, kind: str) -> str:
        try:
            octets, lenient = from_base64url(part)
        except ValueError:
            return self._words.secret(part, kind)
        return self._words.note(kind, part, as_written(self.octets(octets), part, lenient=lenient))

    def artifact(self, text: str, name: str, depth: int) -> str | None:
        """An artifact (SAML 2.0 Bindings §3.6.4): the issuer that it names stays, its handle goes."""
        if len(text) != _ARTIFACT or not _BASE64.fullmatch(text):
            return None
        octets = base64.b64decode(text.replace("-", "+").replace("_", "/"))
        if not is_artifact(octets):
            return None
        made = octets[:24] + self._words.substitutes.octets(octets[24:])
        return self._words.note(CODE, text, base64.b64encode(made).decode())

    def octets(self, octets: bytes) -> bytes:
        made = self._words.substitutes.octets(octets)
        self.stand_ins[made] = octets
        return made

    def octets_in_base64(self, text: str, kind: str) -> str:
        """Octets in base64 with as many others in their place; what is no base64 is a secret as it stands."""
        bare = "".join(text.split())
        try:
            octets = base64.b64decode(bare, validate=True)
        except (binascii.Error, ValueError):
            return self._words.secret(text, kind)
        return self._words.note(kind, text, spread(base64.b64encode(self.octets(octets)).decode(), text))

    def certificate(self, text: str) -> str:
        try:
            der = base64.b64decode("".join(text.split()), validate=True)
        except (binascii.Error, ValueError):
            return self.octets_in_base64(text, TOKEN)
        if certificate_or_none(der) is None:
            return self.octets_in_base64(text, TOKEN)
        return text
