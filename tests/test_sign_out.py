"""Sign-outs: logout messages by themselves and beside the sign-in whose session they end."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from lxml import etree

from kit import (
    AUDIENCE,
    ISSUER,
    PROVIDER,
    SLO,
    authn_request,
    broke,
    idp_metadata,
    judge,
    logout_request,
    logout_response,
    parse_all,
    posted,
    redirect,
    response,
    run_json,
    sp_metadata,
    workspace,
)

FILES = {"metadata/sp.xml": sp_metadata(), "metadata/id.xml": idp_metadata()}


def make_folder(path: Path) -> Path:
    """A workspace in which both sides' keys and sign-out addresses are on record."""
    provider = PROVIDER + 'metadata = "metadata/id.xml"\n'
    return workspace(path, {"application": {"metadata": "metadata/sp.xml"}}, FILES, provider=provider)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    return make_folder(tmp_path)


def exchange(request: bytes, *more: bytes) -> bytes:
    """A sign-in and the sign-out after it, in one capture."""
    return b"\n\n".join([posted(response()), request, *more]) + b"\n"


ANSWERED = redirect(logout_response(), "app", field="SAMLResponse")
SLO_OF_ID = "https://id.northmere.example/saml/slo"
BESIDE: list[tuple[str, bytes, bytes | None, dict[str, str]]] = [
    ("all is well", redirect(logout_request(), "id"), ANSWERED, {}),
    ("not signed", redirect(logout_request()), ANSWERED, {"sign-out-unmatched": "risk"}),
    ("another session", redirect(logout_request(session="_se9"), "id"), ANSWERED, {"sign-out-unmatched": "risk"}),
    (
        "another person",
        redirect(logout_request("a.fulmar@northmere.example"), "id"),
        ANSWERED,
        {"sign-out-unmatched": "risk"},
    ),
    ("no answer", redirect(logout_request(), "id"), None, {"sign-out-unmatched": "risk"}),
    (
        "refused",
        redirect(logout_request(), "id"),
        redirect(logout_response(status=("Responder", "PartialLogout")), "app", field="SAMLResponse"),
        {"sign-out-unmatched": "risk"},
    ),
    (
        "to another address",
        redirect(logout_request(destination=SLO + "2"), "id"),
        ANSWERED,
        {"destination-mismatch": "risk"},
    ),
    ("by a stranger's key", redirect(logout_request(), "stranger"), ANSWERED, {"signature-value-invalid": "risk"}),
    (
        "too late",
        redirect(logout_request(extra='NotOnOrAfter="2026-11-20T08:50:00Z"'), "id"),
        ANSWERED,
        {"expired": "risk"},
    ),
    (
        "by somebody else",
        redirect(logout_request(issuer="https://id.skerry-pilots.example"), "id"),
        ANSWERED,
        {"issuer-mismatch": "risk"},
    ),
    (
        "by the application",
        redirect(logout_request(issuer=AUDIENCE, destination=SLO_OF_ID), "app"),
        redirect(logout_response(issuer=ISSUER, destination=SLO), "id", field="SAMLResponse"),
        {},
    ),
]


@pytest.mark.parametrize(("name", "request_", "answer", "codes"), BESIDE, ids=[one[0] for one in BESIDE])
def test_beside_a_sign_in(
    folder: Path, name: str, request_: bytes, answer: bytes | None, codes: dict[str, str]
) -> None:
    """What is wrong with the sign-out is a risk: the sign-in works."""
    found = judge(exchange(request_, *([answer] if answer else [])), folder)
    assert found.outcome == "sound"
    assert {one.code: one.severity for one in found.findings if one.severity != "note"} == codes
    assert all(one.evidence for one in found.findings if one.code in codes)


ALONE: list[tuple[str, Any, str, str | None, str]] = [
    ("good", lambda: logout_request(), "id", None, "sound"),
    ("to another address", lambda: logout_request(destination=SLO + "2"), "id", "destination-mismatch", "broken"),
    ("another issuer", lambda: logout_request(issuer=ISSUER + "/"), "id", "issuer-mismatch", "broken"),
    ("a stranger's key", lambda: logout_request(), "stranger", "signature-value-invalid", "broken"),
]


@pytest.mark.parametrize(("name", "make", "signer", "code", "outcome"), ALONE, ids=[one[0] for one in ALONE])
def test_by_itself(folder: Path, name: str, make: Any, signer: str, code: str | None, outcome: str) -> None:
    (folder / "logout.txt").write_bytes(redirect(make(), signer))
    _, document = run_json("diagnose", "logout.txt", folder=folder)
    (attempt,) = document["attempts"]
    assert (attempt["app"], attempt["outcome"], attempt["first_break"]) == ("crew-roster", outcome, code)


TO_ANOTHER = redirect(logout_response(request="_lo7"), "app", field="SAMLResponse")
STRAY = exchange(redirect(logout_request(), "id"), TO_ANOTHER)


def test_a_response_to_another_request(folder: Path) -> None:
    assert len(parse_all(redirect(logout_request(), "id") + b"\n\n" + TO_ANOTHER)) == 2
    found = judge(STRAY, folder)
    assert "response-to-unknown-request" in {one.code for one in found.findings}


def test_a_sign_out_in_another_file_finds_its_sign_in(folder: Path) -> None:
    (folder / "in.txt").write_bytes(posted(response()))
    (folder / "out.txt").write_bytes(redirect(logout_request("a.fulmar@northmere.example"), "id"))
    _, document = run_json("diagnose", "in.txt", "out.txt", folder=folder)
    (attempt,) = document["attempts"]
    found = next(one for one in attempt["findings"] if one["code"] == "sign-out-unmatched")
    assert found["actual"] == "a.fulmar@northmere.example"
    assert found["evidence"][0]["source"] == "out.txt"


def test_a_request_signed_inside_and_changed(folder: Path) -> None:
    from kit import sign

    request = logout_request()
    sign(request, "id")
    assert broke(judge(posted(etree.tostring(request), "SAMLRequest"), folder)) is None
    request.set("Reason", "urn:x")
    assert broke(judge(posted(etree.tostring(request), "SAMLRequest"), folder)) == "digest-mismatch"


def test_what_decode_says_of_each_kind(tmp_path: Path) -> None:
    name_id = b'<samlp:ManageNameIDRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_m1" Version="2.0"/>'
    (tmp_path / "all.txt").write_bytes(
        b"\n\n".join(
            [
                redirect(authn_request(), "app"),
                redirect(logout_request(), "id"),
                ANSWERED,
                posted(name_id, "SAMLRequest"),
            ]
        )
    )
    _, document = run_json("decode", "all.txt", folder=tmp_path)
    kinds = [one["kind"] for one in document["messages"]]
    assert kinds == ["saml-authn-request", "saml-logout-request", "saml-logout-response", "saml-name-id-request"]
    request, logout, answer, _ = (one["summary"] for one in document["messages"])
    assert request["issuer"] == AUDIENCE
    assert request["signature_algorithm"].endswith("rsa-sha256")
    assert logout["session_index"] == ["_se1"]
    assert answer["status"] == ["Success"]
    status, _ = run_json("diagnose", "all.txt", folder=tmp_path)
    assert status == 0
