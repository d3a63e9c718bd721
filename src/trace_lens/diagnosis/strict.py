"""The strict path: sound SAML responses of the usual shape, told apart from all others in one walk.

It answers one question: would the full judge call this message sound? It says yes, or nothing; then the full judge is
asked. Why a yes is right:

- *Shape.* Every element of the message is one of a list, in its order, each at most as often as the list says, and
  no attribute is left that was not looked at: one assertion, one signature of one reference, nothing encrypted, no
  comment, no extension. So the checks that look for something beyond that (wrapping, duplicate identifiers, encryption,
  forms of signatures) find nothing.
- *Signature.* The reference is to the identifier of the element that holds the signature, canonicalised exclusively
  without a prefix list, and digest and value hold by a key that is trusted for the application. What is read is what
  was signed, or is the response around it, as for any reader.
- *Comparisons.* Each value that a check may break for is compared with what is prepared per application, to the letter
  or by the same function as the check uses. Settings that a check judges otherwise than by one comparison (fingerprints
  instead of certificates, checked dates, damaged files) leave the application unprepared.
- *Written alike.* What is written as a sound message was, but for its values, has its shape (`alike` argues why); all
  comparisons are made anew, and its own octets are digested and verified.
- *Nothing else decides.* Without a capture, logs, records of redacted copies or supposed settings no further check of
  the registry can break; a test asks both paths of every message that there is, and of each with every small change.

All else of a diagnosis (risks, notes, claims, what was not checked) is not known here; it is made by the full judge
when it is looked at.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
from datetime import datetime
from functools import lru_cache
from typing import cast

from lxml import etree

from trace_lens.common.expressions import expression
from trace_lens.diagnosis.alike import Alike, Held, Original, Place, Said, Shape
from trace_lens.diagnosis.prepared import Prepared, prepared
from trace_lens.diagnosis.sound import Sound, serves
from trace_lens.saml import algorithms
from trace_lens.saml.names import (
    ASSERTION,
    BEARER,
    FORMAT_ENTITY,
    FORMAT_PERSISTENT,
    FORMAT_TRANSIENT,
    FORMAT_UNSPECIFIED,
    PROTOCOL,
    SIGNATURE,
    SUCCESS,
)
from trace_lens.saml.parsing import XMLDamaged, parse
from trace_lens.workspace.records import Workspace

_P, _A, _D = f"{{{PROTOCOL}}}", f"{{{ASSERTION}}}", f"{{{SIGNATURE}}}"
_EXCLUSIVE = "http://www.w3.org/2001/10/xml-exc-c14n#"
_ENVELOPED = SIGNATURE + "enveloped-signature"
_HASHES = {name: digest for name, digest in algorithms.DIGESTS.items() if digest in ("sha256", "sha384", "sha512")}
_ALL_ATTRIBUTES = etree.XPath("count(//@*)")
_NAME = expression(r"[A-Za-z_][A-Za-z0-9_.\-]*")
_MOMENT = expression(r"20\d\d-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d{1,6})?Z")
_NEW_NAMES = (FORMAT_TRANSIENT, FORMAT_PERSISTENT)
MOST_BYTES = 64 * 1024
"""Larger messages are not of the usual shape."""


class Other(Exception):
    """The message is not of the shape that is judged here, or has a value that is not written as usual."""


def sound(data: bytes, workspace: Workspace) -> Sound | None:
    """What is known of a SAML response that the full judge would call sound; None where only it can tell. `data` is the
    message as XML, which came by a form post or bare. Raises SettingsError.
    """
    held = read(data, workspace)
    return sound_as_read(held, workspace) if held else None


def read(data: bytes, workspace: Workspace) -> Held | None:
    """What a SAML response of the usual shape says; None where it has another."""
    if len(data) > MOST_BYTES:
        return None
    known = workspace.once("written alike", Alike)
    held = known.read(data)
    if held is not None:
        return held
    try:
        walk = _Walk(parse(data))
        held = walk.held()
        if known.learn(data, walk.original(held)):
            return known.read(data) or held
        return held
    except (Other, XMLDamaged, ValueError, LookupError, OverflowError):
        return None


def sound_as_read(held: Held, workspace: Workspace) -> Sound | None:
    """What is known of a response that the full judge would call sound. Raises SettingsError."""
    to = prepared(workspace).get(held.said.audience)
    try:
        return holds(held, to) if to else None
    except (Other, ValueError, OverflowError):
        return None


def holds(held: Held, to: Prepared) -> Sound | None:
    """What is known of a response for an application of which every comparison holds, and the signature.

    Raises Other, ValueError, OverflowError.
    """
    said = held.said
    if _bare(said.audience) != to.app.entity_id or said.id == said.assertion_id:
        return None
    if not _NAME.fullmatch(said.id) or not _NAME.fullmatch(said.assertion_id):
        return None
    if said.destination not in to.acs_urls or said.recipient not in to.acs_urls:
        return None
    if _bare(said.issuer) != to.issuer or _bare(said.assertion_issuer) != to.issuer:
        return None
    if said.asked != said.confirmed or (said.asked is None and not to.unsolicited):
        return None
    if held.shape.name_format in _NEW_NAMES or to.name_format not in (None, held.shape.name_format):
        return None
    at = moment(said.issued)
    assert at is not None
    _hold_times(said, to, at)
    if _bare(said.context) not in (to.contexts or (said.context,)):
        return None
    values: dict[str, list[str]] = {}
    for name, sent in held.attributes:
        if name in values:
            return None
        values[name] = sent
    name = _bare(said.name)
    if not _allowed(to, name, values) or not _verified(held, to):
        return None
    by = "application" if said.asked else "provider"
    wanted = frozenset({said.asked} if said.asked else ())
    offered = frozenset({f"session {said.session}"} if said.session else ())
    return Sound(to.app, to.provider, name, by, at, wanted, offered)


def _bare(text: str) -> str:
    """A text, where there is one, and no white space around it."""
    if not text or text != text.strip():
        raise Other
    return text


@lru_cache(1_000)
def moment(text: str | None) -> datetime | None:
    """A moment in the form that nearly all messages write it in. Raises Other."""
    if text is None:
        return None
    if not _MOMENT.fullmatch(text):
        raise Other
    return datetime.fromisoformat(text)


def _hold_times(said: Said, to: Prepared, at: datetime) -> None:
    """Raise Other where a window of time does not hold, or a moment is not written as usual."""
    moment(said.made)
    moment(said.authenticated)
    begins, ends = moment(said.begins), moment(said.ends)
    if (begins and at < begins - to.skew) or (begins and ends and ends <= begins):
        raise Other
    for end in (moment(said.confirmed_until), ends, moment(said.session_ends)):
        if end and at >= end + to.skew:
            raise Other


def _allowed(to: Prepared, name: str, values: dict[str, list[str]]) -> bool:
    """Whether account, assignment and claims allow it."""
    account = to.app.settings.account.source
    if account not in ("NameID", "sub"):
        found = next((value for value in values.get(account, ()) if value.strip()), None)
    else:
        found = name
    if found is None or not to.knows(found):
        return False
    if to.assigned is not None and name.casefold() not in to.assigned:
        return False
    if any(marker in values for marker in to.provider.settings.left_out_markers):
        return False
    return all(serves(claim, values) for claim in to.app.settings.claims)


def _verified(held: Held, to: Prepared) -> bool:
    """Whether the signature is of the message, and holds by a trusted key."""
    said, shape = held.said, held.shape
    signed = said.id if shape.part == "response" else said.assertion_id
    if shape.part not in to.signed or said.reference != "#" + signed:
        return False
    octets = held.signed_info()
    if not hmac.compare_digest(hashlib.new(shape.hash, held.signed()).digest(), _base64(said.digest)):
        return False
    made = _base64(said.signature)
    key = next((key for key in to.keys if algorithms.verifies(key, shape.algorithm, made, octets)), None)
    if key is not None and key is not to.keys[0]:  # the one that signs now is tried first from now on
        to.keys.remove(key)
        to.keys.insert(0, key)
    return key is not None


def _base64(text: str) -> bytes:
    try:
        return base64.b64decode("".join(text.split()), validate=True)
    except binascii.Error:
        raise Other from None


def _children(element: etree._Element, *names: str) -> list[etree._Element]:
    """The children of an element, where they are these, in this order; a comment is none of them."""
    found = list(element)
    if [child.tag for child in found] != list(names):
        raise Other
    return found


_RESPONSE = frozenset({"ID", "Version", "IssueInstant", "Destination"})
_ASSERTION = frozenset({"ID", "Version", "IssueInstant"})
_IN_RESPONSE_TO = frozenset({"InResponseTo"})
_FORMAT = frozenset({"Format"})
_QUALIFIED = frozenset({"Format", "NameQualifier", "SPNameQualifier"})
_ALGORITHM = frozenset({"Algorithm"})
_CONFIRMED = frozenset({"Recipient", "NotOnOrAfter"})
_WINDOW = frozenset({"NotBefore", "NotOnOrAfter"})
_SESSION = frozenset({"SessionIndex", "SessionNotOnOrAfter"})
_ATTRIBUTE_MAY = frozenset({"NameFormat", "FriendlyName"})
_TYPE = frozenset({"{http://www.w3.org/2001/XMLSchema-instance}type"})
_NONE: frozenset[str] = frozenset()


class _Walk:
    """One walk over one message: where its values stand. Every step raises Other where the shape is another."""

    def __init__(self, root: etree._Element) -> None:
        self.root = root
        self.there, self.looked_at = _ALL_ATTRIBUTES(root), 0
        self.places: dict[str, Place] = {}
        self.attributes: list[tuple[str, list[etree._Element]]] = []

    def _told(self, element: etree._Element, must: frozenset[str], may: frozenset[str] = _NONE) -> dict[str, str]:
        """The attributes of an element, where it has those that it must, and none but those that it may."""
        found = cast("dict[str, str]", dict(element.items()))
        if found.keys() != must and not must <= found.keys() <= must | may:
            raise Other
        self.looked_at += len(found)
        return found

    def _stand(self, element: etree._Element, told: dict[str, str], **names: str) -> None:
        """Say where values stand that attributes of an element have, as far as it has them."""
        for name, attribute in names.items():
            if attribute in told:
                self.places[name] = (element, attribute)

    def _text(self, name: str, element: etree._Element) -> None:
        """Say that the text of an element is a value."""
        if len(element):
            raise Other
        self.places[name] = (element, None)

    def held(self) -> Held:
        """All that the message says."""
        root = self.root
        if root.tag != _P + "Response":
            raise Other
        told = self._told(root, _RESPONSE, _IN_RESPONSE_TO)
        signatures = [child for child in root if child.tag == _D + "Signature"]
        issuer, *_, status, assertion = _children(
            root, _A + "Issuer", *[_D + "Signature"] * len(signatures), _P + "Status", _A + "Assertion"
        )
        (code,) = _children(status, _P + "StatusCode")
        if self._told(code, frozenset({"Value"})) != {"Value": SUCCESS} or len(code):
            raise Other
        said = self._told(assertion, _ASSERTION)
        inner = [child for child in assertion if child.tag == _D + "Signature"]
        names = [_A + "Issuer", *[_D + "Signature"] * len(inner)]
        names += [_A + "Subject", _A + "Conditions", _A + "AuthnStatement"]
        names += [_A + "AttributeStatement"] if assertion[-1].tag == _A + "AttributeStatement" else []
        parts = _children(assertion, *names)
        subject, conditions, statement = parts[1 + len(inner) : 4 + len(inner)]
        if len(signatures) + len(inner) != 1 or told["Version"] != "2.0" or said["Version"] != "2.0":
            raise Other
        self._stand(root, told, id="ID", destination="Destination", issued="IssueInstant", asked="InResponseTo")
        self._stand(assertion, said, assertion_id="ID", made="IssueInstant")
        self._issuer("issuer", issuer)
        self._issuer("assertion_issuer", parts[0])
        kind = self._subject(subject)
        self._conditions(conditions)
        self._statement(statement)
        if len(parts) > 4 + len(inner):
            self._attributes(parts[-1])
        part, self.holder = ("response", root) if signatures else ("assertion", assertion)
        hashed, algorithm = self._signature(self.holder[1])
        if self.looked_at != self.there:  # an attribute where none belongs
            raise Other
        self.elements = list(root.iter())
        value = {name: element.get(key) if key else element.text or "" for name, (element, key) in self.places.items()}
        return Held(
            Shape(part, kind, hashed, algorithm),
            Said(*(value.get(name) for name in Said._fields)),  # type: ignore[arg-type]  # what must be there is there
            [(name, [element.text or "" for element in elements]) for name, elements in self.attributes],
            lambda: _canonical(self.info),
            self._signed,
        )

    def original(self, held: Held) -> Original:
        """What it was read from, once the signature was looked at."""
        return Original(held, self.elements, self.info, self.holder, self.places, self.attributes)

    def _issuer(self, name: str, issuer: etree._Element) -> None:
        if self._told(issuer, _NONE, _FORMAT).get("Format", FORMAT_ENTITY) != FORMAT_ENTITY:
            raise Other
        self._text(name, issuer)

    def _subject(self, subject: etree._Element) -> str:
        """The format of the name."""
        name, confirmation = _children(subject, _A + "NameID", _A + "SubjectConfirmation")
        self._text("name", name)
        if self._told(confirmation, frozenset({"Method"}))["Method"] != BEARER:
            raise Other
        (data,) = _children(confirmation, _A + "SubjectConfirmationData")
        told = self._told(data, _CONFIRMED, _IN_RESPONSE_TO)
        if len(data):
            raise Other
        self._stand(data, told, recipient="Recipient", confirmed_until="NotOnOrAfter", confirmed="InResponseTo")
        return self._told(name, _NONE, _QUALIFIED).get("Format", FORMAT_UNSPECIFIED)

    def _conditions(self, conditions: etree._Element) -> None:
        self._stand(conditions, self._told(conditions, _NONE, _WINDOW), begins="NotBefore", ends="NotOnOrAfter")
        (restriction,) = _children(conditions, _A + "AudienceRestriction")
        (audience,) = _children(restriction, _A + "Audience")
        self._text("audience", audience)

    def _statement(self, statement: etree._Element) -> None:
        told = self._told(statement, frozenset({"AuthnInstant"}), _SESSION)
        self._stand(
            statement, told, authenticated="AuthnInstant", session="SessionIndex", session_ends="SessionNotOnOrAfter"
        )
        (context,) = _children(statement, _A + "AuthnContext")
        (reference,) = _children(context, _A + "AuthnContextClassRef")
        self._text("context", reference)

    def _attributes(self, statement: etree._Element) -> None:
        for attribute in statement:
            if attribute.tag != _A + "Attribute":
                raise Other
            name = self._told(attribute, frozenset({"Name"}), _ATTRIBUTE_MAY)["Name"]
            values = _children(attribute, *[_A + "AttributeValue"] * len(attribute))
            for value in values:
                self._told(value, _NONE, _TYPE)
                if len(value):
                    raise Other
            self.attributes.append((name, values))

    def _signature(self, signature: etree._Element) -> tuple[str, algorithms.SignatureAlgorithm]:
        """The hash and the algorithm of a signature of one reference to the whole element that holds it."""
        info, value, *more = list(signature)
        if len(more) > 1 or [child.tag for child in (info, value)] != [_D + "SignedInfo", _D + "SignatureValue"]:
            raise Other
        if more:
            (data,) = _children(_children(signature, info.tag, value.tag, _D + "KeyInfo")[2], _D + "X509Data")
            (certificate,) = _children(data, _D + "X509Certificate")
            if len(certificate):
                raise Other
        how, method, reference = _children(
            info, _D + "CanonicalizationMethod", _D + "SignatureMethod", _D + "Reference"
        )
        if self._told(how, _ALGORITHM)["Algorithm"] != _EXCLUSIVE or len(how) or len(method):
            raise Other
        transforms, digested, digest = _children(reference, _D + "Transforms", _D + "DigestMethod", _D + "DigestValue")
        steps = _children(transforms, _D + "Transform", _D + "Transform")
        if [self._told(step, _ALGORITHM)["Algorithm"] for step in steps] != [_ENVELOPED, _EXCLUSIVE]:
            raise Other
        self._stand(reference, self._told(reference, frozenset({"URI"})), reference="URI")
        hashed = _HASHES.get(self._told(digested, _ALGORITHM)["Algorithm"])
        algorithm = algorithms.SIGNATURES.get(self._told(method, _ALGORITHM)["Algorithm"])
        if any(len(step) for step in steps) or hashed is None or len(digested) or algorithm is None or algorithm.weak:
            raise Other
        self._text("digest", digest)
        self._text("signature", value)
        self.info = info
        return hashed, algorithm

    def _signed(self) -> bytes:
        """The octets of the element that holds the signature, without it; what follows it stays."""
        before, signature = self.holder[0], self.holder[1]
        if signature.tag == _D + "Signature":
            before.tail = (before.tail or "") + (signature.tail or "")
            signature.tail = None
            self.holder.remove(signature)
        return _canonical(self.holder)


def _canonical(element: etree._Element) -> bytes:
    return etree.tostring(element, method="c14n", exclusive=True, with_comments=False, with_tail=False)
