"""JSON Web Signature and Encryption, taken apart: header, payload, signing input (RFC 7515, RFC 7516).

Nothing is verified or decrypted here. What is no JWS or JWE that may be read is refused with the reason; what is odd in
one that can be read stands in `problems`.
"""

from __future__ import annotations

import base64
import binascii
import json
import re
from typing import Any

from trace_lens.common import limits
from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.strict_json import JsonDamaged, read_json


class JoseDamaged(ValueError):
    """The text is no JWS or JWE that can be read. `truncated` says that it stops before its end."""

    def __init__(self, reason: str, *, truncated: bool = False) -> None:
        super().__init__(reason)
        self.reason = reason
        self.truncated = truncated


class Jws(NamedTuple):
    """A JWS (RFC 7515): its protected header, payload, what was signed, the signature value, and what is odd in it.

    `unprotected` is the header outside of the signature, which the JSON form may have.
    """

    text: str
    header: dict[str, Any]
    payload: bytes
    signing_input: bytes
    signature: bytes
    problems: tuple[str, ...] = ()
    unprotected: dict[str, Any] = {}  # noqa: RUF012  an empty default that nothing writes to

    @property
    def algorithm(self) -> str:
        """The `alg` of the protected header, else an empty text."""
        value = self.header.get("alg")
        return value if isinstance(value, str) else ""

    @property
    def key_id(self) -> str | None:
        """The `kid` of the header."""
        value = self.header.get("kid", self.unprotected.get("kid"))
        return str(value) if value is not None else None


class Jwe(NamedTuple):
    """A JWE (RFC 7516): its protected header and the five parts; `aad` is what was authenticated beside."""

    text: str
    header: dict[str, Any]
    encrypted_key: bytes
    vector: bytes
    ciphertext: bytes
    tag: bytes
    aad: bytes


def from_base64url(text: str) -> tuple[bytes, bool]:
    """Octets of base64url without padding (RFC 7515 §2), and whether they had to be read leniently.

    Lenient are padding, the other alphabet, and bits set that no octet holds. Raises ValueError.
    """
    bare = text.rstrip("=").replace("+", "-").replace("/", "_")
    lenient = bare != text
    if not re.fullmatch(r"[A-Za-z0-9_-]*", bare) or len(bare) % 4 == 1:
        raise ValueError("it is not base64url")
    octets = base64.urlsafe_b64decode(bare + "=" * (-len(bare) % 4))
    return octets, lenient or to_base64url(octets) != bare


def critical_names(value: Any) -> str:
    """What a `crit` demands, in words: a list of names (RFC 7515 §4.1.11), or what stands there instead."""
    if isinstance(value, list) and value:
        return ", ".join(map(str, value))
    return "nothing (an empty list)" if value == [] else f"{json.dumps(value, default=str)} (no list of names)"


def to_base64url(octets: bytes) -> str:
    """Base64url without padding."""
    return base64.urlsafe_b64encode(octets).rstrip(b"=").decode()


def read_jws(text: str) -> Jws:
    """A JWS in compact or JSON form. Raises JoseDamaged."""
    _bounded(text)
    if text.lstrip()[:1] == "{":
        return _json_jws(text)
    parts = text.split(".")
    if len(parts) == 2 or (len(parts) == 3 and not parts[2] and _algorithm_of(parts[0]) not in ("none", "", None)):
        raise JoseDamaged("it stops before its signature", truncated=True)
    if len(parts) != 3:
        raise JoseDamaged(f"it has {len(parts)} parts where a JWS has three")
    return _jws(text, parts[0], parts[1], parts[2])


def _jws(text: str, protected: str, payload: str, signature: str, unprotected: dict[str, Any] | None = None) -> Jws:
    problems: list[str] = []
    header = _header(protected, problems)
    return Jws(
        text=text,
        header=header,
        payload=_part(payload, "payload", problems),
        signing_input=f"{protected}.{payload}".encode(),
        signature=_part(signature, "signature", problems),
        problems=tuple(problems),
        unprotected=unprotected or {},
    )


