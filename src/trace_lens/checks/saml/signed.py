"""What was signed and by whom: every signature held against the keys on record, and the assertion that is judged.

The assertion judged is taken by reference from a signature that holds, never by search (SAML 2.0 Core §5.4; the way
around it is described in Somorovsky et al., On Breaking SAML, USENIX Security 2012).
"""

from __future__ import annotations

import base64
from functools import lru_cache
from typing import TYPE_CHECKING

from lxml import etree

from trace_lens.checks.saml.alteration import Alteration, compacted_signed_info, explain_digest
from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.layers import REPEATED
from trace_lens.pki.certificates import Certificate, certificate_or_none
from trace_lens.pki.pem import certificate_from_base64
from trace_lens.saml.detached import DetachedSignature
from trace_lens.saml.messages import Assertion
from trace_lens.saml.names import ASSERTION, ASSERTION_11, PROTOCOL, PROTOCOL_11
from trace_lens.saml.parsing import XMLDamaged, parse, where
from trace_lens.saml.reading import read_assertion
from trace_lens.saml.signature import XMLSignature, duplicate_ids, signatures_in
from trace_lens.workspace import trust
from trace_lens.workspace.trust import RecordedKey

if TYPE_CHECKING:
    from trace_lens.attempts.saml_messages import SamlMessage
    from trace_lens.checks.saml.decrypted import Decryption
    from trace_lens.saml.messages import Response
    from trace_lens.workspace.records import Workspace


class Verdict(NamedTuple):
    """One signature and the key that verifies it.

    `standing` is `trusted`, `published` (the provider's, but pinned only as another fingerprint), `known` (on record,
    not trusted here), `embedded` (it came with the message) or `none`. `alteration` says what explains a digest that
    does not hold.
    """

    signature: XMLSignature | DetachedSignature
    standing: str
    certificate: Certificate | None = None
    key: RecordedKey | None = None
    alteration: Alteration | None = None

    @property
    def digest_holds(self) -> bool:
        """Whether the digest holds, as captured or once the capture's own change is undone."""
        return bool(self.signature.digest_holds or (self.alteration and self.alteration.undone))

    @property
    def good(self) -> bool:
        """Whether some key made it and what it refers to is unchanged; says nothing of trust."""
        return self.signature.refused is None and self.digest_holds and self.standing != "none"

    @property
    def place(self) -> Location:
        """Where the signature stands."""
        return (
            where(self.signature.element)
            if isinstance(self.signature, XMLSignature)
            else Location(field="field Signature")
        )

    @property
    def part(self) -> str:
        """`response` or `assertion`: what it stands in."""
        of_assertion = self.signature.holder.tag in (f"{{{ASSERTION}}}Assertion", f"{{{ASSERTION_11}}}Assertion")
        return "assertion" if of_assertion else "response"


class KeysOnRecord(NamedTuple):
    """The keys that signatures are held against.

    `pins` are what the side that reads the message trusts, damaged entries among them, and `published` what the sender
    publishes. `implied` says that the published keys are trusted themselves: nothing is pinned, or metadata is fetched.
    """

    pins: tuple[RecordedKey, ...]
    published: tuple[RecordedKey, ...]
    implied: bool
    workspace: Workspace

    @property
    def pins_that_count(self) -> tuple[RecordedKey, ...]:
        """The pins; none where trust is implied."""
        return () if self.implied else self.pins

    @property
    def trusted(self) -> tuple[RecordedKey, ...]:
        """The keys that a signature is judged by."""
        keys = self.published if self.implied else self.pins
        return tuple(key for key in keys if key.certificate or key.fingerprint)


class Signed(NamedTuple):
    """All signatures of a message and what follows from them.

    `of_response` and `of_assertion` are the own signatures of the response and of the judged assertion. `wrapping` is
    a good signature over something other than what a reader in the normal place would take. `uncovered` are the
    assertions and responses, in whatever place, that no trusted signature covers though there is one; `sealed` says
    that an encrypted one among those could not be opened. `trusted` and `pins` are the keys it was judged by; `implied`
    says that the provider's keys stood in for pins that are not on record.
    """

    verdicts: tuple[Verdict, ...] = ()
    duplicates: tuple[str, ...] = ()
    judged: Assertion | None = None
    of_response: Verdict | None = None
    of_assertion: Verdict | None = None
    wrapping: Verdict | None = None
    uncovered: tuple[etree._Element, ...] = ()
    sealed: bool = False
    pins: tuple[RecordedKey, ...] = ()
    trusted: tuple[RecordedKey, ...] = ()
    implied: bool = False

    @property
    def own(self) -> tuple[Verdict, ...]:
        """The signatures that stand where SAML puts them, the response's first."""
        return tuple(verdict for verdict in (self.of_response, self.of_assertion) if verdict)


