"""JSON Web Keys and key sets (RFC 7517, RFC 7518 §6, RFC 8037 §2), each key read once; thumbprints (RFC 7638).

A key that cannot be read stays in the set with the reason: one broken key must not hide the good ones.
"""

from __future__ import annotations

import hashlib
import json
from typing import TYPE_CHECKING, Any

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa, x448, x25519

from trace_lens.common import limits
from trace_lens.common.limits import Refused
from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.jose import from_base64url, to_base64url
from trace_lens.pki.certificates import Certificate, certificate_or_none, key_weakness
from trace_lens.pki.pem import certificate_from_base64
from trace_lens.pki.small_order import has_small_order

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes, PublicKeyTypes

_CURVES: dict[str, ec.EllipticCurve] = {
    "P-256": ec.SECP256R1(),
    "P-384": ec.SECP384R1(),
    "P-521": ec.SECP521R1(),
    "secp256k1": ec.SECP256K1(),
}
_OKP_PUBLIC: dict[str, Any] = {
    "Ed25519": ed25519.Ed25519PublicKey,
    "Ed448": ed448.Ed448PublicKey,
    "X25519": x25519.X25519PublicKey,
    "X448": x448.X448PublicKey,
}
_OKP_PRIVATE: dict[str, Any] = {
    "Ed25519": ed25519.Ed25519PrivateKey,
    "Ed448": ed448.Ed448PrivateKey,
    "X25519": x25519.X25519PrivateKey,
    "X448": x448.X448PrivateKey,
}
_THUMBPRINT_MEMBERS = {
    "RSA": ("e", "kty", "n"),
    "EC": ("crv", "kty", "x", "y"),
    "OKP": ("crv", "kty", "x"),
    "oct": ("k", "kty"),
}


class Jwk(NamedTuple):
    """One key: what its members say, the key itself, and why it cannot be used, where it cannot.

    `public` is None for symmetric keys, which stand in `secret`, and for keys that cannot be read. `place` is its
    position in the set, as a JSON pointer.
    """

    members: dict[str, Any]
    place: str
    public: PublicKeyTypes | None = None
    private: PrivateKeyTypes | None = None
    secret: bytes | None = None
    problem: str | None = None

    def _text(self, name: str) -> str | None:
        value = self.members.get(name)
        return value if isinstance(value, str) else None

    @property
    def id(self) -> str | None:
        """Its `kid`."""
        return self._text("kid")

    @property
    def type(self) -> str | None:
        """Its `kty`."""
        return self._text("kty")

    @property
    def use(self) -> str | None:
        """Its `use`: sig or enc; told by `key_ops` where it is not set."""
        operations = self.members.get("key_ops")
        if self._text("use") is None and isinstance(operations, list):
            return "sig" if {"verify", "sign"} & set(map(str, operations)) else "enc"
        return self._text("use")

    @property
    def algorithm(self) -> str | None:
        """Its `alg`."""
        return self._text("alg")

    @property
    def for_signing(self) -> bool:
        """Whether signatures may be judged by it: it can be read and is not set aside for encryption."""
        return self.use != "enc" and (self.public is not None or self.secret is not None)

    @property
    def weakness(self) -> str | None:
        """What is weak about it, or None."""
        return key_weakness(self.public) if self.public else None

    @property
    def certificate(self) -> Certificate | None:
        """The first certificate of `x5c`."""
        chain = self.members.get("x5c")
        text = chain[0] if isinstance(chain, list) and chain else None
        return certificate_or_none(certificate_from_base64(text).der) if isinstance(text, str) else None

    @property
    def words(self) -> str:
        """How a sentence names it."""
        kind = f" ({self.type})" if self.type else ""
        return f"{self.id or thumbprint(self) or 'without a kid'}{kind}"


def read_key_set(document: Any, *, own: bool = False) -> tuple[Jwk, ...]:
    """The keys of a key set, or of a single JWK; what is no key at all is kept with the reason.

    The private parts are read of our `own` keys only: for those of others they serve nothing, and cost much to check.
    Raises Refused where the keys are too many.
    """
    if isinstance(document, dict) and isinstance(document.get("keys"), list):
        listed = document["keys"]
        if len(listed) > limits.KEYS_OF_SET:
            raise Refused(f"it is a key set of {len(listed):,} keys; at most {limits.KEYS_OF_SET:,} are read")
        return tuple(read_jwk(members, f"/keys/{number}", own=own) for number, members in enumerate(listed))
    return (read_jwk(document, own=own),) if isinstance(document, dict) and "kty" in document else ()


