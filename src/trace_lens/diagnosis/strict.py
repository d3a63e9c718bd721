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
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import NamedTuple, cast

from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes
from lxml import etree

from trace_lens.common.expressions import expression
from trace_lens.diagnosis.choosing import identities
from trace_lens.diagnosis.sound import Sound, knows, serves
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
from trace_lens.workspace import trust
from trace_lens.workspace.problems import SettingsError
from trace_lens.workspace.records import App, Provider, Workspace

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


class Prepared(NamedTuple):
    """What messages for one application are compared with."""

    app: App
    provider: Provider
    issuer: str
    acs_urls: frozenset[str]
    keys: list[PublicKeyTypes]
    signed: frozenset[str]
    name_format: str | None
    unsolicited: bool
    contexts: frozenset[str]
    skew: timedelta
    knows: Callable[[str], bool]
    assigned: frozenset[str] | None


class _Other(Exception):
    """The message is not of the shape that is judged here."""


def prepared(workspace: Workspace) -> dict[str, Prepared]:
    """The applications whose messages can be judged here, by their identifier. Raises SettingsError."""
    return workspace.once("prepared", lambda: _all_prepared(workspace))


def _all_prepared(workspace: Workspace) -> dict[str, Prepared]:
    known = identities(workspace)
    found = {}
    for identity in known:
        app = identity.app
        if app.settings.protocol != "saml" or app.is_interface or app.entity_id is None:
            continue
        if sum(app.entity_id in other.names for other in known if other.app.settings.protocol == "saml") != 1:
            continue
        try:
            made = _prepare(app, workspace)
        except SettingsError:
            continue  # the full judge says what is wrong with it
        if made:
            found[app.entity_id] = made
    return found


def _prepare(app: App, workspace: Workspace) -> Prepared | None:
    provider, told = workspace.provider_of(app), app.settings.application.saml
    if provider is None or not provider.entity_id or not app.acs_urls or app.checks_certificate_dates:
        return None
    others = [other for other in workspace.providers.values() if provider.entity_id in other.identifiers]
    if told.provider_entity_id not in (None, provider.entity_id) or others != [provider]:
        return None
    pins = trust.pinned(app, workspace)
    held = pins if pins and told.trust_from != "metadata" else trust.published(provider, workspace)
    if any(key.problem or key.repairs for key in (*pins, *held)) or any(key.certificate is None for key in held):
        return None
    signed = {"either": ("assertion", "response")}.get(told.signed_part, (told.signed_part,))
    declared = app.settings.provider_setup.assigned
    rows = app.assignments if declared not in (None, "everyone") else None
    return Prepared(
        app=app,
        provider=provider,
        issuer=provider.entity_id,
        acs_urls=frozenset(app.acs_urls),
        keys=[key.certificate.public_key for key in held if key.certificate],
        signed=frozenset(signed),
        name_format=told.name_id_format if told.name_id_format != FORMAT_UNSPECIFIED else None,
        unsolicited=told.accepts_unsolicited is not False,
        contexts=frozenset(told.authn_contexts),
        skew=app.clock_skew,
        knows=knows(app, workspace),
        assigned=None if rows is None else frozenset(row.user.casefold() for row in rows if row.user),
    )


def sound(data: bytes, workspace: Workspace) -> Sound | None:
    """What is known of a SAML response that the full judge would call sound; None where only it can tell. `data` is the
    message as XML, which came by a form post or bare. Raises SettingsError.
    """
    if len(data) > MOST_BYTES:
        return None
    try:
        return _Walk(parse(data), workspace).sound()
    except (_Other, XMLDamaged, ValueError, LookupError, OverflowError):
        return None


def _children(element: etree._Element, *names: str) -> list[etree._Element]:
    """The children of an element, where they are these, in this order; a comment is none of them."""
    found = list(element)
    if [child.tag for child in found] != list(names):
        raise _Other
    return found


def _text(element: etree._Element) -> str:
    """The text of an element without children, that has no white space around it."""
    text = element.text
    if len(element) or not text or text != text.strip():
        raise _Other
    return text


def _moment(text: str | None) -> datetime | None:
    if text is None:
        return None
    if not _MOMENT.fullmatch(text):
        raise _Other
    return datetime.fromisoformat(text)


_RESPONSE = frozenset({"ID", "Version", "IssueInstant", "Destination"})
_ASSERTION = frozenset({"ID", "Version", "IssueInstant"})
_IN_RESPONSE_TO = frozenset({"InResponseTo"})
_FORMAT = frozenset({"Format"})
_QUALIFIED = frozenset({"Format", "NameQualifier", "SPNameQualifier"})
_ALGORITHM = frozenset({"Algorithm"})
_VALUE = frozenset({"Value"})
_CONFIRMED = frozenset({"Recipient", "NotOnOrAfter"})
_WINDOW = frozenset({"NotBefore", "NotOnOrAfter"})
_SESSION = frozenset({"SessionIndex", "SessionNotOnOrAfter"})
_ATTRIBUTE_MAY = frozenset({"NameFormat", "FriendlyName"})
_TYPE = frozenset({"{http://www.w3.org/2001/XMLSchema-instance}type"})
_NONE: frozenset[str] = frozenset()


