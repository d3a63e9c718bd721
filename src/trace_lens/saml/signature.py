"""XML Signature as SAML uses it: enveloped, one reference, to the element that holds it (SAML 2.0 Core §5.4).

`signatures_in` reads every signature of a document, refuses the forms that must not be accepted, and says whether the
digest over the referenced element holds. It trusts no key: whether a key made the signature is asked of the result
with `verified_by`, and `signed` is the very element that was digested, so that nobody needs to search for it.
"""

from __future__ import annotations

import base64
import binascii
import hmac
import re
from collections import Counter
from collections.abc import Callable
from itertools import islice
from typing import TYPE_CHECKING, Any, cast

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from lxml import etree

from trace_lens.common import limits, recorded
from trace_lens.common.tuples import NamedTuple
from trace_lens.saml import algorithms
from trace_lens.saml.algorithms import PSSParameters, SignatureAlgorithm
from trace_lens.saml.canonical import ALGORITHMS, Canonicalization, NotCanonical, canonical
from trace_lens.saml.names import EXCLUSIVE, SIGNATURE, short
from trace_lens.saml.parsing import Damage, XMLDamaged, text_of

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

_D = f"{{{SIGNATURE}}}"
_D11 = "{http://www.w3.org/2009/xmldsig11#}"
_ENVELOPED = SIGNATURE + "enveloped-signature"
_MORE_2007 = "{http://www.w3.org/2007/05/xmldsig-more#}"
_INCLUSIVE = ALGORITHMS["http://www.w3.org/TR/2001/REC-xml-c14n-20010315"]
_ALL_IDS = etree.XPath("//@ID | //@Id | //@id | //@xml:id | //@AssertionID | //@ResponseID | //@RequestID")


class _Refused(Exception):
    """The signature has a form that must not be accepted; the message completes `because …`."""


class XMLSignature(NamedTuple):
    """One ds:Signature, read and digested; `refused` says why its form must not be accepted, else None.

    `signed` is the element that the reference leads to, where it leads to exactly one; `holder` is the element that
    the signature stands in. `digest_holds` is None where the digest could not be computed.
    """

    element: etree._Element
    holder: etree._Element
    refused: str | None
    reference: str | None = None
    signed: etree._Element | None = None
    algorithm_uri: str | None = None
    digest_uri: str | None = None
    digest_holds: bool | None = None
    digest_value: bytes = b""
    canonicalization: Canonicalization = _INCLUSIVE
    signed_info: bytes = b""
    value: bytes = b""
    pss: PSSParameters | None = None
    certificates: tuple[str, ...] = ()
    key_names: tuple[str, ...] = ()
    keys: tuple[PublicKeyTypes, ...] = ()

    @property
    def algorithm(self) -> SignatureAlgorithm | None:
        """The algorithm's row, where it is one that is accepted."""
        return algorithms.SIGNATURES.get(self.algorithm_uri or "")

    @property
    def holds_its_own(self) -> bool:
        """Whether it signs the element that it stands in, as SAML 2.0 Core §5.4.2 demands."""
        return self.signed is not None and self.signed is self.holder

    @property
    def weak_parts(self) -> tuple[str, ...]:
        """The algorithms in it that rest on SHA-1 or MD5."""
        parts = []
        if self.algorithm and self.algorithm.weak:
            parts.append(short(self.algorithm_uri or ""))
        if algorithms.DIGESTS.get(self.digest_uri or "") in ("md5", "sha1"):
            parts.append(short(self.digest_uri or ""))
        return tuple(parts)

    def covers(self, element: etree._Element) -> bool:
        """Whether an element lies in the octets that were signed: inside the signed element, outside this signature,
        which the enveloped-signature transform takes out (XML Signature §6.6.4).
        """
        if self.signed is None or self.refused is not None:
            return False
        here: etree._Element | None = element
        while here is not None:
            if here is self.element:
                return False
            if here is self.signed:
                return True
            here = here.getparent()
        return False

    def verified_by(self, key: PublicKeyTypes) -> bool:
        """Whether this key made the signature value over SignedInfo (which says nothing of the digest)."""
        if not self.algorithm or not self.value:
            return False
        return algorithms.verifies(key, self.algorithm, self.value, self.signed_info, self.pss)

    def digests_to(self, element: etree._Element, signature: etree._Element | None) -> bool:
        """Whether another rendering of the signed element has the digest that was signed."""
        name = algorithms.DIGESTS.get(self.digest_uri or "")
        if not name:
            return False
        octets = canonical(element, self.canonicalization, leave_out=signature)
        made = algorithms.digest(name, octets)
        return recorded.holds(
            "digest",
            lambda: name.encode(),
            self.digest_value,
            octets,
            lambda: hmac.compare_digest(made, self.digest_value),
        )