def _json_jws(text: str) -> Jws:
    """The flattened form, or the general form with exactly one signature (RFC 7515 §7.2)."""
    whole = _object(text)
    signatures = whole.get("signatures")
    if "signatures" in whole:
        mixed = [name for name in ("signature", "protected", "header") if name in whole]
        if mixed:
            raise JoseDamaged(
                f"it has signatures and, beside them, {', '.join(mixed)}: two forms in one (RFC 7515 §7.2)"
            )
        if not isinstance(signatures, list) or len(signatures) != 1 or not isinstance(signatures[0], dict):
            count = len(signatures) if isinstance(signatures, list) else "no list of"
            raise JoseDamaged(f"it has {count} signatures; a token has one")
        whole = {"payload": whole.get("payload"), **signatures[0]}
    parts = [whole.get(name) for name in ("protected", "payload", "signature")]
    if not all(isinstance(part, str) for part in parts):
        raise JoseDamaged("it has no protected, payload or signature member")
    unprotected = whole.get("header", {})
    if not isinstance(unprotected, dict):
        raise JoseDamaged("its unprotected header is no JSON object")
    protected, payload, signature = map(str, parts)
    made = _jws(text, protected, payload, signature, unprotected)
    both = sorted(made.header.keys() & unprotected.keys())
    if both:
        raise JoseDamaged(f"{', '.join(both)} is in both its protected and its unprotected header (RFC 7515 §4)")
    return made


def read_jwe(text: str) -> Jwe:
    """A JWE in compact or flattened JSON form. Raises JoseDamaged."""
    _bounded(text)
    if text.lstrip()[:1] == "{":
        whole = _object(text)
        if "recipients" in whole and {"header", "encrypted_key"} & whole.keys():
            raise JoseDamaged("it has recipients and, beside them, an encrypted key: two forms in one (RFC 7516 §7.2)")
        names = ("protected", "encrypted_key", "iv", "ciphertext", "tag")
        parts = [str(whole.get(name) or "") for name in names]
        extra = whole.get("aad")
    else:
        parts, extra = text.split("."), None
    if len(parts) != 5:
        raise JoseDamaged(f"it has {len(parts)} parts where a JWE has five", truncated=len(parts) < 5)
    problems: list[str] = []
    header = _header(parts[0], problems)
    wrapped, vector, ciphertext, tag = (
        _part(part, name, problems)
        for part, name in zip(parts[1:], ("encrypted key", "initialization vector", "ciphertext", "tag"), strict=True)
    )
    aad = parts[0] + (f".{extra}" if isinstance(extra, str) else "")
    return Jwe(
        text=text, header=header, encrypted_key=wrapped, vector=vector, ciphertext=ciphertext, tag=tag, aad=aad.encode()
    )


def looks_encrypted(text: str) -> bool:
    """Whether a compact text has the five parts of a JWE."""
    return text.count(".") == 4


def _algorithm_of(protected: str) -> str | None:
    try:
        value = _header(protected, []).get("alg")
    except JoseDamaged:
        return None
    return value.strip().casefold() if isinstance(value, str) else None


def _bounded(text: str) -> None:
    if len(text) > limits.TOKEN_CHARACTERS:
        raise JoseDamaged(f"it has {len(text):,} characters; at most {limits.TOKEN_CHARACTERS:,} are read")


def _header(protected: str, problems: list[str]) -> dict[str, Any]:
    try:
        found = read_json(_part(protected, "header", problems))
    except JsonDamaged as error:
        raise JoseDamaged(f"its header is no JSON: {error.reason}", truncated=error.truncated) from None
    if not isinstance(found.value, dict):
        raise JoseDamaged("its header is no JSON object")
    if found.duplicates:
        raise JoseDamaged(f"its header names {', '.join(found.duplicates)} twice, which is forbidden")
    return found.value


def _part(text: str, name: str, problems: list[str]) -> bytes:
    try:
        octets, lenient = from_base64url(text)
    except (ValueError, binascii.Error):
        if len(text.rstrip("=")) % 4 == 1 and re.fullmatch(r"[A-Za-z0-9_+/=-]*", text):
            raise JoseDamaged(f"its {name} stops in the middle of an octet", truncated=True) from None
        raise JoseDamaged(f"its {name} is not base64url") from None
    if lenient:
        problems.append(
            f"its {name} is not base64url to the letter: padding, the other alphabet, or bits left over at its end"
        )
    return octets


def _object(text: str) -> dict[str, Any]:
    try:
        read = read_json(text.encode("utf-8", "surrogatepass"))
    except JsonDamaged as error:
        raise JoseDamaged(f"it is no JSON: {error.reason}", truncated=error.truncated) from None
    if not isinstance(read.value, dict):
        raise JoseDamaged("it is no JSON object")
    if read.duplicates:
        raise JoseDamaged(f"it names {', '.join(read.duplicates)} twice, which is forbidden (RFC 7515 §5.2)")
    return read.value
