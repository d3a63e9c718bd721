"""Requests held against their answers, the bindings that carry them, and messages found together in one text."""

from __future__ import annotations

import base64
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote_plus

import pytest
from lxml import etree

from kit import (
    ACS,
    AUDIENCE,
    BINDINGS,
    EMAIL,
    ISSUER,
    PERSISTENT,
    PROVIDER,
    SSO,
    TERN,
    authn_request,
    broke,
    idp_metadata,
    judge,
    key,
    parse_all,
    posted,
    raw_signature,
    redirect,
    response,
    run_json,
    sign,
    sp_metadata,
    workspace,
)
from trace_lens.common.findings import Severity
from trace_lens.common.secret_names import relay_words

CLASSES = "urn:oasis:names:tc:SAML:2.0:ac:classes:"
WANTS = PROVIDER + 'metadata = "metadata/id.xml"\n'
SETUP = {"provider_setup": {"audience": AUDIENCE, "acs_url": ACS}}
MINE = {"application": {"metadata": "metadata/sp.xml"}}


def context(comparison: str, *classes: str) -> str:
    """A RequestedAuthnContext."""
    inner = "".join(f"<saml:AuthnContextClassRef>{CLASSES}{one}</saml:AuthnContextClassRef>" for one in classes)
    return f'<samlp:RequestedAuthnContext Comparison="{comparison}">{inner}</samlp:RequestedAuthnContext>'


def together(request: bytes, answer: bytes) -> bytes:
    """A request and its answer in one capture."""
    return b"GET " + request + b"\n\n" + answer + b"\n"


CASES: list[tuple[str, dict[str, Any], dict[str, Any], dict[str, Any], str | None, str]] = [
    ("all is well", {}, {}, SETUP, None, ""),
    ("the answer is to another request", {}, {"request": "_rq9"}, SETUP, "response-to-unknown-request", "break"),
    ("the answer names no request", {}, {"request": None}, SETUP, "in-response-to-missing", "risk"),
    ("an ACS URL the provider does not have", {"acs": ACS + "/v2"}, {}, SETUP, "acs-not-registered", "break"),
    (
        "another identifier than at the provider",
        {"issuer": AUDIENCE[:-1]},
        {},
        SETUP,
        "identifier-in-request-unknown",
        "break",
    ),
    ("sent to another address", {"destination": SSO + "2"}, {}, {**SETUP}, "destination-mismatch", "risk"),
    (
        "another format than asked for",
        {"inner": f'<samlp:NameIDPolicy Format="{PERSISTENT}"/>'},
        {},
        SETUP,
        "name-id-format-mismatch",
        "break",
    ),
    ("the format asked for", {"inner": f'<samlp:NameIDPolicy Format="{EMAIL}"/>'}, {}, SETUP, None, ""),
    (
        "a redirect asked for",
        {"extra": f'ProtocolBinding="{BINDINGS}HTTP-Redirect"'},
        {},
        SETUP,
        "wrong-binding",
        "break",
    ),
    (
        "an artifact asked for, a post came",
        {"extra": f'ProtocolBinding="{BINDINGS}HTTP-Artifact"'},
        {},
        SETUP,
        "wrong-binding",
        "break",
    ),
    ("a post asked for", {"extra": f'ProtocolBinding="{BINDINGS}HTTP-POST"'}, {}, SETUP, None, ""),
    (
        "forced, and an old session used",
        {"extra": 'ForceAuthn="true"'},
        {"authenticated": "2026-11-20T07:00:00Z"},
        SETUP,
        "authentication-too-old",
        "break",
    ),
    ("forced, and done", {"extra": 'ForceAuthn="true"'}, {}, SETUP, None, ""),
    ("exactly another class", {"inner": context("exact", "Smartcard")}, {}, SETUP, "assurance-too-low", "break"),
    ("one of two classes", {"inner": context("exact", "Smartcard", "Password")}, {}, SETUP, None, ""),
    ("at least a weaker class", {"inner": context("minimum", "InternetProtocol")}, {}, SETUP, None, ""),
    (
        "at least a stronger class",
        {"inner": context("minimum", "TimeSyncToken")},
        {},
        SETUP,
        "assurance-too-low",
        "break",
    ),
    ("better than the same class", {"inner": context("better", "Password")}, {}, SETUP, "assurance-too-low", "break"),
    ("at most a weaker class", {"inner": context("maximum", "unspecified")}, {}, SETUP, "assurance-too-low", "break"),
    (
        "another person asked for",
        {
            "inner": f'<saml:Subject><saml:NameID Format="{EMAIL}">a.fulmar@northmere.example</saml:NameID></saml:Subject>'
        },
        {},
        SETUP,
        "other-user-answered",
        "break",
    ),
    (
        "another provider asked for",
        {
            "inner": '<samlp:Scoping><samlp:IDPList><samlp:IDPEntry ProviderID="https://id.skerry-pilots.example"/>'
            "</samlp:IDPList></samlp:Scoping>"
        },
        {},
        SETUP,
        "issuer-mismatch",
        "risk",
    ),
    ("signed requests wanted", {}, {}, {**SETUP, "wants": True}, "request-unsigned", "risk"),
]