def read_jwk(members: Any, place: str = "", *, own: bool = False) -> Jwk:
    """One key, its private part only where it is our `own`; `problem` says why it cannot be used, where it cannot."""
    if not isinstance(members, dict):
        return Jwk({}, place, problem="it is no JSON object")
    key = Jwk(members, place)
    certificate = key.certificate
    if certificate and not {"n", "x"} & members.keys():
        return key._replace(public=certificate.public_key)
    try:
        match members.get("kty"):
            case "RSA":
                return _rsa(key, own)
            case "EC":
                return _ec(key, own)
            case "OKP":
                return _okp(key, own)
            case "oct":
                return key._replace(secret=_octets(members, "k"))
            case None:
                return key._replace(problem="it has no kty")
            case other:
                return key._replace(problem=f"its kty {other} is not known")
    except (ValueError, UnsupportedAlgorithm) as error:
        return key._replace(problem=str(error) or "its values make no key")


def _octets(members: dict[str, Any], name: str) -> bytes:
    value = members.get(name)
    if not isinstance(value, str) or not value:
        raise ValueError(f"it has no {name}")
    try:
        return from_base64url(value)[0]
    except ValueError:
        raise ValueError(f"its {name} is not base64url") from None


def _number(members: dict[str, Any], name: str) -> int:
    return int.from_bytes(_octets(members, name))


def _rsa(key: Jwk, own: bool) -> Jwk:
    members = key.members
    numbers = rsa.RSAPublicNumbers(_number(members, "e"), _number(members, "n"))
    if numbers.n.bit_length() > limits.RSA_BITS:
        raise ValueError(f"its modulus has {numbers.n.bit_length():,} bits; at most {limits.RSA_BITS:,} are used")
    key = key._replace(public=numbers.public_key())
    if "d" not in members or not own:
        return key
    d = _number(members, "d")
    if "p" in members and "q" in members:
        p, q = _number(members, "p"), _number(members, "q")
    else:
        p, q = rsa.rsa_recover_prime_factors(numbers.n, numbers.e, d)
    private = rsa.RSAPrivateNumbers(
        p, q, d, rsa.rsa_crt_dmp1(d, p), rsa.rsa_crt_dmq1(d, q), rsa.rsa_crt_iqmp(p, q), numbers
    )
    return key._replace(private=private.private_key())


def _ec(key: Jwk, own: bool) -> Jwk:
    curve = _CURVES.get(str(key.members.get("crv")))
    if curve is None:
        raise ValueError(f"its curve {key.members.get('crv')} is not known")
    numbers = ec.EllipticCurvePublicNumbers(_number(key.members, "x"), _number(key.members, "y"), curve)
    key = key._replace(public=numbers.public_key())
    if "d" in key.members and own:
        key = key._replace(private=ec.EllipticCurvePrivateNumbers(_number(key.members, "d"), numbers).private_key())
    return key


def _okp(key: Jwk, own: bool) -> Jwk:
    name = str(key.members.get("crv"))
    if name not in _OKP_PUBLIC:
        raise ValueError(f"its curve {name} is not known")
    octets = _octets(key.members, "x")
    if name == "Ed25519" and has_small_order(octets):
        raise ValueError("it is a point of small order, by which anybody can make signatures")
    key = key._replace(public=_OKP_PUBLIC[name].from_public_bytes(octets))
    if "d" in key.members and own:
        key = key._replace(private=_OKP_PRIVATE[name].from_private_bytes(_octets(key.members, "d")))
    return key


def thumbprint(key: Jwk) -> str | None:
    """The SHA-256 thumbprint in base64url (RFC 7638 §3); None where a member that it is made of is lacking."""
    names = _THUMBPRINT_MEMBERS.get(key.type or "")
    if names is None or not all(isinstance(key.members.get(name), str) for name in names):
        return None
    bare = json.dumps({name: key.members[name] for name in names}, separators=(",", ":"), sort_keys=True)
    return to_base64url(hashlib.sha256(bare.encode()).digest())
