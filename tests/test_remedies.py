"""Remedies that fit: the side whose value is wrong by the evidence, and the value that puts it right."""

from __future__ import annotations

import json
import os
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.serialization import Encoding

import oidc_kit
import test_oidc
from cases import CASES, Case
from kit import NOW, PROVIDER, certificate, pem, posted, response, run, run_json, workspace
from oidc_kit import client_workspace
from recorded_kit import judged
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.pki.certificates import read_certificate
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile

OWN = str(read_certificate(certificate("id").public_bytes(Encoding.DER)).sha256)
BOTH = PROVIDER.replace('["certs/id.pem"]', '["certs/id.pem", "certs/next.pem"]')
NEXT = str(read_certificate(certificate("next").public_bytes(Encoding.DER)).sha256)


def slipped(fingerprint: str, count: int) -> str:
    """A fingerprint with some of its last digits mistyped."""
    wrong = (
        "".join("0" if char != "0" else "1" for char in fingerprint[-2:][-count:]) if count <= 2 else "00:" * 9 + "00"
    )
    return fingerprint[: -len(wrong)] + wrong


def settings_findings(folder: Path) -> dict[str, list[dict[str, Any]]]:
    found: dict[str, list[dict[str, Any]]] = {}
    for finding in json.loads(run("apps", "check", "--format", "json", folder=folder).stdout)["applications"][0][
        "findings"
    ]:
        found.setdefault(finding["code"], []).append(finding)
    return found


@pytest.mark.parametrize(("slips", "mistyped"), [(1, True), (2, True), (10, False)])
def test_a_mistyped_pin_is_put_right_and_not_added_to(tmp_path: Path, slips: int, mistyped: bool) -> None:
    pins = {"application": {"trusted_certificates": [slipped(OWN, slips)]}}
    found = settings_findings(workspace(tmp_path, pins))
    (pin,) = found["certificate-not-published"]
    assert ("mistyped" in pin["detail"]) is mistyped
    assert pin["value_to_set"] == OWN
    assert ("next-key-not-pinned" in found) is not mistyped


def test_beside_a_mistyped_pin_the_next_key_is_still_told(tmp_path: Path) -> None:
    """Only the certificate that the pin was meant to be is passed over, no other one that is published."""
    pins = {"application": {"trusted_certificates": [slipped(OWN, 1)]}}
    folder = workspace(tmp_path, pins, {"certs/next.pem": pem(certificate("next"))}, provider=BOTH)
    (other,) = settings_findings(folder)["next-key-not-pinned"]
    assert other["value_to_set"] == NEXT


@pytest.mark.parametrize(
    ("pins", "replaced"), [(["certs/old.pem"], True), (["certs/old.pem", "certs/older.pem"], False)]
)
def test_an_only_pin_is_replaced_and_several_are_added_to(tmp_path: Path, pins: list[str], replaced: bool) -> None:
    files = {f"certs/{name}.pem": pem(certificate(name)) for name in ("old", "older")}
    folder = workspace(tmp_path, {"application": {"trusted_certificates": pins}}, files)
    (folder / "m.xml").write_bytes(response())
    (attempt,) = run_json("diagnose", "m.xml", folder=folder)[1]["attempts"]
    (first,) = [item for item in attempt["findings"] if item["code"] == attempt["first_break"]]
    assert first["code"] == "signed-by-other-known-key"
    assert first["remedy"].startswith("Replace") is replaced
    assert all(pin in attempt["try"] for pin in pins) is not replaced
    tried = run("diagnose", "m.xml", "--set", attempt["try"], folder=folder)
    assert tried.stdout.decode().startswith("WOULD BE SOUND")


@pytest.mark.parametrize(
    ("error", "cause"),
    [("invalid_client", "client-secret-expired"), ("invalid_grant", "code-verifier-mismatch")],
)
def test_an_error_of_the_token_endpoint_has_a_cause_that_it_is_for(tmp_path: Path, error: str, cause: str) -> None:
    """An ended secret and a verifier that does not fit at once: each error is explained by its own."""
    folder = client_workspace(tmp_path, application="secret_expires = 2025-11-13")
    told = (
        oidc_kit.request(),
        oidc_kit.answer(),
        oidc_kit.token_request(code_verifier="x" * 43),
        json.dumps({"error": error}),
    )
    (folder / "m.txt").write_text(oidc_kit.capture(*told))
    (attempt,) = run_json("diagnose", "m.txt", folder=folder)[1]["attempts"]
    because = {item["code"]: item["because_of"] for item in attempt["findings"]}
    assert because["token-request-refused"] == cause


def test_a_silent_request_is_not_answered_with_another_account(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "m.txt").write_bytes(posted(response(status=("Responder", "NoPassive"), signed="none")))
    (attempt,) = run_json("diagnose", "m.txt", "--app", "crew-roster", folder=folder)[1]["attempts"]
    (first,) = [item for item in attempt["findings"] if item["code"] == attempt["first_break"]]
    assert "account" not in first["remedy"]
    assert "IsPassive" in first["remedy"]