def capture_of(asked: dict[str, Any], answered: dict[str, Any]) -> bytes:
    """A request and its answer, each with what is told of it."""
    return together(redirect(authn_request(**asked)), posted(response(**answered), RelayState="ss:4d1f"))


def folder_for(folder: Path, settings: dict[str, Any]) -> Path:
    """A workspace with these settings; `wants` says that the provider wants signed requests."""
    app = {key: value for key, value in settings.items() if key != "wants"}
    metadata = idp_metadata(role='WantAuthnRequestsSigned="true"' if settings.get("wants") else "")
    return workspace(folder, app, {"metadata/id.xml": metadata}, provider=WANTS)


@pytest.mark.parametrize(
    ("name", "asked", "answered", "settings", "code", "severity"), CASES, ids=[c[0] for c in CASES]
)
def test_a_request_held_against_its_answer(
    tmp_path: Path,
    name: str,
    asked: dict[str, Any],
    answered: dict[str, Any],
    settings: dict[str, Any],
    code: str | None,
    severity: str,
) -> None:
    found = judge(capture_of(asked, answered), folder_for(tmp_path, settings))
    assert found.parties.started_by == "application"
    told = {one.code: one for one in found.findings if one.severity in ("break", "risk")}
    assert set(told) == ({code} if code else set())
    if code:
        assert told[code].severity == severity
        assert broke(found) == (code if severity == "break" else None)
        assert told[code].evidence
    open_codes = {one.code for one in found.unchecked}
    assert not open_codes & {"assurance-too-low", "response-to-unknown-request", "relay-state-unexpected"}


def test_relay_state_that_comes_back_changed(tmp_path: Path) -> None:
    folder = workspace(tmp_path, SETUP)
    capture = together(redirect(authn_request()), posted(response(), RelayState="other"))
    found = next(one for one in judge(capture, folder).findings if one.code == "relay-state-unexpected")
    assert (found.expected, found.actual, found.severity) == (relay_words("ss:4d1f"), relay_words("other"), "risk")
    assert "ss:4d1f" not in str(found.expected)


def test_an_index_that_the_metadata_lacks(tmp_path: Path) -> None:
    folder = workspace(tmp_path, {**SETUP, **MINE}, {"metadata/sp.xml": sp_metadata()})
    for index, code in (("0", None), ("7", "acs-not-registered")):
        request = authn_request(acs=None, extra=f'AssertionConsumerServiceIndex="{index}"')
        found = judge(together(redirect(request), posted(response())), folder)
        assert broke(found) == code


def respelled(address: bytes) -> bytes:
    """An address decoded and encoded anew, with small letters."""
    head, _, query = address.decode().partition("?")
    parts = [part.partition("=") for part in query.split("&")]
    return (
        head + "?" + "&".join(f"{n}={quote(unquote_plus(v), safe='').replace('%2F', '%2f')}" for n, _, v in parts)
    ).encode()


