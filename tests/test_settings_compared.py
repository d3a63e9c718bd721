"""Both sides' settings compared without a capture: `apps check`, case by case; and metadata as it is read."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives import hashes

from cases import METADATA, OTHER_APP
from kit import ACS, AUDIENCE, EMAIL, ISSUER, NOW, PERSISTENT, PROVIDER, bare, certificate, pem, workspace
from trace_lens.agreement.settings import misplaced
from trace_lens.diagnosis.judging import check_settings
from trace_lens.saml.metadata import read_metadata
from trace_lens.saml.parsing import XMLDamaged
from trace_lens.workspace.loading import load_workspace

WITH_METADATA = PROVIDER.replace('certificates = ["certs/id.pem"]', 'metadata = "metadata/id.xml"')
SSO = "https://id.northmere.example/saml/sso"


def published(name: str = "id", until: str = "2030-01-01T00:00:00Z") -> dict[str, str]:
    return {"metadata/id.xml": METADATA.format(until=until, key=bare(certificate(name)))}


CASES: list[tuple[str, dict[str, Any], dict[str, str], str, dict[str, str]]] = [
    ("all is well", {}, {}, PROVIDER, {}),
    ("all is well with metadata", {"application": {"provider_sso_url": SSO}}, published(), WITH_METADATA, {}),
    ("another audience", {"provider_setup": {"audience": AUDIENCE[:-1]}}, {}, PROVIDER, {"settings-disagree": "break"}),
    ("another reply address", {"provider_setup": {"acs_url": ACS + "/"}}, {}, PROVIDER, {"settings-disagree": "break"}),
    (
        "one of two reply addresses",
        {"application": {"acs_urls": [ACS, ACS + "2"]}, "provider_setup": {"acs_url": ACS + "2"}},
        {},
        PROVIDER,
        {},
    ),
    (
        "another format",
        {"application": {"name_id_format": EMAIL}, "provider_setup": {"name_id_format": PERSISTENT}},
        {},
        PROVIDER,
        {"settings-disagree": "break"},
    ),
    (
        "another issuer",
        {"application": {"provider_entity_id": ISSUER + "/"}},
        {},
        PROVIDER,
        {"settings-disagree": "break"},
    ),
    (
        "another sign-on address",
        {"application": {"provider_sso_url": SSO + "2"}},
        published(),
        WITH_METADATA,
        {"settings-disagree": "break"},
    ),
    (
        "the reply address as audience",
        {"provider_setup": {"audience": ACS}},
        {},
        PROVIDER,
        {"setting-misplaced": "break"},
    ),
    (
        "the sign-on address as issuer",
        {"application": {"provider_entity_id": SSO}},
        published(),
        WITH_METADATA,
        {"setting-misplaced": "break"},
    ),
    (
        "the identifier as reply address",
        {"provider_setup": {"acs_url": AUDIENCE}},
        {},
        PROVIDER,
        {"setting-misplaced": "break"},
    ),
    (
        "no provider",
        {"provider": None, "application": {"trusted_certificates": None}},
        {},
        PROVIDER,
        {"setting-missing": "risk"},
    ),
    (
        "no identifier, no address",
        {"application": {"entity_id": None, "acs_urls": None}},
        {},
        PROVIDER,
        {"setting-missing": "risk"},
    ),
    (
        "no certificate anywhere",
        {"application": {"trusted_certificates": None}},
        {},
        PROVIDER.replace('certificates = ["certs/id.pem"]\n', ""),
        {"setting-missing": "risk"},
    ),
    (
        "one identifier for two",
        {},
        {"apps/other.toml": OTHER_APP.format(entity_id=AUDIENCE)},
        PROVIDER,
        {"identifier-shared": "risk"},
    ),
    (
        "the old certificate pinned",
        {},
        published("new"),
        WITH_METADATA,
        {"certificate-not-published": "risk", "next-key-not-pinned": "risk"},
    ),
    (
        "the old fingerprint pinned",
        {"application": {"trusted_certificates": [certificate("id").fingerprint(hashes.SHA256()).hex(":")]}},
        published("new"),
        WITH_METADATA,
        {"certificate-not-published": "risk", "next-key-not-pinned": "risk"},
    ),
    (
        "the old certificate, but fetched anew",
        {"application": {"trust_from": "metadata"}},
        published("new"),
        WITH_METADATA,
        {"certificate-not-published": "risk"},
    ),
    (
        "a sign-out that nobody answers",
        {"application": {"sign_out_url": "https://roster.northmere.example/saml/slo"}},
        published(),
        WITH_METADATA,
        {"endpoint-missing": "risk"},
    ),
    ("old metadata", {}, published(until="2026-01-01T00:00:00Z"), WITH_METADATA, {"metadata-expired": "risk"}),
    (
        "a damaged certificate",
        {},
        {"certs/id.pem": pem(certificate("id")).replace("\n", " ")},
        PROVIDER,
        {"certificate-damaged": "risk"},
    ),
    (
        "a certificate beyond repair",
        {},
        {"certs/id.pem": pem(certificate("id"))[:400]},
        PROVIDER,
        {"certificate-damaged": "break"},
    ),
    (
        "a certificate that ends",
        {},
        {"certs/id.pem": pem(certificate("id", "2025-01-01", "2026-12-01"))},
        PROVIDER,
        {"certificate-expiring": "risk"},
    ),
    (
        "a certificate that ended",
        {},
        {"certs/id.pem": pem(certificate("id", "2025-01-01", "2026-11-01"))},
        PROVIDER,
        {"certificate-expired": "risk"},
    ),
    (
        "a certificate that ended, and counts",
        {"checks_certificate_dates": True},
        {"certs/id.pem": pem(certificate("id", "2025-01-01", "2026-11-01"))},
        PROVIDER,
        {"certificate-expired": "break"},
    ),
    ("passwords", {"application": {"password_sign_in": True}}, {}, PROVIDER, {"password-sign-in-open": "risk"}),
    ("everyone", {"provider_setup": {"assigned": "everyone"}}, {}, PROVIDER, {"sign-in-left-open": "risk"}),
    (
        "a test left over",
        {"provider_setup": {"assigned": "a.csv"}},
        {"a.csv": "user\nTest-User2@northmere.example\ncontest@x.example\n"},
        PROVIDER,
        {"sign-in-left-open": "risk"},
    ),
    (
        "elevated roles only",
        {"claims": [{"name": "role", "one_of": ["master"], "elevated": ["master"]}]},
        {},
        PROVIDER,
        {"ordinary-role-missing": "risk"},
    ),
    (
        "a default role",
        {"claims": [{"name": "role", "one_of": ["master"], "elevated": ["master"], "default_role": "none"}]},
        {},
        PROVIDER,
        {},
    ),
]


@pytest.mark.parametrize(("name", "app", "files", "provider", "codes"), CASES, ids=[one[0] for one in CASES])
def test_settings(
    name: str, app: dict[str, Any], files: dict[str, str], provider: str, codes: dict[str, str], tmp_path: Path
) -> None:
    found = load_workspace(workspace(tmp_path, app, files, provider))
    ((_, findings),) = check_settings([found.apps["crew-roster"]], found, NOW)
    assert {one.code: one.severity for one in findings} == codes
    for one in findings:
        assert all(item.source and item.where for item in one.evidence)
        if one.code in ("settings-disagree", "setting-misplaced"):
            assert one.value_to_set == one.expected


def test_every_settings_code_of_saml_is_raised_here() -> None:
    later = {"endpoint-guessed", "metadata-signature-invalid", "metadata-changed", "record-contradicted"}
    from trace_lens.common import catalogue
    from trace_lens.common.findings import Stage

    raised = {code for *_, codes in CASES for code in codes}
    assert set(catalogue.of_stage(Stage.SETTINGS)) - raised == later


def test_what_a_misplaced_value_really_is(tmp_path: Path) -> None:
    found = load_workspace(workspace(tmp_path, {"application": {"sign_in_url": "https://roster.northmere.example/"}}))
    app = found.apps["crew-roster"]
    assert misplaced(app, found, "audience", ACS) == "the ACS URL"
    assert misplaced(app, found, "issuer", AUDIENCE) == "the entity ID of the application"
    assert (
        misplaced(app, found, "audience", "https://roster.northmere.example/") == "the sign-in URL of the application"
    )
    assert misplaced(app, found, "audience", AUDIENCE) is None
    assert misplaced(app, found, "audience", "https://elsewhere.example") is None


def test_metadata_of_several_entities() -> None:
    one = METADATA.format(until="2030-01-01T00:00:00Z", key=bare(certificate("id")))
    other = one.replace(ISSUER, "https://other.example").replace('use="signing"', 'use="encryption"')
    other = other.replace(' validUntil="2030-01-01T00:00:00Z"', "")
    whole = (
        '<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" validUntil="2031-01-01T00:00:00Z">'
        f"{one}{other}</md:EntitiesDescriptor>"
    )
    first, second = read_metadata(whole.encode())
    role = first.role("IDPSSODescriptor")
    assert role
    assert (first.entity_id, len(role.signing_keys), role.endpoints[0].location) == (ISSUER, 1, SSO)
    assert second.role("IDPSSODescriptor").signing_keys == ()  # type: ignore[union-attr]
    assert second.valid_until
    assert second.valid_until.year == 2031
    assert second.role("SPSSODescriptor") is None
    assert read_metadata(b"<x/>") == ()
    with pytest.raises(XMLDamaged):
        read_metadata(b"<!DOCTYPE x><x/>")


def test_an_entity_is_picked_by_its_id(tmp_path: Path) -> None:
    one = METADATA.format(until="2030-01-01T00:00:00Z", key=bare(certificate("id")))
    other = one.replace(ISSUER, "https://other.example")
    whole = (
        f'<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata">{other}{one}</md:EntitiesDescriptor>'
    )
    found = load_workspace(workspace(tmp_path, files={"metadata/id.xml": whole}, provider=WITH_METADATA))
    entity = found.providers["northmere-id"].entity
    assert entity
    assert entity.entity_id == ISSUER


def test_several_descriptors_of_one_role_count_together() -> None:
    one = METADATA.format(until="2030-01-01T00:00:00Z", key=bare(certificate("id")))
    role = one[one.index("<md:IDPSSODescriptor") : one.index("</md:EntityDescriptor>")]
    twice = one.replace(role, role + role.replace(bare(certificate("id")), bare(certificate("next"))))
    (entity,) = read_metadata(twice.encode())
    found = entity.role("IDPSSODescriptor")
    assert found
    assert len(found.signing_keys) == 2
