"""XML Encryption as SAML uses it: one EncryptedData, its key transported by RSA in an EncryptedKey inside or beside.

`decrypt` gives the octets that were encrypted, or says why not. Whether padding or the authentication tag was at fault
is never told apart (XML Encryption 1.1 §6.1.2). Algorithms that are weak are opened all the same, and named by
`weak_parts`; those that are not in the tables are refused.
"""

from __future__ import annotations

import base64
import binascii
from typing import TYPE_CHECKING

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding, rsa
from lxml import etree

from trace_lens.common import recorded
from trace_lens.common.tuples import NamedTuple
from trace_lens.pki.certificates import Certificate, certificate_or_none
from trace_lens.pki.pem import certificate_from_base64
from trace_lens.pki.public_keys import octets_of
from trace_lens.saml.names import ENCRYPTION, SIGNATURE, short
from trace_lens.saml.parsing import text_of

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.ciphers import Cipher, modes

_E = f"{{{ENCRYPTION}}}"
_D = f"{{{SIGNATURE}}}"
_ENC11 = "http://www.w3.org/2009/xmlenc11#"
_CBC = {ENCRYPTION + f"aes{size}-cbc": size // 8 for size in (128, 192, 256)}
_GCM = {_ENC11 + f"aes{size}-gcm": size // 8 for size in (128, 192, 256)}
_TRIPLE_DES = ENCRYPTION + "tripledes-cbc"
_RSA_15 = ENCRYPTION + "rsa-1_5"
_OAEP_MGF1P = ENCRYPTION + "rsa-oaep-mgf1p"
_OAEP = _ENC11 + "rsa-oaep"
_KEY_SIZES = {**_CBC, **_GCM, _TRIPLE_DES: 24}
_DIGESTS: dict[str, hashes.HashAlgorithm] = {
    "http://www.w3.org/2000/09/xmldsig#sha1": hashes.SHA1(),
    "http://www.w3.org/2001/04/xmldsig-more#sha224": hashes.SHA224(),
    "http://www.w3.org/2001/04/xmlenc#sha256": hashes.SHA256(),
    "http://www.w3.org/2001/04/xmldsig-more#sha384": hashes.SHA384(),
    "http://www.w3.org/2001/04/xmlenc#sha512": hashes.SHA512(),
}
_MASKS: dict[str, hashes.HashAlgorithm] = {
    _ENC11 + "mgf1sha1": hashes.SHA1(),
    _ENC11 + "mgf1sha224": hashes.SHA224(),
    _ENC11 + "mgf1sha256": hashes.SHA256(),
    _ENC11 + "mgf1sha384": hashes.SHA384(),
    _ENC11 + "mgf1sha512": hashes.SHA512(),
}
_WEAK = {
    _RSA_15: "RSA 1.5 key transport",
    _TRIPLE_DES: "Triple DES",
    **{uri: f"AES-{size * 8} in CBC mode" for uri, size in _CBC.items()},
}


class EncryptionRefused(Exception):
    """A form or algorithm that must not be, or cannot be, opened; the message completes `because …`."""


class OtherKey(Exception):
    """It is encrypted to another key than the one given.

    `hints` name whose, as far as the message tells; `prints` are the SHA-256 fingerprints of the certificates in it.
    """

    def __init__(self, hints: tuple[str, ...], prints: tuple[str, ...] = ()) -> None:
        super().__init__("encrypted to another key")
        self.hints = hints
        self.prints = prints


class DecryptionFailed(Exception):
    """The key is right, and what comes out is not intact."""


class _WrappedKey(NamedTuple):
    algorithm: str
    digest: hashes.HashAlgorithm
    mask: hashes.HashAlgorithm
    label: bytes | None
    octets: bytes
    certificates: tuple[bytes, ...]
    names: tuple[str, ...]


def weak_parts(holder: etree._Element) -> tuple[str, ...]:
    """The methods of an encrypted element that attacks are known for, in words."""
    found = (element.get("Algorithm") or "" for element in holder.iter(_E + "EncryptionMethod"))
    return tuple(dict.fromkeys(_WEAK[uri] for uri in found if uri in _WEAK))


def decrypt(holder: etree._Element, key: rsa.RSAPrivateKey) -> bytes:
    """The octets inside an EncryptedAssertion, EncryptedID or EncryptedAttribute.

    Raises EncryptionRefused, OtherKey or DecryptionFailed.
    """
    return recorded.opened(
        lambda: octets_of(key.public_key()),
        _ciphertext(holder),
        lambda: _decrypt(holder, key),
        DecryptionFailed,
    )


def _ciphertext(holder: etree._Element) -> bytes:
    """The octets of the content's ciphertext, empty where there are none that can be read."""
    data = holder.find(_E + "EncryptedData")
    try:
        return b"" if data is None else _octets(data)
    except (EncryptionRefused, DecryptionFailed):
        return b""


def _decrypt(holder: etree._Element, key: rsa.RSAPrivateKey) -> bytes:
    data = holder.find(_E + "EncryptedData")
    if data is None:
        raise EncryptionRefused("it holds no EncryptedData")
    method = data.find(_E + "EncryptionMethod")
    algorithm = (method.get("Algorithm") if method is not None else None) or ""
    if algorithm not in _KEY_SIZES:
        raise EncryptionRefused(f"its content is encrypted by {algorithm or 'an algorithm that is not named'}")
    wrapped = [_wrapped(element) for element in holder.iter(_E + "EncryptedKey")]
    if not wrapped:
        raise EncryptionRefused("it holds no EncryptedKey")
    content_key = _unwrap(wrapped, key, _KEY_SIZES[algorithm])
    return _open(algorithm, content_key, _octets(data))


def _octets(element: etree._Element) -> bytes:
    value = element.find(f"{_E}CipherData/{_E}CipherValue")
    if value is None:
        raise EncryptionRefused("its ciphertext is not in the message")
    try:
        return base64.b64decode("".join(text_of(value).split()), validate=True)
    except (binascii.Error, ValueError):
        raise DecryptionFailed from None


def _wrapped(element: etree._Element) -> _WrappedKey:
    method = element.find(_E + "EncryptionMethod")
    algorithm = (method.get("Algorithm") if method is not None else None) or ""
    if method is None or algorithm not in (_RSA_15, _OAEP_MGF1P, _OAEP):
        raise EncryptionRefused(f"its key is encrypted by {algorithm or 'an algorithm that is not named'}")
    digest = method.find(_D + "DigestMethod")
    mask = method.find(f"{{{_ENC11}}}MGF")
    label = method.findtext(_E + "OAEPparams")
    digest_uri = digest.get("Algorithm") if digest is not None else None
    mask_uri = mask.get("Algorithm") if mask is not None and algorithm == _OAEP else None
    if digest_uri not in (None, *_DIGESTS) or mask_uri not in (None, *_MASKS):
        raise EncryptionRefused(f"its key is encrypted with the parameter {digest_uri or mask_uri}")
    certificates = []
    for node in element.iter(_D + "X509Certificate"):
        pasted = certificate_from_base64(text_of(node))
        if pasted.der:
            certificates.append(pasted.der)
    return _WrappedKey(
        algorithm=algorithm,
        digest=_DIGESTS[digest_uri] if digest_uri else hashes.SHA1(),
        mask=_MASKS[mask_uri] if mask_uri else hashes.SHA1(),
        label=base64.b64decode(label) if label else None,
        octets=_octets(element),
        certificates=tuple(certificates),
        names=tuple(text_of(node).strip() for node in element.iter(_D + "KeyName")),
    )


def _unwrap(wrapped: list[_WrappedKey], key: rsa.RSAPrivateKey, size: int) -> bytes:
    """The content key from the first EncryptedKey that this key opens."""
    ours = key.public_key().public_numbers()
    hints: list[str] = []
    prints: list[str] = []
    named_us = False
    for label in wrapped:
        certified = [found for found in map(certificate_or_none, label.certificates) if found]
        prints += [str(found.sha256) for found in certified]
        hints += [f"{found.subject} ({found.sha256})" for found in certified] + list(label.names)
        theirs = [_public_numbers(found) for found in certified]
        named_us = named_us or ours in theirs
        if theirs and ours not in theirs:
            continue
        try:
            opened = key.decrypt(label.octets, _padding(label))
        except ValueError:
            continue
        if len(opened) == size:
            return opened
    if named_us:
        raise DecryptionFailed
    raise OtherKey(tuple(dict.fromkeys(hints)), tuple(prints))


def _padding(key: _WrappedKey) -> padding.AsymmetricPadding:
    if key.algorithm == _RSA_15:
        return padding.PKCS1v15()
    return padding.OAEP(padding.MGF1(key.mask), key.digest, key.label)


def _public_numbers(certificate: Certificate) -> rsa.RSAPublicNumbers | None:
    public = certificate.public_key
    return public.public_numbers() if isinstance(public, rsa.RSAPublicKey) else None


def _open(algorithm: str, key: bytes, octets: bytes) -> bytes:
    """Decrypt the content (XML Encryption 1.1 §5.2): the initialisation vector stands before the ciphertext."""
    try:
        if algorithm in _GCM:
            from cryptography.hazmat.primitives.ciphers.aead import AESGCM

            return AESGCM(key).decrypt(octets[:12], octets[12:], None)
        block = 8 if algorithm == _TRIPLE_DES else 16
        cipher = _block_cipher(algorithm, key, octets[:block])
        decryptor = cipher.decryptor()
        plain = decryptor.update(octets[block:]) + decryptor.finalize()
        if not plain or not 1 <= plain[-1] <= block:
            raise DecryptionFailed
        return plain[: -plain[-1]]
    except (InvalidTag, ValueError):
        raise DecryptionFailed from None


def _block_cipher(algorithm: str, key: bytes, vector: bytes) -> Cipher[modes.CBC]:
    from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

    if algorithm == _TRIPLE_DES:
        from cryptography.hazmat.decrepit.ciphers.algorithms import TripleDES

        return Cipher(TripleDES(key), modes.CBC(vector))
    return Cipher(algorithms.AES(key), modes.CBC(vector))


def algorithm_words(holder: etree._Element) -> str:
    """The methods of an encrypted element, for evidence."""
    return ", ".join(short(element.get("Algorithm") or "") for element in holder.iter(_E + "EncryptionMethod"))
