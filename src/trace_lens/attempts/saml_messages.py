"""The messages of a source, parsed: what each is, its identifier, and which message it answers."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from functools import partial

from lxml import etree

from trace_lens.common.guarding import Faults
from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.carried import EXCHANGE
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.layers import SIGNED_QUERY
from trace_lens.intake.peeling import Peeled
from trace_lens.saml.artifact import Artifact, read_artifact
from trace_lens.saml.detached import DetachedSignature, read_detached
from trace_lens.saml.messages import Assertion, AuthnRequest, LogoutRequest, LogoutResponse, Response
from trace_lens.saml.names import (
    BINDING_ARTIFACT,
    BINDING_POST,
    BINDING_REDIRECT,
    BINDING_SIMPLE_SIGN,
    BINDING_SOAP,
    PROTOCOL,
    SIGNATURE,
    SOAP,
    SOAP_12,
)
from trace_lens.saml.parsing import XMLDamaged, parse, text_of
from trace_lens.saml.reading import (
    assertion_in,
    message_in,
    read_assertion,
    read_authn_request,
    read_logout_request,
    read_logout_response,
    read_response,
)
from trace_lens.saml.signature import refuse_many_signatures

ANSWER_KINDS = ("saml-response", "saml-assertion", "saml-artifact-response", "ws-federation-response")
SIGN_OUT_KINDS = ("saml-logout-request", "saml-logout-response")
KINDS = (*ANSWER_KINDS, *SIGN_OUT_KINDS, "saml-authn-request", "saml-artifact")
"""The kinds of messages that attempts are made of."""

Content = Response | Assertion | AuthnRequest | LogoutRequest | LogoutResponse | Artifact


class SamlMessage(NamedTuple):
    """One message of a source. `damage` is set where it cannot be parsed, and `content` is None then.

    `element` is the message itself, which may stand within a SOAP envelope; `root` is the root of its document.
    """

    source: str
    found: FoundMessage
    root: etree._Element | None = None
    damage: XMLDamaged | None = None
    content: Content | None = None

    @property
    def exchange(self) -> int | None:
        """The number of the exchange that carried it; None where it comes from no capture."""
        number = self.found.context.get(EXCHANGE)
        return int(number) if number is not None else None

    @property
    def place(self) -> Location:
        """Where in the source it stood: the place that those within it are in."""
        return self.found.where

    @property
    def id(self) -> str | None:
        """Its identifier, where it has one."""
        named = getattr(self.content, "id", None)
        return named.value if named else None

    @property
    def binding(self) -> str | None:
        """The binding that it plainly came by: what its wrapping shows; None for bare XML or base64."""
        layers = self.found.layers
        if self.found.kind == "saml-artifact":
            return BINDING_ARTIFACT
        if self.root is not None and self.root.tag in (f"{{{SOAP}}}Envelope", f"{{{SOAP_12}}}Envelope"):
            return BINDING_SOAP
        if "deflate" in layers:
            return BINDING_REDIRECT
        if "form" in layers or "html-form" in layers:
            return BINDING_SIMPLE_SIGN if "Signature" in self.found.context else BINDING_POST
        return None

    @property
    def detached(self) -> DetachedSignature | None:
        """The signature that came beside it, in the query of a redirect or the fields of a form post."""
        context, element = self.found.context, getattr(self.content, "element", None)
        if "Signature" not in context or element is None:
            return None
        query = context.get(SIGNED_QUERY)
        if "deflate" in self.found.layers and query:
            parts = (part.partition("=") for part in query.split("&"))
            pieces = tuple((name, value.encode("latin-1")) for name, _, value in parts)
            binding = "redirect"
        else:
            field = "SAMLRequest" if isinstance(self.content, AuthnRequest | LogoutRequest) else "SAMLResponse"
            named = [(field, self.found.data)]
            named += [(name, context[name].encode()) for name in ("RelayState", "SigAlg") if name in context]
            pieces, binding = tuple(named), "simple-sign"
        return read_detached(
            element, binding, pieces, context.get("SigAlg", ""), context["Signature"], _certificates(context)
        )

    @property
    def answers(self) -> set[str]:
        """The requests that it says it answers (InResponseTo, of itself and of its confirmations)."""
        named = []
        content = self.content
        if isinstance(content, Response | LogoutResponse) and content.in_response_to:
            named.append(content.in_response_to.value)
        for assertion in assertions_of(content):
            for confirmation in assertion.subject.confirmations if assertion.subject else ():
                if confirmation.data and confirmation.data.in_response_to:
                    named.append(confirmation.data.in_response_to.value)
        return set(named)

    @property
    def sessions(self) -> set[str]:
        """The session indexes that its authentication statements open, or that it ends."""
        if isinstance(self.content, LogoutRequest):
            return {index.value for index in self.content.session_indexes}
        statements = [
            statement for assertion in assertions_of(self.content) for statement in assertion.authn_statements
        ]
        return {statement.session_index.value for statement in statements if statement.session_index}


def _certificates(context: Mapping[str, str]) -> tuple[str, ...]:
    """The certificates of a KeyInfo field: base64 of a ds:KeyInfo element (SimpleSign §2.5)."""
    try:
        info = parse(base64.b64decode(context.get("KeyInfo", "").replace(" ", "+")))
    except (ValueError, XMLDamaged):
        return ()
    return tuple(text_of(element) for element in info.iter(f"{{{SIGNATURE}}}X509Certificate"))


def assertions_of(content: Content | None) -> tuple[Assertion, ...]:
    """The assertions that lie open in a message."""
    if isinstance(content, Response):
        return content.assertions
    return (content,) if isinstance(content, Assertion) else ()


def read_messages(source: str, peeled: Peeled, faults: Faults) -> list[SamlMessage]:
    """The messages of a source that attempts are made of; those that make the program fail are told to `faults`."""
    wanted = [found for found in peeled.found if found.kind in KINDS]
    read = [faults.attempt(source, f"reading {found.where or 'it'}", partial(_read, source, found)) for found in wanted]
    return [message for message in read if message is not None]


def _read(source: str, found: FoundMessage) -> SamlMessage:
    if found.kind == "saml-artifact":
        return SamlMessage(source, found, content=read_artifact(found.data))
    try:
        root = parse(found.data)
        refuse_many_signatures(root, len(found.data))
    except XMLDamaged as damage:
        return SamlMessage(source, found, damage=damage)
    return SamlMessage(source, found, root, content=_content(found.kind, root))


def _content(kind: str, root: etree._Element) -> Content | None:
    element = message_in(root)
    if element is None:
        return None
    match kind:
        case "saml-response":
            return read_response(element)
        case "saml-assertion":
            return read_assertion(element)
        case "saml-artifact-response":
            inner = element.find(f"{{{PROTOCOL}}}Response")
            return None if inner is None else read_response(inner)
        case "ws-federation-response":
            token = assertion_in(element)
            return None if token is None else read_assertion(token)
        case "saml-authn-request":
            return read_authn_request(element)
        case "saml-logout-request":
            return read_logout_request(element)
        case "saml-logout-response":
            return read_logout_response(element)
    return None
