"""JSON Web Encryption opened with the recipient's key (RFC 7516 §5.2, RFC 7518 §4 and §5).

Whether the tag or the padding was at fault is never told apart. `zip`, counts without bound, and algorithms that are
not in the tables are refused; weak ones are opened all the same, and named by `weak_parts`.
"""

from __future__ import annotations

import hashlib
import hmac
from functools import partial
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa, x448, x25519
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.keywrap import InvalidUnwrap, aes_key_unwrap

from trace_lens.common import limits, recorded
from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.jose import Jwe, critical_names, from_base64url
from trace_lens.oidc.jwk import read_jwk
from trace_lens.pki.public_keys import octets_of

_GCM = {"A128GCM": 16, "A192GCM": 24, "A256GCM": 32}
_CBC = {"A128CBC-HS256": (32, "sha256"), "A192CBC-HS384": (48, "sha384"), "A256CBC-HS512": (64, "sha512")}
_WRAPS = {"A128KW": 16, "A192KW": 24, "A256KW": 32}
_OAEP: dict[str, hashes.HashAlgorithm] = {
    "RSA-OAEP": hashes.SHA1(),
    "RSA-OAEP-256": hashes.SHA256(),
    "RSA-OAEP-384": hashes.SHA384(),
    "RSA-OAEP-512": hashes.SHA512(),
}

Recipient = Any
"""A private key of RSA, EC, X25519 or X448, or the octets of a shared secret."""


class Refused(Exception):
    """A form or algorithm that must not be, or cannot be, opened; the message completes `because …`."""


class NotForKey(Exception):
    """It is encrypted to another key than the one given."""


class Broken(Exception):
    """The key is right, and what comes out is not intact."""


class _Content(NamedTuple):
    """How the content is encrypted: the size of its key in bytes, and whether in CBC mode with an HMAC."""

    size: int
    mac: str | None


def weak_parts(header: dict[str, Any]) -> tuple[str, ...]:
    """The methods of a JWE that attacks are known for."""
    found = []
    if header.get("alg") == "RSA1_5":
        found.append("RSA 1.5 key transport")
    return tuple(found)


def refusal(header: dict[str, Any]) -> str | None:
    """Why a JWE with this header must not be opened, whatever the key; None where it may be."""
    alg, enc = header.get("alg"), header.get("enc")
    if "zip" in header:
        return "it is compressed (zip), which is not unfolded"
    if "crit" in header:
        return f"its header demands {critical_names(header['crit'])}, which is not understood"
    for name, value in (("alg", alg), ("enc", enc)):
        if value is not None and not isinstance(value, str):
            return f"its {name} is no text"
    if isinstance(alg, str) and alg.startswith("PBES2"):
        count = header.get("p2c")
        if not isinstance(count, int) or isinstance(count, bool):
            return "its key is derived from a password, and p2c does not say in how many rounds"
        if count > limits.PBES2_COUNT:
            return f"its key is derived from a password in {count:,} rounds; at most {limits.PBES2_COUNT:,} are done"
        return "its key is derived from a password, and no password is on record"
    known = {
        *_OAEP,
        "RSA1_5",
        "dir",
        "ECDH-ES",
        *_WRAPS,
        *(f"ECDH-ES+{wrap}" for wrap in _WRAPS),
        "A128GCMKW",
        "A192GCMKW",
        "A256GCMKW",
    }
    if alg not in known:
        return f"its key is encrypted by {alg or 'an algorithm that is not named'}"
    if enc not in _GCM and enc not in _CBC:
        return f"its content is encrypted by {enc or 'an algorithm that is not named'}"
    return None


def decrypt(jwe: Jwe, key: Recipient) -> bytes:
    """The octets inside. Raises Refused, NotForKey or Broken."""
    return recorded.opened(partial(_key_octets, key), jwe.ciphertext, lambda: _decrypt(jwe, key), Broken)


def _key_octets(key: Recipient) -> bytes:
    """What stands for a key where a verdict is kept: its public half, of a shared secret only that it is one."""
    if isinstance(key, bytes):
        return b"shared"
    return octets_of(key.public_key())


def _decrypt(jwe: Jwe, key: Recipient) -> bytes:
    reason = refusal(jwe.header)
    if reason:
        raise Refused(reason)
    enc = str(jwe.header["enc"])
    content = _Content(_GCM[enc], None) if enc in _GCM else _Content(*_CBC[enc])
    return _open(jwe, content, _content_key(jwe, key, content.size))