@pytest.mark.parametrize(("set_in_app", "side"), [("published", "provider"), ("sent", None), ("other", "application")])
def test_a_token_of_another_tenant_is_repaired_where_the_value_is_wrong(
    tmp_path: Path, set_in_app: str, side: str | None
) -> None:
    """Where the application has what the provider's documents say, the provider acts; else the application."""
    sent = oidc_kit.ISSUER + "/b"
    value = {"published": oidc_kit.ISSUER, "sent": sent, "other": oidc_kit.ISSUER + "/c"}[set_in_app]
    folder = client_workspace(tmp_path)
    file = folder / "apps/berth-planner.toml"
    file.write_text(file.read_text().replace(f'provider_issuer = "{oidc_kit.ISSUER}"', f'provider_issuer = "{value}"'))
    (folder / "m.txt").write_text(oidc_kit.token(iss=sent))
    (attempt,) = run_json("diagnose", "m.txt", "--app", "berth-planner", folder=folder)[1]["attempts"]
    found = [item for item in attempt["findings"] if item["code"] == "issuer-mismatch"]
    assert [item["side"] for item in found] == ([side] if side else [])


RECORDS: list[tuple[str, str | None, bool]] = [
    ("oidc-no-account", "accounts/ticket-desk.csv", False),
    ("oidc-not-assigned", "assignments/ticket-desk.csv", False),
    ("oidc-group-needed", "apps/fuel-ledger.toml, application.scopes", False),
    ("oidc-unknown-client", "apps/ticket-desk.toml, application.client_id", True),
    ("oidc-uri-not-on-record", "apps/ticket-desk.toml, provider_setup.redirect_uris", True),
    ("oidc-uri-unregistered", "apps/ticket-desk.toml, application.redirect_uris", True),
    ("saml-audience", "apps/crew-roster.toml, provider_setup.audience", True),
    ("saml-audience-slash", "apps/berth-planner.toml, provider_setup.audience", False),
    ("saml-acs-unregistered", "apps/crew-roster.toml, application.acs_urls", True),
    ("saml-old-key", "apps/crew-roster.toml, application.trusted_certificates", False),
    ("saml-name-login", None, False),
    ("saml-unknown-key", None, False),
    ("saml-cookie-lost", None, False),
    ("saml-replayed", None, False),
    ("oidc-closed", None, False),
]
"""Recordings, and where in the workspace their repair is put on record; whether the record has the value already."""


@pytest.mark.parametrize(("name", "place", "held"), RECORDS, ids=[row[0] for row in RECORDS])
def test_where_the_record_must_follow(name: str, place: str | None, held: bool) -> None:
    (found,) = judged(name)
    record = found.details.record
    assert (str(record) if record else None, bool(record and record.held)) == (place, held)


def offered(found: tuple[Diagnosis, ...]) -> list[tuple[str, str | None, str | None]]:
    return [(each.code, each.actual, each.value_to_set) for one in found for each in one.findings if each.breaks]


EVERY = slice(None, None, 1 if os.environ.get("EVERY_CAPTURE") else 4)


@pytest.mark.parametrize("row", test_oidc.ROWS[EVERY], ids=lambda row: row.name)
def test_no_value_for_a_client_is_withdrawn_when_it_is_tried(row: test_oidc.Row, tmp_path: Path) -> None:
    """A trial that does not help is one of the wrong setting, which would take a right value with it."""
    known = load_workspace(client_workspace(tmp_path, **row.settings))
    sources = [SourceFile(f"{number}.txt", text.encode()) for number, text in enumerate(row.texts)]
    options = Options(NOW, at=row.at, app=row.app)
    tried = diagnose_sources(sources, known, options._replace(prove=True), 1).diagnoses
    assert offered(tried) == offered(diagnose_sources(sources, known, options, 1).diagnoses)


@pytest.mark.parametrize("case", CASES[EVERY], ids=lambda case: case.name)
def test_no_value_for_a_service_provider_is_withdrawn_when_it_is_tried(case: Case, tmp_path: Path) -> None:
    known = load_workspace(workspace(tmp_path, case.app, case.files, case.provider, case.main))
    sources = [SourceFile("m.xml", response(**case.message))]
    options = Options(NOW, at=datetime.fromisoformat(case.at) if case.at else None)
    tried = diagnose_sources(sources, known, options._replace(prove=True), 1).diagnoses
    assert offered(tried) == offered(diagnose_sources(sources, known, options, 1).diagnoses)


@pytest.mark.parametrize(
    ("name", "side", "words"),
    [
        ("oidc-framed", "application", "in a window of its own"),
        ("oidc-form-action", "provider", "to form-action"),
        ("saml-form-action", "provider", "to form-action"),
        ("spa-connect-src", "application", "to connect-src"),
        ("spa-cors", "provider", "Allow the origin of the calling page"),
    ],
)
def test_who_lets_a_browser_go_on(name: str, side: str, words: str) -> None:
    """The policy that forbids is the one to be changed; that a sign-in page bars frames is sound and stays."""
    first = judged(name)[0].first_break
    assert first is not None
    assert (first.code, first.side) == ("blocked-by-browser", side)
    assert words in first.remedy