@pytest.mark.parametrize(
    ("what", "change", "code"),
    [
        ("as it was sent", lambda url: url, None),
        ("encoded anew", respelled, None),
        ("another relay state", lambda url: url.replace(b"ss%3A4d1f", b"ss%3A4d1e"), "signature-value-invalid"),
        ("another algorithm", lambda url: url.replace(b"rsa-sha256", b"hmac-sha256"), "signature-form-refused"),
    ],
)
def test_the_signature_of_a_redirect(tmp_path: Path, what: str, change: Any, code: str | None) -> None:
    folder = workspace(tmp_path, {**SETUP, **MINE}, {"metadata/sp.xml": sp_metadata()})
    found = judge(change(redirect(authn_request(), "app")), folder)
    assert broke(found) == code
    assert found.outcome == ("broken" if code else "inconclusive"), "the answer is not there"
    stranger = judge(redirect(authn_request(), "stranger"), folder)
    assert broke(stranger) == "signature-value-invalid"


def test_a_request_signed_inside(tmp_path: Path) -> None:
    folder = workspace(tmp_path, {**SETUP, **MINE}, {"metadata/sp.xml": sp_metadata()})
    request = authn_request()
    sign(request, "app")
    assert broke(judge(posted(etree.tostring(request), "SAMLRequest"), folder)) is None
    request.set("ForceAuthn", "true")
    broken = judge(posted(etree.tostring(request), "SAMLRequest"), folder)
    assert broke(broken) == "digest-mismatch"


def simple_sign(message: bytes, signer: str = "id", relay: str = "ss:4d1f") -> bytes:
    """A response with a SimpleSign signature over its fields."""
    method = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"
    octets = b"SAMLResponse=" + message + f"&RelayState={relay}&SigAlg={method}".encode()
    from cryptography.hazmat.primitives import hashes

    value = base64.b64encode(raw_signature(key(signer), octets, hashes.SHA256())).decode()
    return posted(message, RelayState=relay, SigAlg=method, Signature=value)


def test_a_form_post_with_a_simple_signature(tmp_path: Path) -> None:
    folder = workspace(tmp_path, {"application": {"signed_part": "response"}})
    good = judge(simple_sign(response(signed="none")), folder)
    assert good.outcome == "sound", good.cause
    changed = simple_sign(response(signed="none")).replace(b"ss%3A4d1f", b"ss%3A4d1e")
    broken = judge(changed, folder)
    assert broke(broken) == "signature-value-invalid"
    other = judge(simple_sign(response(signed="none"), "stranger"), folder)
    assert broke(other) == "signature-value-invalid"


def test_a_request_without_its_answer(tmp_path: Path) -> None:
    folder = workspace(tmp_path, SETUP)
    (folder / "request.txt").write_bytes(redirect(authn_request(acs=ACS + "2")))
    status, document = run_json("diagnose", "request.txt", folder=folder)
    (attempt,) = document["attempts"]
    assert (status, attempt["app"], attempt["chosen_by"], attempt["started_by"]) == (
        1,
        "crew-roster",
        "audience",
        "application",
    )
    assert attempt["first_break"] == "acs-not-registered"
    assert {one["because"] for one in attempt["unchecked"]} >= {"the answer to the request is not in this capture"}


def test_a_request_and_its_answer_in_two_files(tmp_path: Path) -> None:
    folder = workspace(tmp_path, SETUP)
    (folder / "a.txt").write_bytes(posted(response(), RelayState="ss:4d1f"))
    (folder / "b.txt").write_bytes(redirect(authn_request(inner=context("exact", "Smartcard"))))
    (folder / "c.txt").write_bytes(posted(response(request="_rq7", identifier="_as7"), RelayState="ss:4d1f"))
    _, document = run_json("diagnose", "a.txt", "b.txt", "c.txt", folder=folder)
    assert [(one["source"], one["first_break"]) for one in document["attempts"]] == [
        ("a.txt", "assurance-too-low"),
        ("c.txt", None),
    ]
    _, document = run_json("diagnose", "b.txt", "c.txt", "--together", folder=folder)
    assert [one["first_break"] for one in document["attempts"]] == ["response-to-unknown-request"]


def test_two_sign_ins_in_one_text_are_told_apart() -> None:
    first = together(redirect(authn_request()), posted(response()))
    second = together(
        redirect(authn_request(identifier="_rq2")),
        posted(response(request="_rq2", identifier="_as2", response_id="_rs2")),
    )
    attempts = parse_all(first + second)
    assert [(one.request.id, one.assertion or one.response.assertions[0].id.value) for one in attempts] == [
        ("_rq1", "_as1"),
        ("_rq2", "_as2"),
    ]