def look_at_signatures(
    message: SamlMessage,
    response: Response | None,
    assertions: tuple[Assertion, ...],
    openings: tuple[Decryption, ...],
    keys: KeysOnRecord,
) -> Signed:
    """Read and verify the signatures of a message and choose the assertion to judge.

    `assertions` are those in the normal place, of the `response` where there is one, and `openings` what came of its
    encrypted ones.
    """
    root = message.root
    if root is None:
        return Signed()
    judge = _Judge(keys)
    documents = [(root, message.found.data)]
    documents += [(opening.root, opening.data) for opening in openings if opening.root is not None]
    further = [(element, b"") for element in _repeated(message)]
    verdicts = tuple(
        judge.verdict(signature, data) for document, data in documents for signature in signatures_in(document)
    )
    beyond = tuple(
        judge.verdict(signature, data) for document, data in further for signature in signatures_in(document)
    )
    beside = message.detached
    if beside:
        verdicts = (*verdicts, judge.verdict(beside, b""))
    own = {verdict.signature.holder: verdict for verdict in reversed(verdicts) if _stands_right(verdict)}
    main = response.element if response else root
    of_response = own.get(main) if response else None
    judged, wrapping = _choose(main, assertions, verdicts, own, of_response)
    documents_of_all = [root, *(document for document, _ in further)]
    uncovered, sealed = _uncovered(main, documents_of_all, openings, (*verdicts, *beyond))
    return Signed(
        verdicts=verdicts,
        duplicates=tuple(value for document, _ in documents for value in _duplicates(document, verdicts)),
        judged=judged,
        of_response=of_response,
        of_assertion=own.get(judged.element) if judged else None,
        wrapping=wrapping,
        uncovered=uncovered,
        sealed=sealed,
        pins=keys.pins,
        trusted=keys.trusted,
        implied=keys.implied,
    )


def _stands_right(verdict: Verdict) -> bool:
    signature = verdict.signature
    return signature.holds_its_own or signature.refused is not None or signature.signed is None


def _choose(
    root: etree._Element,
    children: tuple[Assertion, ...],
    verdicts: tuple[Verdict, ...],
    own: dict[etree._Element, Verdict],
    of_response: Verdict | None,
) -> tuple[Assertion | None, Verdict | None]:
    """The assertion to judge, and the signature that was wrapped around something else, if one was."""
    normal = next((child for child in children if child.authn_statements), children[0] if children else None)
    if of_response and of_response.good:
        return normal, None
    trusted = [verdict for verdict in verdicts if verdict.standing == "trusted" and verdict.good]
    covered = [
        child
        for child in children
        if any(isinstance(v.signature, XMLSignature) and v.signature.covers(child.element) for v in trusted)
    ]
    first = next((assertion for assertion in covered if assertion.authn_statements), None)
    if first is not None and first.element in own:
        return first, None
    signed = [child for child in children if child.element in own and own[child.element].good]
    judged = next((assertion for assertion in signed if assertion.authn_statements), signed[0] if signed else None)
    if judged:
        before = children[: children.index(judged)]
        shadowed = any(assertion.subject and assertion not in signed for assertion in before)
        return judged, own[judged.element] if shadowed else None
    in_place = {root, *(child.element for child in children)}
    for verdict in verdicts:
        target = verdict.signature.signed
        if verdict.good and target is not None and target not in in_place:
            return _assertion_of(target) or normal, verdict
    return normal, None


_COUNTED = (
    f"{{{ASSERTION}}}Assertion",
    f"{{{ASSERTION}}}EncryptedAssertion",
    f"{{{ASSERTION_11}}}Assertion",
    f"{{{PROTOCOL}}}Response",
    f"{{{PROTOCOL_11}}}Response",
)


def _uncovered(
    main: etree._Element,
    documents: list[etree._Element],
    openings: tuple[Decryption, ...],
    verdicts: tuple[Verdict, ...],
) -> tuple[tuple[etree._Element, ...], bool]:
    """What some reader might take for an assertion or response and no trusted signature covers (SAML 2.0 Profiles
    §4.1.4.5), where there is a trusted signature to compare with; and whether an encrypted one stayed closed.

    Not counted: the message's own root and what wraps it, and Advice inside signed octets, which is covered.
    """
    good = [verdict for verdict in verdicts if verdict.standing == "trusted" and verdict.good]
    if not good:
        return (), False
    if any(isinstance(verdict.signature, DetachedSignature) for verdict in good) and len(documents) == 1:
        return (), False
    opened = {opening.encrypted.element: opening.root for opening in openings}
    found: list[etree._Element] = []
    sealed = False

    def covered(element: etree._Element) -> bool:
        return any(
            isinstance(verdict.signature, XMLSignature) and verdict.signature.covers(element) for verdict in good
        )

    for element in (element for document in documents for element in document.iter(*_COUNTED)):
        if element is main or covered(element):
            continue
        if element in opened:
            inside = opened[element]
            if inside is None:
                sealed = True
            elif not any(covered(element) for element in inside.iter(*_COUNTED)):
                found.append(element)
            else:
                found += [element for element in inside.iter(*_COUNTED) if not covered(element)]
        else:
            found.append(element)
    return tuple(found), sealed