def _content_key(jwe: Jwe, key: Recipient, size: int) -> bytes:
    alg = str(jwe.header["alg"])
    if alg in ("dir", "ECDH-ES") and jwe.encrypted_key:
        raise Broken
    try:
        if isinstance(key, rsa.RSAPrivateKey) and (alg in _OAEP or alg == "RSA1_5"):
            way: padding.AsymmetricPadding = padding.PKCS1v15()
            if alg in _OAEP:
                way = padding.OAEP(padding.MGF1(_OAEP[alg]), _OAEP[alg], None)
            opened = key.decrypt(jwe.encrypted_key, way)
        elif alg.startswith("ECDH-ES"):
            opened = _agreed(jwe, key, alg, size)
        elif isinstance(key, bytes) and alg == "dir":
            opened = key
        elif isinstance(key, bytes) and alg in _WRAPS:
            opened = aes_key_unwrap(key, jwe.encrypted_key)
        elif isinstance(key, bytes) and alg.endswith("GCMKW"):
            vector, tag = (from_base64url(str(jwe.header.get(name, "")))[0] for name in ("iv", "tag"))
            opened = AESGCM(key).decrypt(vector, jwe.encrypted_key + tag, None)
        else:
            raise NotForKey(f"{alg} needs another kind of key")
    except (ValueError, InvalidUnwrap, InvalidTag):
        raise NotForKey("it does not open its key") from None
    if len(opened) != size:
        raise NotForKey("what it opens is no key of the right size")
    return opened


def _agreed(jwe: Jwe, key: Recipient, alg: str, size: int) -> bytes:
    """Key agreement (RFC 7518 §4.6, RFC 8037 §3.2), directly or with key wrapping."""
    ephemeral = read_jwk(jwe.header.get("epk")).public
    match key, ephemeral:
        case ec.EllipticCurvePrivateKey(), ec.EllipticCurvePublicKey() if key.curve.name == ephemeral.curve.name:
            shared = key.exchange(ec.ECDH(), ephemeral)
        case x25519.X25519PrivateKey(), x25519.X25519PublicKey():
            shared = key.exchange(ephemeral)
        case x448.X448PrivateKey(), x448.X448PublicKey():
            shared = key.exchange(ephemeral)
        case _:
            raise NotForKey("its ephemeral key is of another curve")
    wrap = alg.partition("+")[2]
    derived = _derive(jwe, shared, str(jwe.header["enc"]) if not wrap else alg, size if not wrap else _WRAPS[wrap])
    return aes_key_unwrap(derived, jwe.encrypted_key) if wrap else derived


def _derive(jwe: Jwe, shared: bytes, name: str, size: int) -> bytes:
    """The Concat KDF of RFC 7518 §4.6.2 with SHA-256."""

    def counted(octets: bytes) -> bytes:
        return len(octets).to_bytes(4) + octets

    parties = [from_base64url(str(jwe.header.get(party, "")))[0] for party in ("apu", "apv")]
    info = counted(name.encode()) + b"".join(map(counted, parties)) + (size * 8).to_bytes(4)
    out = b""
    for round_ in range(1, -(-size // 32) + 1):
        out += hashlib.sha256(round_.to_bytes(4) + shared + info).digest()
    return out[:size]


def _open(jwe: Jwe, content: _Content, key: bytes) -> bytes:
    try:
        if content.mac is None:
            return AESGCM(key).decrypt(jwe.vector, jwe.ciphertext + jwe.tag, jwe.aad)
        half = content.size // 2
        length = (len(jwe.aad) * 8).to_bytes(8)
        made = hmac.new(key[:half], jwe.aad + jwe.vector + jwe.ciphertext + length, content.mac).digest()[:half]
        if not hmac.compare_digest(made, jwe.tag):
            raise Broken
        decryptor = Cipher(algorithms.AES(key[half:]), modes.CBC(jwe.vector)).decryptor()
        plain = decryptor.update(jwe.ciphertext) + decryptor.finalize()
        if not plain or not 1 <= plain[-1] <= 16 or plain[-plain[-1] :] != bytes([plain[-1]]) * plain[-1]:
            raise Broken
        return plain[: -plain[-1]]
    except (InvalidTag, ValueError):
        raise Broken from None