def test_a_silent_round_belongs_to_the_attempt_after_it(tmp_path: Path) -> None:
    folder = workspace(tmp_path, SETUP)
    silent = redirect(authn_request(extra='IsPassive="true"', identifier="_rq0"))
    refused = posted(response(status=("Responder", "NoPassive"), signed="none", request="_rq0", response_id="_rs0"))
    rest = together(redirect(authn_request()), posted(response(), RelayState="ss:4d1f"))
    found = parse_all(together(silent, refused) + rest)
    assert len(found) == 1
    assert len(found[0].earlier) == 2
    assert judge(together(silent, refused) + rest, folder).outcome == "sound"
    alone = judge(together(silent, refused), folder)
    assert broke(alone) == "provider-refused"


def soap(inner: bytes) -> bytes:
    """A SOAP envelope."""
    return (
        b'<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>' + inner + b"</s:Body></s:Envelope>"
    )


def test_an_artifact_and_what_it_stands_for(tmp_path: Path) -> None:
    import hashlib

    folder = workspace(tmp_path, SETUP)
    handle = b"\x00\x04\x00\x01" + hashlib.sha1(ISSUER.encode()).digest() + bytes(range(20))
    artifact = b"SAMLart=" + quote(base64.b64encode(handle).decode(), safe="").encode() + b"&RelayState=x"
    (folder / "artifact.txt").write_bytes(artifact)
    _, document = run_json("decode", "artifact.txt", folder=folder)
    (message,) = document["messages"]
    assert message["kind"] == "saml-artifact"
    assert message["summary"]["endpoint_index"] == 1
    assert message["summary"]["issuer"] == ISSUER
    _, document = run_json("diagnose", "artifact.txt", folder=folder)
    assert [(one["provider"], one["outcome"]) for one in document["attempts"]] == [("northmere-id", "inconclusive")]

    samlp = 'xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol"'
    head = f'<samlp:ArtifactResponse {samlp} ID="_ar1" Version="2.0" InResponseTo="_ad1" IssueInstant="2026-11-20T08:14:03Z">'
    resolved = soap(head.encode() + response() + b"</samlp:ArtifactResponse>")
    found = judge(resolved, folder)
    assert (found.outcome, found.app, found.subject) == ("sound", "crew-roster", TERN)
    (attempt,) = parse_all(artifact + b"\n\n" + b"\n" + posted(resolved, "SAMLResponse"))
    assert attempt.kind == "answer"
    assert attempt.artifact is not None


def test_the_codes_of_an_answer_that_refuses_point_at_the_request(tmp_path: Path) -> None:
    """Where the request's own fault is plain, the refusal is its effect."""
    folder = workspace(tmp_path, SETUP)
    refused = posted(response(status=("Requester", "UnsupportedBinding"), signed="none"))
    plain = judge(refused, folder)
    assert broke(plain) == "request-rejected"
    capture = together(redirect(authn_request(issuer=AUDIENCE[:-1])), refused)
    found = judge(capture, folder)
    assert broke(found) == "identifier-in-request-unknown"
    effect = next(one for one in found.findings if one.code == "request-rejected")
    assert (effect.because_of, effect.severity) == ("identifier-in-request-unknown", Severity.BREAK)


def test_an_artifact_is_told_its_application_by_the_address_it_came_to(tmp_path: Path) -> None:
    import hashlib

    octets = b"\x00\x04\x00\x00" + hashlib.sha1(ISSUER.encode()).digest() + b"h" * 20
    folder = workspace(tmp_path)
    address = f"{ACS}?SAMLart={quote(base64.b64encode(octets).decode(), safe='')}"
    _, document = run_json("diagnose", "-", folder=folder, stdin=address.encode())
    (attempt,) = document["attempts"]
    assert (attempt["app"], attempt["provider"], attempt["chosen_by"]) == ("crew-roster", "northmere-id", "destination")
    _, opened = run_json("decode", "-", folder=folder, stdin=address.encode())
    summary = opened["messages"][0]["summary"]
    assert (summary["endpoint_index"], summary["issuer"]) == (0, ISSUER)
    assert "6868" not in summary["handle"]