class _Walk:
    """One walk over one message."""

    def __init__(self, root: etree._Element, workspace: Workspace) -> None:
        self.root, self.workspace = root, workspace
        self.there, self.looked_at = _ALL_ATTRIBUTES(root), 0

    def _told(self, element: etree._Element, must: frozenset[str], may: frozenset[str] = _NONE) -> dict[str, str]:
        """The attributes of an element, where it has those that it must, and none but those that it may."""
        found = cast("dict[str, str]", dict(element.items()))
        if found.keys() != must and not must <= found.keys() <= must | may:
            raise _Other
        self.looked_at += len(found)
        return found

    def sound(self) -> Sound | None:
        """The answer. Raises _Other where the message is of another shape."""
        root = self.root
        if root.tag != _P + "Response":
            return None
        told = self._told(root, _RESPONSE, _IN_RESPONSE_TO)
        children = list(root)
        signatures = [child for child in children if child.tag == _D + "Signature"]
        issuer, *_, status, assertion = _children(
            root, _A + "Issuer", *[_D + "Signature"] * len(signatures), _P + "Status", _A + "Assertion"
        )
        (code,) = _children(status, _P + "StatusCode")
        if self._told(code, _VALUE) != {"Value": SUCCESS} or len(code):
            return None
        said = self._told(assertion, _ASSERTION)
        inner = [child for child in assertion if child.tag == _D + "Signature"]
        names = [_A + "Issuer", *[_D + "Signature"] * len(inner)]
        names += [_A + "Subject", _A + "Conditions", _A + "AuthnStatement"]
        names += [_A + "AttributeStatement"] if assertion[-1].tag == _A + "AttributeStatement" else []
        parts = _children(assertion, *names)
        subject, conditions, statement = parts[1 + len(inner) : 4 + len(inner)]
        audience = self._audience(conditions)
        to = prepared(self.workspace).get(audience)
        if to is None or len(signatures) + len(inner) != 1:
            return None
        if told["Version"] != "2.0" or said["Version"] != "2.0" or told["ID"] == said["ID"]:
            return None
        if not _NAME.fullmatch(told["ID"]) or not _NAME.fullmatch(said["ID"]):
            return None
        if told["Destination"] not in to.acs_urls:
            return None
        if not self._is(issuer, to.issuer) or not self._is(parts[0], to.issuer):
            return None
        at = _moment(told["IssueInstant"])
        assert at is not None
        name, asked = self._subject(subject, to, at)
        if told.get("InResponseTo") != asked or (asked is None and not to.unsolicited):
            return None
        _moment(said["IssueInstant"])
        session = self._times(conditions, statement, to, at)
        values = self._attributes_of(parts[-1]) if len(parts) > 4 + len(inner) else {}
        if not self._allowed(to, name, values):
            return None
        if not self._signed(*((root, told, "response") if signatures else (assertion, said, "assertion")), to):
            return None
        if self.looked_at != self.there:  # an attribute where none belongs
            return None
        by = "application" if asked else "provider"
        offered = frozenset({f"session {session}"} if session else ())
        return Sound(to.app, to.provider, name, by, at, frozenset({asked} if asked else ()), offered)

    def _is(self, issuer: etree._Element, expected: str) -> bool:
        return self._told(issuer, _NONE, _FORMAT).get("Format", FORMAT_ENTITY) == FORMAT_ENTITY and (
            _text(issuer) == expected
        )

    def _audience(self, conditions: etree._Element) -> str:
        (restriction,) = _children(conditions, _A + "AudienceRestriction")
        (audience,) = _children(restriction, _A + "Audience")
        return _text(audience)

    def _subject(self, subject: etree._Element, to: Prepared, at: datetime) -> tuple[str, str | None]:
        """The NameID, and the request that the bearer confirmation answers."""
        name, confirmation = _children(subject, _A + "NameID", _A + "SubjectConfirmation")
        kind = self._told(name, _NONE, _QUALIFIED).get("Format", FORMAT_UNSPECIFIED)
        if kind in _NEW_NAMES or to.name_format not in (None, kind):
            raise _Other
        if self._told(confirmation, frozenset({"Method"}))["Method"] != BEARER:
            raise _Other
        (data,) = _children(confirmation, _A + "SubjectConfirmationData")
        told = self._told(data, _CONFIRMED, _IN_RESPONSE_TO)
        ends = _moment(told["NotOnOrAfter"])
        if told["Recipient"] not in to.acs_urls or len(data) or ends is None or at >= ends + to.skew:
            raise _Other
        return _text(name), told.get("InResponseTo")

    def _times(self, conditions: etree._Element, statement: etree._Element, to: Prepared, at: datetime) -> str | None:
        """The session index, where every window holds."""
        told = self._told(conditions, _NONE, _WINDOW)
        begins, ends = _moment(told.get("NotBefore")), _moment(told.get("NotOnOrAfter"))
        if (
            (begins and at < begins - to.skew)
            or (ends and at >= ends + to.skew)
            or (begins and ends and ends <= begins)
        ):
            raise _Other
        said = self._told(statement, frozenset({"AuthnInstant"}), _SESSION)
        over = _moment(said.get("SessionNotOnOrAfter"))
        _moment(said["AuthnInstant"])
        if over and at >= over + to.skew:
            raise _Other
        (context,) = _children(statement, _A + "AuthnContext")
        (reference,) = _children(context, _A + "AuthnContextClassRef")
        if to.contexts and _text(reference) not in to.contexts:
            raise _Other
        _text(reference)
        return said.get("SessionIndex")

    def _attributes_of(self, statement: etree._Element) -> dict[str, list[str]]:
        """The attributes by name, each once, with their values as text."""
        found: dict[str, list[str]] = {}
        for attribute in statement:
            name = self._told(attribute, frozenset({"Name"}), _ATTRIBUTE_MAY)["Name"]
            if attribute.tag != _A + "Attribute" or name in found:
                raise _Other
            values = _children(attribute, *[_A + "AttributeValue"] * len(attribute))
            for value in values:
                self._told(value, _NONE, _TYPE)
                if len(value):
                    raise _Other
            found[name] = [value.text or "" for value in values]
        return found

    def _allowed(self, to: Prepared, name: str, values: dict[str, list[str]]) -> bool:
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

    def _signed(self, holder: etree._Element, told: dict[str, str], part: str, to: Prepared) -> bool:
        """Whether the signature of an element holds, by a trusted key."""
        signature = holder[1]
        info, value, *more = list(signature)
        if part not in to.signed or len(more) > 1:
            return False
        if [child.tag for child in (info, value)] != [_D + "SignedInfo", _D + "SignatureValue"]:
            return False
        if more:
            (data,) = _children(_children(signature, info.tag, value.tag, _D + "KeyInfo")[2], _D + "X509Data")
            (certificate,) = _children(data, _D + "X509Certificate")
            if len(certificate):
                return False
        how, method, reference = _children(
            info, _D + "CanonicalizationMethod", _D + "SignatureMethod", _D + "Reference"
        )
        if self._told(how, _ALGORITHM)["Algorithm"] != _EXCLUSIVE or len(how) or len(method):
            return False
        transforms, digested, digest = _children(reference, _D + "Transforms", _D + "DigestMethod", _D + "DigestValue")
        steps = _children(transforms, _D + "Transform", _D + "Transform")
        if [self._told(step, _ALGORITHM)["Algorithm"] for step in steps] != [_ENVELOPED, _EXCLUSIVE]:
            return False
        if any(len(step) for step in steps) or self._told(reference, frozenset({"URI"}))["URI"] != "#" + told["ID"]:
            return False
        hashed = _HASHES.get(self._told(digested, _ALGORITHM)["Algorithm"])
        algorithm = algorithms.SIGNATURES.get(self._told(method, _ALGORITHM)["Algorithm"])
        if hashed is None or len(digested) or algorithm is None or algorithm.weak:
            return False
        octets = _canonical(info)
        _take_out(holder, signature)
        wanted = _base64(digest)
        if not hmac.compare_digest(hashlib.new(hashed, _canonical(holder)).digest(), wanted):
            return False
        made = _base64(value)
        key = next((key for key in to.keys if algorithms.verifies(key, algorithm, made, octets)), None)
        if key is not None and key is not to.keys[0]:  # the one that signs now is tried first from now on
            to.keys.remove(key)
            to.keys.insert(0, key)
        return key is not None


def _canonical(element: etree._Element) -> bytes:
    return etree.tostring(element, method="c14n", exclusive=True, with_comments=False, with_tail=False)


def _take_out(holder: etree._Element, signature: etree._Element) -> None:
    """Take a signature, which has a sibling before it, out of the element that holds it; what follows it stays."""
    before = signature.getprevious()
    if before is None:
        raise _Other
    before.tail = (before.tail or "") + (signature.tail or "")
    signature.tail = None
    holder.remove(signature)


def _base64(element: etree._Element) -> bytes:
    if len(element):
        raise _Other
    try:
        return base64.b64decode("".join((element.text or "").split()), validate=True)
    except binascii.Error:
        raise _Other from None