def _repeated(message: SamlMessage) -> list[etree._Element]:
    """The documents of further values of the same form field, as far as they can be read."""
    text = message.found.context.get(REPEATED, "")
    found = []
    for value in text.split("\n") if text else ():
        try:
            found.append(parse(base64.b64decode(value.replace(" ", "+"), validate=False)))
        except (XMLDamaged, ValueError):
            continue
    return found


def _assertion_of(element: etree._Element) -> Assertion | None:
    if element.tag in (f"{{{ASSERTION}}}Assertion", f"{{{ASSERTION_11}}}Assertion"):
        return read_assertion(element)
    inner = element.find(f"{{{ASSERTION}}}Assertion")
    return None if inner is None else read_assertion(inner)


def _duplicates(root: etree._Element, verdicts: tuple[Verdict, ...]) -> tuple[str, ...]:
    twice = duplicate_ids(root)
    if not twice:
        return ()
    referenced = {
        (verdict.signature.reference or "")[1:] for verdict in verdicts if isinstance(verdict.signature, XMLSignature)
    }
    own_ids = [str(element.get("ID")) for element in root.iter() if element.get("ID")]
    return tuple(value for value in twice if value in referenced or own_ids.count(value) > 1)


def judge_message(message: SamlMessage, keys: KeysOnRecord) -> tuple[Verdict, ...]:
    """The signatures of a message other than the answer, held against the keys of the side that sent it."""
    element = getattr(message.content, "element", None)
    if message.root is None or element is None:
        return ()
    judge = _Judge(keys)
    found = [
        judge.verdict(signature, message.found.data)
        for signature in signatures_in(message.root)
        if signature.holder is element
    ]
    beside = message.detached
    return (*found, judge.verdict(beside, b"")) if beside else tuple(found)


class _Judge:
    """Finds the key that verifies a signature, asking first those that matter most."""

    def __init__(self, keys: KeysOnRecord) -> None:
        self._workspace = keys.workspace
        self._published = keys.published
        self._trusted = keys.trusted
        self._fingerprints = [(key, key.fingerprint) for key in keys.trusted if key.fingerprint]
        self._only_fingerprints = bool(self._fingerprints) and all(key.fingerprint for key in keys.pins_that_count)

    def verdict(self, signature: XMLSignature | DetachedSignature, data: bytes) -> Verdict:
        """Who made a signature, and, where its digest does not hold, what the capture did to its document `data`."""
        if signature.refused is not None:
            return Verdict(signature, "none")
        standing, certificate, key = self._find(signature)
        if isinstance(signature, DetachedSignature):
            how = signature.spelling_signed_by(certificate.public_key) if certificate and standing != "none" else ""
            return Verdict(signature, standing, certificate, key, Alteration(how, signature) if how else None)
        if signature.digest_holds is not False:
            return Verdict(signature, standing, certificate, key)
        alteration = explain_digest(signature, data)
        if alteration and alteration.restored:
            standing, certificate, key = self._find(alteration.restored)
        elif standing != "none":
            alteration = None
        elif alteration is None:
            compact = compacted_signed_info(signature, data)
            if compact and self._find(compact)[0] in ("trusted", "published", "known"):
                alteration = Alteration("white space was put between the elements")
        return Verdict(signature, standing, certificate, key, alteration)

    def _find(self, signature: XMLSignature | DetachedSignature) -> tuple[str, Certificate | None, RecordedKey | None]:
        embedded = [found for found in map(_embedded, signature.certificates) if found]
        tried: set[bytes] = set()

        def made_it(certificate: Certificate) -> bool:
            """Whether its key made the signature; a key that many have on record is tried once."""
            if certificate.der in tried:
                return False
            tried.add(certificate.der)
            return signature.verified_by(certificate.public_key)

        hinted = sorted(self._trusted, key=lambda key: key.certificate not in embedded)
        for key in hinted:
            if key.certificate and made_it(key.certificate):
                return "trusted", key.certificate, key
        for certificate in (*embedded, *(key.certificate for key in self._published)):
            if certificate and (pin := self._pin_of(certificate)) and made_it(certificate):
                return "trusted", certificate, pin
        for key in self._published:
            if key.certificate and made_it(key.certificate):
                return "published" if self._only_fingerprints else "known", key.certificate, key
        for key in trust.everything(self._workspace):
            if key.certificate and made_it(key.certificate):
                pin = self._pin_of(key.certificate)
                return ("trusted", key.certificate, pin) if pin else ("known", key.certificate, key)
        for certificate in embedded:
            if made_it(certificate):
                return "embedded", certificate, None
        if any(signature.verified_by(key) for key in getattr(signature, "keys", ())):
            return "embedded", None, None
        return "none", embedded[0] if embedded else None, None

    def _pin_of(self, certificate: Certificate) -> RecordedKey | None:
        return next((key for key, pinned in self._fingerprints if certificate.matches(pinned)), None)


@lru_cache(maxsize=256)
def _embedded(text: str) -> Certificate | None:
    return certificate_or_none(certificate_from_base64(text).der)
