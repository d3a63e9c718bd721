"""The XML of the demo's SAML responses."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from html import escape

from lxml import etree

from trace_lens.demo.diary import Entry, put_down
from trace_lens.demo.keys import SigningKey
from trace_lens.demo.signing import sign

_SAML = "urn:oasis:names:tc:SAML:2.0:"
EMAIL = "urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"
TRANSIENT = _SAML + "nameid-format:transient"
SUCCESS = _SAML + "status:Success"
RESPONDER = _SAML + "status:Responder"
REQUEST_DENIED = _SAML + "status:RequestDenied"


@dataclass(frozen=True, slots=True)
class Answer:
    """What goes into one response; times are offsets in seconds from `issued`."""

    issuer: str
    audience: str
    acs_url: str
    name_id: str
    issued: datetime
    attributes: dict[str, list[str]] = field(default_factory=dict)
    name_id_format: str = EMAIL
    answers_request: bool = True
    begins: int = -60
    ends: int = 300
    authenticated: int = -20
    session: int = 8 * 3600
    status: tuple[str, ...] = (SUCCESS,)
    status_message: str = ""


def stamp(moment: datetime) -> str:
    """A moment as SAML writes it."""
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def response(
    answer: Answer, key: SigningKey, draw: random.Random, signed: str = "assertion", to_request: str | None = None
) -> etree._Element:
    """A response, signed as told: `assertion`, `response`, `both` or `none`; it answers `to_request` where that is
    given, otherwise a request of its own.
    """
    request = to_request or (f"_rq{draw.getrandbits(96):024x}" if answer.answers_request else None)
    root = etree.fromstring(_response(answer, f"_rs{draw.getrandbits(96):024x}", request))
    if answer.status == (SUCCESS,):
        assertion = etree.fromstring(_assertion(answer, f"_as{draw.getrandbits(96):024x}", request, draw))
        if signed in ("assertion", "both"):
            sign(assertion, key)
        root.append(assertion)
    if signed in ("response", "both"):
        sign(root, key)
    opened = root.find(f".//{{{_SAML}assertion}}AuthnStatement")
    session = str(opened.get("SessionIndex")) if opened is not None else ""
    given = answer.status == (SUCCESS,)
    put_down(draw, Entry(answer.name_id, answer.acs_url, answer.issuer, answer.issued, request, session, given))
    return root


def _response(answer: Answer, identifier: str, request: str | None) -> str:
    codes = "".join(f'<samlp:StatusCode Value="{code}">' for code in answer.status) + "</samlp:StatusCode>" * len(
        answer.status
    )
    message = (
        f"<samlp:StatusMessage>{escape(answer.status_message)}</samlp:StatusMessage>" if answer.status_message else ""
    )
    replies = f' InResponseTo="{request}"' if request else ""
    return (
        f'<samlp:Response xmlns:samlp="{_SAML}protocol" xmlns:saml="{_SAML}assertion" ID="{identifier}" Version="2.0" '
        f'IssueInstant="{stamp(answer.issued)}" Destination="{escape(answer.acs_url)}"{replies}>'
        f"<saml:Issuer>{escape(answer.issuer)}</saml:Issuer><samlp:Status>{codes}{message}</samlp:Status></samlp:Response>"
    )


def _assertion(answer: Answer, identifier: str, request: str | None, draw: random.Random) -> str:
    def at(seconds: int) -> str:
        return stamp(answer.issued + timedelta(seconds=seconds))

    replies = f' InResponseTo="{request}"' if request else ""
    return (
        f'<saml:Assertion xmlns:saml="{_SAML}assertion" ID="{identifier}" Version="2.0" IssueInstant="{at(0)}">'
        f"<saml:Issuer>{escape(answer.issuer)}</saml:Issuer>"
        f'<saml:Subject><saml:NameID Format="{answer.name_id_format}">{escape(answer.name_id)}</saml:NameID>'
        f'<saml:SubjectConfirmation Method="{_SAML}cm:bearer"><saml:SubjectConfirmationData '
        f'NotOnOrAfter="{at(answer.ends)}" Recipient="{escape(answer.acs_url)}"{replies}/></saml:SubjectConfirmation>'
        f'</saml:Subject><saml:Conditions NotBefore="{at(answer.begins)}" NotOnOrAfter="{at(answer.ends)}">'
        f"<saml:AudienceRestriction><saml:Audience>{escape(answer.audience)}</saml:Audience></saml:AudienceRestriction>"
        f'</saml:Conditions><saml:AuthnStatement AuthnInstant="{at(answer.authenticated)}" '
        f'SessionIndex="_se{draw.getrandbits(64):016x}" SessionNotOnOrAfter="{at(answer.session)}"><saml:AuthnContext>'
        f"<saml:AuthnContextClassRef>{_SAML}ac:classes:PasswordProtectedTransport</saml:AuthnContextClassRef>"
        f"</saml:AuthnContext></saml:AuthnStatement>{_attributes(answer)}</saml:Assertion>"
    )


def _attributes(answer: Answer) -> str:
    if not answer.attributes:
        return ""
    rows = "".join(
        f'<saml:Attribute Name="{escape(name)}">'
        + "".join(f"<saml:AttributeValue>{escape(value)}</saml:AttributeValue>" for value in values)
        + "</saml:Attribute>"
        for name, values in answer.attributes.items()
    )
    return f"<saml:AttributeStatement>{rows}</saml:AttributeStatement>"
