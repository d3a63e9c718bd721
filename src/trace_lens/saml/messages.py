"""The objects that a SAML 2.0 Response is read into; every value knows where it stands.

Names and structure follow SAML 2.0 Core §2 (assertions) and §3 (protocols), element by element.
"""

from __future__ import annotations

import typing
from datetime import datetime
from typing import Generic, TypeVar

from lxml import etree

from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple
from trace_lens.saml import parsing
from trace_lens.saml.names import FORMAT_UNSPECIFIED

T = TypeVar("T")


class Located(typing.NamedTuple, Generic[T]):
    """A value and the element (and attribute) that it was read from."""

    value: T
    element: etree._Element
    attribute: str | None = None

    @property
    def where(self) -> Location:
        """Line and path of the value."""
        return parsing.where(self.element, self.attribute)


Text = Located[str]


class Instant(NamedTuple):
    """A moment as written and as understood: `moment` is None where the text is no moment at all."""

    text: Text
    moment: datetime | None
    in_utc: bool


class NameID(NamedTuple):
    """A name identifier (Core §2.2.2, §2.2.3); also an Issuer (§2.2.5) and a BaseID's outer form (§2.2.1)."""

    text: Text
    format: str
    name_qualifier: str | None = None
    sp_name_qualifier: str | None = None
    sp_provided_id: str | None = None
    format_given: bool = False

    @property
    def value(self) -> str:
        """The identifier, to the letter."""
        return self.text.value


class Encrypted(NamedTuple):
    """An EncryptedAssertion, EncryptedID or EncryptedAttribute, closed."""

    element: etree._Element


class ConfirmationData(NamedTuple):
    """SubjectConfirmationData (Core §2.4.1.2)."""

    element: etree._Element
    not_before: Instant | None
    not_on_or_after: Instant | None
    recipient: Text | None
    in_response_to: Text | None
    address: Text | None


class SubjectConfirmation(NamedTuple):
    """SubjectConfirmation (Core §2.4.1.1)."""

    element: etree._Element
    method: Text | None
    data: ConfirmationData | None
    name_id: NameID | None


class Subject(NamedTuple):
    """Subject (Core §2.4.1): at most one of `name_id`, `base_id` and `encrypted_id`."""

    element: etree._Element
    name_id: NameID | None
    base_id: Text | None
    encrypted_id: Encrypted | None
    confirmations: tuple[SubjectConfirmation, ...]


class Conditions(NamedTuple):
    """Conditions (Core §2.5.1); each audience restriction must hold by itself."""

    element: etree._Element
    not_before: Instant | None
    not_on_or_after: Instant | None
    audience_restrictions: tuple[tuple[Text, ...], ...]
    one_time_use: bool
    proxy_count: str | None
    proxy_audiences: tuple[Text, ...]
    unknown: tuple[str, ...]

    @property
    def audiences(self) -> tuple[Text, ...]:
        """All audiences of all restrictions."""
        return tuple(audience for restriction in self.audience_restrictions for audience in restriction)


class AuthnStatement(NamedTuple):
    """AuthnStatement (Core §2.7.2) with its context (§2.7.2.2)."""

    element: etree._Element
    authn_instant: Instant | None
    session_index: Text | None
    session_not_on_or_after: Instant | None
    locality_address: str | None
    locality_name: str | None
    context_class: Text | None
    context_declaration: Text | None
    authenticating_authorities: tuple[Text, ...]


class AttributeValue(NamedTuple):
    """One AttributeValue (Core §2.7.3.1.1): its text, or the name of the element that it holds."""

    text: Text
    nil: bool
    xsi_type: str | None
    holds_element: str | None
    name_id: NameID | None


class Attribute(NamedTuple):
    """Attribute (Core §2.7.3.1)."""

    element: etree._Element
    name: str
    name_format: str | None
    friendly_name: str | None
    values: tuple[AttributeValue, ...]


class AuthorizationDecision(NamedTuple):
    """AuthzDecisionStatement (Core §2.7.4)."""

    element: etree._Element
    resource: str | None
    decision: str | None
    actions: tuple[str, ...]


class Assertion(NamedTuple):
    """Assertion (Core §2.3.3)."""

    element: etree._Element
    id: Text | None
    version: Text | None
    issue_instant: Instant | None
    issuer: NameID | None
    subject: Subject | None
    conditions: Conditions | None
    has_advice: bool
    authn_statements: tuple[AuthnStatement, ...]
    attributes: tuple[Attribute, ...]
    encrypted_attributes: tuple[Encrypted, ...]
    authorization_decisions: tuple[AuthorizationDecision, ...]
    unknown_statements: tuple[str, ...]


class Status(NamedTuple):
    """Status (Core §3.2.2): the codes from the top level inwards, the message and what the detail holds."""

    element: etree._Element
    codes: tuple[Text, ...]
    message: Text | None
    detail: Text | None


class Response(NamedTuple):
    """Response (Core §3.3.3); `assertions` are its own children only, never found by search."""

    element: etree._Element
    id: Text | None
    version: Text | None
    issue_instant: Instant | None
    destination: Text | None
    in_response_to: Text | None
    consent: Text | None
    issuer: NameID | None
    extensions: tuple[str, ...]
    status: Status | None
    assertions: tuple[Assertion, ...]
    encrypted_assertions: tuple[Encrypted, ...]


class NameIDPolicy(NamedTuple):
    """NameIDPolicy (Core §3.4.1.1)."""

    element: etree._Element
    format: Text | None
    sp_name_qualifier: Text | None
    allow_create: bool


class RequestedAuthnContext(NamedTuple):
    """RequestedAuthnContext (Core §3.3.2.2.1); `comparison` is exact, minimum, maximum or better."""

    element: etree._Element
    comparison: str
    classes: tuple[Text, ...]
    declarations: tuple[Text, ...]


class Scoping(NamedTuple):
    """Scoping (Core §3.4.1.2): the providers that may answer, and how often the request may be passed on."""

    element: etree._Element
    proxy_count: int | None
    providers: tuple[Text, ...]
    requesters: tuple[Text, ...]


class AuthnRequest(NamedTuple):
    """AuthnRequest (Core §3.4.1)."""

    element: etree._Element
    id: Text | None
    version: Text | None
    issue_instant: Instant | None
    destination: Text | None
    issuer: NameID | None
    subject: Subject | None
    name_id_policy: NameIDPolicy | None
    requested_context: RequestedAuthnContext | None
    scoping: Scoping | None
    force_authn: bool
    is_passive: bool
    protocol_binding: Text | None
    acs_url: Text | None
    acs_index: Text | None
    attribute_index: Text | None
    provider_name: Text | None


class LogoutRequest(NamedTuple):
    """LogoutRequest (Core §3.7.1)."""

    element: etree._Element
    id: Text | None
    version: Text | None
    issue_instant: Instant | None
    destination: Text | None
    issuer: NameID | None
    name_id: NameID | None
    encrypted_id: Encrypted | None
    session_indexes: tuple[Text, ...]
    not_on_or_after: Instant | None
    reason: Text | None


class LogoutResponse(NamedTuple):
    """LogoutResponse (Core §3.7.2)."""

    element: etree._Element
    id: Text | None
    version: Text | None
    issue_instant: Instant | None
    destination: Text | None
    in_response_to: Text | None
    issuer: NameID | None
    status: Status | None


def is_unspecified(name: NameID) -> bool:
    """Whether a name says nothing of its format (Core §8.3.1, and the default of §2.2.2)."""
    return name.format == FORMAT_UNSPECIFIED
