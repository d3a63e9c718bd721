"""SAML 1.1 assertions inside WS-Federation sign-in responses."""

from __future__ import annotations

from html import escape
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

import pytest
from lxml import etree

from kit import AUDIENCE, EMAIL, ISSUER, TERN, Edit, broke, judge, run_json, sign, workspace

CLAIMS = "http://schemas.northmere.example/claims"
OLD = "http://schemas.xmlsoap.org/ws/2005/02/trust"
NEW = "http://docs.oasis-open.org/ws-sx/ws-trust/200512"


def assertion_11(
    *,
    issuer: str = ISSUER,
    audience: str = AUDIENCE,
    name: str = TERN,
    begins: str = "2026-11-20T08:13:03Z",
    ends: str = "2026-11-20T09:13:03Z",
    role: str = "role",
) -> etree._Element:
    """A SAML 1.1 assertion."""
    subject = (
        f'<saml:Subject><saml:NameIdentifier Format="{EMAIL}">{name}</saml:NameIdentifier><saml:SubjectConfirmation>'
        "<saml:ConfirmationMethod>urn:oasis:names:tc:SAML:1.0:cm:bearer</saml:ConfirmationMethod>"
        "</saml:SubjectConfirmation></saml:Subject>"
    )
    return etree.fromstring(
        '<saml:Assertion xmlns:saml="urn:oasis:names:tc:SAML:1.0:assertion" MajorVersion="1" MinorVersion="1" '
        f'AssertionID="_old1" Issuer="{issuer}" IssueInstant="2026-11-20T08:14:03Z"><saml:Conditions '
        f'NotBefore="{begins}" NotOnOrAfter="{ends}"><saml:AudienceRestrictionCondition><saml:Audience>{audience}'
        "</saml:Audience></saml:AudienceRestrictionCondition></saml:Conditions><saml:AuthenticationStatement "
        'AuthenticationMethod="urn:oasis:names:tc:SAML:1.0:am:password" '
        f'AuthenticationInstant="2026-11-20T08:13:43Z">{subject}</saml:AuthenticationStatement>'
        f'<saml:AttributeStatement>{subject}<saml:Attribute AttributeName="{role}" AttributeNamespace="{CLAIMS}">'
        "<saml:AttributeValue>mate</saml:AttributeValue></saml:Attribute></saml:AttributeStatement></saml:Assertion>"
    )


def wresult(
    edit: Edit | None = None,
    *,
    signer: str | None = "id",
    trust: str = OLD,
    reference: str | None = "#_old1",
    **told: str,
) -> bytes:
    """The form post of a WS-Federation sign-in response."""
    assertion = assertion_11(**told)
    if signer:
        sign(assertion, signer, reference=reference, position=len(assertion))
    if edit:
        edit(assertion)
    inner = (
        f'<t:RequestSecurityTokenResponse xmlns:t="{trust}"><t:RequestedSecurityToken>'
        f"{etree.tostring(assertion).decode()}</t:RequestedSecurityToken></t:RequestSecurityTokenResponse>"
    )
    if trust == NEW:
        inner = f'<t:RequestSecurityTokenResponseCollection xmlns:t="{NEW}">{inner}</t:RequestSecurityTokenResponseCollection>'
    return urlencode({"wa": "wsignin1.0", "wresult": inner, "wctx": "rm=0"}).encode()


def renamed(root: etree._Element) -> None:
    """Change the name after signing."""
    for one in root.iter("{*}NameIdentifier"):
        one.text = "a.fulmar@northmere.example"


CASES: list[tuple[str, bytes, str | None, str]] = [
    ("good", wresult(), None, "sound"),
    ("good, WS-Trust 1.3", wresult(trust=NEW), None, "sound"),
    ("not signed", wresult(signer=None), "not-signed", "broken"),
    ("changed after signing", wresult(renamed), "digest-mismatch", "broken"),
    ("by a stranger", wresult(signer="stranger"), "signed-by-untrusted-key", "broken"),
    ("another audience", wresult(audience=AUDIENCE[:-1]), "audience-mismatch", "broken"),
    ("another issuer", wresult(issuer=ISSUER + "x"), "issuer-mismatch", "broken"),
    ("begins later", wresult(begins="2026-11-20T08:30:00Z"), "not-yet-valid", "broken"),
    ("ended before", wresult(ends="2026-11-20T08:00:00Z", begins="2026-11-20T07:00:00Z"), "expired", "broken"),
    ("no such account", wresult(name="x.unknown@northmere.example"), "account-not-found", "broken"),
    ("a claim of another name", wresult(role="Role"), "claim-name-near-match", "broken"),
]
APP = {
    "account": {"list": "accounts.csv"},
    "claims": [{"name": "role", "one_of": ["mate"]}],
}


@pytest.mark.parametrize(("name", "capture", "code", "outcome"), CASES, ids=[one[0] for one in CASES])
def test_a_sign_in_response(tmp_path: Path, name: str, capture: bytes, code: str | None, outcome: str) -> None:
    folder = workspace(tmp_path, APP, {"accounts.csv": f"user\n{TERN}\n"})
    found = judge(capture, folder)
    assert (broke(found), found.outcome) == (code, outcome), [one.code for one in found.findings]
    assert found.app == "crew-roster"


def test_the_whole_name_of_a_claim_serves_too(tmp_path: Path) -> None:
    whole: dict[str, Any] = {**APP, "claims": [{"name": f"{CLAIMS}/role", "one_of": ["mate"], "kind": "role"}]}
    folder = workspace(tmp_path, whole, {"accounts.csv": f"user\n{TERN}\n"})
    found = judge(wresult(), folder)
    assert found.outcome == "sound"
    assert [(row.name, row.values, row.use) for row in found.details.claims] == [(f"{CLAIMS}/role", ("mate",), "used")]


def test_decode_and_a_bare_assertion(tmp_path: Path) -> None:
    (tmp_path / "post.txt").write_bytes(wresult())
    (tmp_path / "page.html").write_text(
        f'<form><input name="wa" value="wsignin1.0"><input name="wresult" value="{escape(_plain())}"></form>'
    )
    (tmp_path / "bare.xml").write_bytes(etree.tostring(assertion_11()))
    _, document = run_json("decode", "post.txt", "page.html", "bare.xml", folder=tmp_path)
    assert [one["kind"] for one in document["messages"]] == [
        "ws-federation-response",
        "ws-federation-response",
        "saml-assertion",
    ]
    for one in document["messages"]:
        assert one["summary"]["subject"] == TERN
        assert one["summary"]["audience"] == [AUDIENCE]
        assert one["summary"]["attributes"] == {f"{CLAIMS}/role": ["mate"]}


def _plain() -> str:
    return (
        f'<t:RequestSecurityTokenResponse xmlns:t="{OLD}"><t:RequestedSecurityToken>'
        f"{etree.tostring(assertion_11()).decode()}</t:RequestedSecurityToken></t:RequestSecurityTokenResponse>"
    )


def test_a_response_without_an_assertion(tmp_path: Path) -> None:
    empty = f'<t:RequestSecurityTokenResponse xmlns:t="{OLD}"/>'.encode()
    assert broke(judge(empty, workspace(tmp_path), app="crew-roster")) == "malformed-message"