def duplicate_ids(root: etree._Element) -> tuple[str, ...]:
    """Identifiers that stand on more than one element (`ID`, `Id`, `id`, `xml:id`, and those of SAML 1.1)."""
    values = [str(value) for value in cast("list[Any]", _ALL_IDS(root))]
    if len(set(values)) == len(values):
        return ()
    counted = Counter(values)
    return tuple(value for value, count in counted.items() if count > 1)


def _ids(root: etree._Element) -> list[tuple[str, etree._Element]]:
    """Every identifier in a document, with the element that bears it."""
    found = cast("list[Any]", _ALL_IDS(root))
    return [(str(value), value.getparent()) for value in found]


def refuse_many_signatures(root: etree._Element, size: int) -> None:
    """Raise XMLDamaged where a message of so many bytes holds more signatures than are looked at.

    Each one may cover all of it, so the larger the message, the fewer they may be.
    """
    most = max(2, min(limits.SIGNATURES, limits.SIGNED_BYTES // max(size, 1)))
    held = sum(1 for _ in islice(root.iter(_D + "Signature"), most + 1))
    if held > most:
        reason = f"it holds more than {most} signatures, which are too many for {size:,} bytes"
        raise XMLDamaged(Damage.UNSAFE, reason)


def signatures_in(root: etree._Element) -> tuple[XMLSignature, ...]:
    """Every signature in a document, in document order (SignedInfo of at most `limits.SIGNATURES` is read)."""
    found: list[XMLSignature] = []
    elements = list(islice(root.iter(_D + "Signature"), limits.SIGNATURES))
    ids = _ids(root) if elements else []
    for element in elements:
        holder = element.getparent()
        if holder is not None:
            found.append(_read(element, holder, ids))
    return tuple(found)


def signature_at(root: etree._Element, position: int) -> XMLSignature | None:
    """The signature at a place in document order, from 0; None where there are fewer."""
    element = next(islice(root.iter(_D + "Signature"), position, None), None)
    holder = element.getparent() if element is not None else None
    return None if element is None or holder is None else _read(element, holder, _ids(root))


def _read(element: etree._Element, holder: etree._Element, ids: list[tuple[str, etree._Element]]) -> XMLSignature:
    signature = XMLSignature(element, holder, None)
    try:
        info = _only(element, "SignedInfo")
        how = _method(_only(info, "CanonicalizationMethod"), "canonicalization")
        method = _only(info, "SignatureMethod")
        uri = method.get("Algorithm") or ""
        certificates, key_names = _key_info(element)
        signature = signature._replace(
            algorithm_uri=uri,
            certificates=certificates,
            key_names=key_names,
            keys=_bare_keys(element),
            value=_base64(_only(element, "SignatureValue"), "SignatureValue"),
            signed_info=canonical(info, how),
            pss=_pss(method) if uri == algorithms.RSA_PSS_WITH_PARAMETERS else None,
        )
        references = info.findall(_D + "Reference")
        if len(references) != 1:
            raise _Refused(f"it has {len(references)} references; a SAML signature has exactly one")
        signature = _refer(signature, references[0], ids)
        _refuse_algorithm(uri)
        if signature.digest_uri not in algorithms.DIGESTS:
            raise _Refused(f"its digest algorithm {signature.digest_uri} is not one that is accepted")
        target = signature.signed
        if target is None:
            return signature
        signature = signature._replace(canonicalization=_transforms(references[0]))
        inside = any(ancestor is target for ancestor in element.iterancestors())
        return signature._replace(digest_holds=signature.digests_to(target, element if inside else None))
    except _Refused as refusal:
        return signature._replace(refused=str(refusal))
    except NotCanonical as reason:
        return signature._replace(refused=f"what it covers has no canonical form: {reason}")


def _only(parent: etree._Element, name: str) -> etree._Element:
    found = parent.findall(_D + name)
    if len(found) != 1:
        raise _Refused(f"it has {len(found) or 'no'} {name} where there must be exactly one")
    return found[0]


def _base64(element: etree._Element, what: str) -> bytes:
    try:
        return base64.b64decode("".join(text_of(element).split()), validate=True)
    except (binascii.Error, ValueError):
        raise _Refused(f"its {what} is not base64") from None


def _method(element: etree._Element, what: str) -> Canonicalization:
    uri = element.get("Algorithm") or ""
    how = ALGORITHMS.get(uri)
    if how is None:
        raise _Refused(f"its {what} algorithm {uri or '(none given)'} is not one that is accepted")
    listed = element.find(f"{{{EXCLUSIVE}}}InclusiveNamespaces")
    if how.exclusive and listed is not None:
        return how._replace(prefixes=tuple((listed.get("PrefixList") or "").split()))
    return how


def _refuse_algorithm(uri: str) -> None:
    if uri in algorithms.SIGNATURES:
        return
    if "hmac" in uri.lower():
        raise _Refused(f"{short(uri)} is a symmetric algorithm, for which both sides would share one secret")
    raise _Refused(f"its signature algorithm {uri or '(none given)'} is not one that is accepted")


def _refer(signature: XMLSignature, reference: etree._Element, ids: list[tuple[str, etree._Element]]) -> XMLSignature:
    """Resolve the reference: a bare `#ID` of one element of this document, nothing else."""
    digest_method = _only(reference, "DigestMethod")
    signature = signature._replace(
        reference=reference.get("URI"),
        digest_uri=digest_method.get("Algorithm"),
        digest_value=_base64(_only(reference, "DigestValue"), "DigestValue"),
    )
    uri = signature.reference
    if uri is None or uri == "":
        raise _Refused("it refers to the whole document by an empty URI, not to its element by ID")
    if not uri.startswith("#"):
        raise _Refused(f"it refers to something outside this document ({uri})")
    if not re.fullmatch(r"[\w.\-]+", uri[1:]):
        raise _Refused(f"its reference {uri} is an expression, not a bare ID")
    named = [owner for value, owner in ids if value == uri[1:]]
    if not named:
        raise _Refused(f"it refers to {uri}, and no element here has that ID")
    if len({id(owner) for owner in named}) > 1:
        return signature
    return signature._replace(signed=named[0])


def _transforms(reference: etree._Element) -> Canonicalization:
    """The canonicalization that the reference's transforms end in; comments never count (XML Signature §4.4.3.3)."""
    how = _INCLUSIVE
    listed = reference.find(_D + "Transforms")
    steps = [] if listed is None else [child for child in listed if isinstance(child.tag, str)]
    uris = [step.get("Algorithm") or "" for step in steps]
    if _ENVELOPED not in uris:
        raise _Refused("it has no enveloped-signature transform")
    for position, (step, uri) in enumerate(zip(steps, uris, strict=True)):
        if uri == _ENVELOPED and position == 0:
            continue
        if uri == _ENVELOPED:
            raise _Refused("its enveloped-signature transform is not the first")
        if uri not in ALGORITHMS:
            raise _Refused(f"its transform {uri or '(none given)'} is not one that is accepted")
        if position != 1 or len(steps) > 2:
            raise _Refused("it has more than one canonicalization among its transforms")
        how = _method(step, "transform")._replace(comments=False)
    return how


def _pss(method: etree._Element) -> PSSParameters:
    parameters = method.find(_MORE_2007 + "RSAPSSParams")
    if parameters is None:
        return PSSParameters()
    digest = parameters.find(_D + "DigestMethod")
    mask = parameters.find(f"{_MORE_2007}MaskGenerationFunction/{_D}DigestMethod")
    salt = parameters.findtext(_MORE_2007 + "SaltLength")
    hashed = algorithms.DIGESTS.get(digest.get("Algorithm") or "" if digest is not None else "", "sha256")
    masked = algorithms.DIGESTS.get(mask.get("Algorithm") or "" if mask is not None else "", "sha256")
    if salt is not None and not salt.strip().isascii():
        raise _Refused("its salt length is not a number")
    try:
        length = int(salt) if salt else len(algorithms.digest(hashed, b""))
    except ValueError:
        raise _Refused("its salt length is not a number") from None
    return PSSParameters(hashed, masked, length)


def _key_info(element: etree._Element) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The certificates (base64 text) and key names that came with a signature: a hint, never a reason to trust."""
    info = element.find(_D + "KeyInfo")
    if info is None:
        return (), ()
    certificates = tuple(text_of(element) for element in islice(info.iter(_D + "X509Certificate"), limits.KEYS_BROUGHT))
    return certificates, tuple(text_of(element).strip() for element in info.iter(_D + "KeyName"))


def _bare_keys(element: etree._Element) -> tuple[PublicKeyTypes, ...]:
    """The public keys that came with a signature without a certificate (XML Signature §4.5.2, XML Signature 1.1
    §4.5.2.3, §4.5.10); one that cannot be read is passed over, since nothing is trusted for it.
    """
    info = element.find(_D + "KeyInfo")
    found: list[PublicKeyTypes] = []
    listed = info.iter(_D + "RSAKeyValue", _D11 + "ECKeyValue", _D11 + "DEREncodedKeyValue") if info is not None else ()
    for element_of_key in islice(listed, limits.KEYS_BROUGHT):
        try:
            found.append(_bare_key(element_of_key))
        except (ValueError, KeyError, TypeError, UnsupportedAlgorithm, binascii.Error):
            continue
    return tuple(found)


def _bare_key(element: etree._Element) -> PublicKeyTypes:
    """Raises ValueError, KeyError, TypeError, UnsupportedAlgorithm or binascii.Error where it is no key."""

    def octets(path: str) -> bytes:
        return base64.b64decode("".join((element.findtext(path) or "").split()), validate=True)

    if element.tag == _D + "RSAKeyValue":
        modulus, exponent = (int.from_bytes(octets(_D + name)) for name in ("Modulus", "Exponent"))
        if modulus.bit_length() > limits.RSA_BITS:
            raise ValueError("the modulus is too large")
        return rsa.RSAPublicNumbers(exponent, modulus).public_key()
    if element.tag == _D11 + "ECKeyValue":
        named = element.find(_D11 + "NamedCurve")
        curve = _CURVES[(named.get("URI") or "") if named is not None else ""]
        return ec.EllipticCurvePublicKey.from_encoded_point(curve(), octets(_D11 + "PublicKey"))
    from cryptography.hazmat.primitives.serialization import load_der_public_key

    return load_der_public_key(base64.b64decode("".join(text_of(element).split()), validate=True))


_CURVES: dict[str, Callable[[], ec.EllipticCurve]] = {
    "urn:oid:1.2.840.10045.3.1.7": ec.SECP256R1,
    "urn:oid:1.3.132.0.34": ec.SECP384R1,
    "urn:oid:1.3.132.0.35": ec.SECP521R1,
}
