"""What is laid side by side: the two sides of an application, two attempts, two metadata files, two certificates."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import jsonschema_rs
import pytest
from cryptography.hazmat.primitives import hashes
from lxml import etree

from kit import (
    ACS,
    AUDIENCE,
    EMAIL,
    ISSUER,
    NOW,
    PERSISTENT,
    PROVIDER,
    SLO,
    SSO,
    TERN,
    attribute,
    authn_request,
    certificate,
    idp_metadata,
    pem,
    posted,
    redirect,
    response,
    run,
    run_json,
    sign,
    sp_metadata,
    workspace,
)
from test_program import conforms
from trace_lens.agreement.rows import Row
from trace_lens.agreement.sides import rows
from trace_lens.comparison.comparing_sides import two_sides
from trace_lens.saml.metadata_signature import metadata_signatures
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile

OTHER = f"<saml:AudienceRestriction><saml:Audience>{AUDIENCE[:-1]}</saml:Audience></saml:AudienceRestriction>"
BOTH = {"metadata/sp.xml": sp_metadata(), "metadata/id.xml": idp_metadata()}
FULL: dict[str, Any] = {
    "application": {
        "metadata": "metadata/sp.xml",
        "provider_sso_url": SSO,
        "name_id_format": EMAIL,
        "sign_out_url": SLO,
        "relay_state": "home",
        "email_domains": ["northmere.example"],
        "signed_part": "assertion",
    },
    "provider_setup": {"audience": AUDIENCE, "acs_url": ACS, "name_id_format": EMAIL},
    "claims": [{"name": "role", "one_of": ["mate", "master"]}],
}


def laid(folder: Path, *captures: bytes) -> dict[str, Row]:
    """The rows of the application by item, with captures beside."""
    found = load_workspace(folder)
    sources = [SourceFile("capture", one) for one in captures]
    return {row.item: row for row in two_sides(found.apps["crew-roster"], found, NOW, sources).rows}


def full(tmp_path: Path, **changes: Any) -> Path:
    merged = {key: {**FULL[key], **changes.get(key, {})} if isinstance(FULL[key], dict) else FULL[key] for key in FULL}
    return workspace(tmp_path, merged, BOTH, provider=PROVIDER + 'metadata = "metadata/id.xml"\n')


def test_all_agree(tmp_path: Path) -> None:
    folder = full(tmp_path)
    status, document = run_json("sides", "crew-roster", folder=folder)
    conforms(document, "sides")
    assert (status, document["to_copy"], document["findings"]) == (0, [], [])
    assert {one["verdict"] for one in document["items"]} <= {"equal", "alone"}
    (folder / "m.txt").write_bytes(posted(response(request=None), RelayState="home"))
    status, document = run_json("sides", "crew-roster", "m.txt", folder=folder)
    assert (status, document["capture"]) == (0, "m.txt")
    items = {one["item"]: one for one in document["items"]}
    wanted = {
        "audience",
        "acs_url",
        "issuer",
        "sso_url",
        "sign_out_url",
        "name_id_format",
        "certificates",
        "signed_part",
        "algorithms",
        "relay_state",
        "email_domains",
        "claim role",
        "values of role",
    }
    assert wanted <= set(items)
    assert [one["label"] for one in items["acs_url"]["capture"]] == ["Destination", "Recipient"]
    assert items["algorithms"]["capture"][0]["value"] == "rsa-sha256"


CASES: list[tuple[str, dict[str, Any], dict[str, Any] | None, str, str, str | None, str]] = [
    (
        "a slash at the provider",
        {"provider_setup": {"audience": AUDIENCE[:-1]}},
        None,
        "audience",
        "near",
        AUDIENCE,
        "provider",
    ),
    ("a slash in the capture", {}, {"audiences": OTHER}, "audience", "near", AUDIENCE, "provider"),
    (
        "the ACS URL as audience",
        {"provider_setup": {"audience": ACS}},
        None,
        "audience",
        "misplaced",
        AUDIENCE,
        "provider",
    ),
    (
        "the sign-on URL as issuer",
        {"application": {"provider_entity_id": SSO}},
        None,
        "issuer",
        "misplaced",
        ISSUER,
        "application",
    ),
    (
        "another reply address",
        {"provider_setup": {"acs_url": "https://else.example/acs"}},
        None,
        "acs_url",
        "different",
        ACS,
        "provider",
    ),
    (
        "another format",
        {"provider_setup": {"name_id_format": PERSISTENT}},
        None,
        "name_id_format",
        "different",
        EMAIL,
        "provider",
    ),
    (
        "another sign-on URL",
        {"application": {"provider_sso_url": SSO + "2"}},
        None,
        "sso_url",
        "near",
        SSO,
        "application",
    ),
    ("the response signed", {}, {"signed": "response"}, "signed_part", "different", "assertion", "provider"),
    ("a role misspelt", {}, {"attributes": attribute("role", "Mate")}, "values of role", "near", "mate", "provider"),
    (
        "a role unknown",
        {},
        {"attributes": attribute("role", "cook")},
        "values of role",
        "different",
        "mate, master",
        "provider",
    ),
    (
        "a claim under another name",
        {},
        {"attributes": attribute("urn:x:Role", "mate")},
        "claim role",
        "near",
        "role",
        "provider",
    ),
    ("another key", {}, {"signing": {"signer": "other"}}, "certificates", "different", None, "application"),
    (
        "a fingerprint of another",
        {"application": {"trusted_certificates": [certificate("old").fingerprint(hashes.SHA256()).hex(":")]}},
        None,
        "certificates",
        "different",
        None,
        "application",
    ),
]


@pytest.mark.parametrize(
    ("name", "app", "message", "item", "verdict", "value", "side"), CASES, ids=[one[0] for one in CASES]
)
def test_one_value_differs(
    tmp_path: Path,
    name: str,
    app: dict[str, Any],
    message: dict[str, Any] | None,
    item: str,
    verdict: str,
    value: str | None,
    side: str,
) -> None:
    folder = full(tmp_path, **app)
    captures = []
    if message is not None:
        (folder / "m.xml").write_bytes(response(**message))
        captures = ["m.xml"]
    status, document = run_json("sides", "crew-roster", *captures, folder=folder)
    assert status == 1
    wrong = {one["item"] for one in document["items"] if one["verdict"] in ("near", "different", "misplaced")}
    assert wrong == {item}
    assert {one["item"]: one for one in document["items"]}[item]["verdict"] == verdict
    copied = next(one for one in document["to_copy"] if one["item"] == item)
    assert copied["side"] == side
    assert value is None or copied["value"] == value
    text = run("sides", "crew-roster", *captures, folder=folder).stdout.decode()
    assert text.startswith(f"1 of {len(document['items'])} values does not agree: ")
    assert "What to copy" in text


def test_a_request_beside(tmp_path: Path) -> None:
    """The request's issuer, address and destination stand in the rows that they belong to."""
    found = laid(full(tmp_path), redirect(authn_request(issuer=AUDIENCE[:-1], destination=SSO + "/"), "app"))
    assert found["audience"].verdict == "near"
    assert found["sso_url"].verdict == "near"
    assert next(one.value.text for one in found["signs_requests"].cells if one.column == "capture") == "true"


def test_captures_that_do_not_help(tmp_path: Path) -> None:
    folder = full(tmp_path)
    (folder / "notes.txt").write_text("hello")
    assert run("sides", "crew-roster", "notes.txt", folder=folder).returncode == 3
    assert run("sides", "nobody", folder=folder).returncode == 2
    bare = load_workspace(
        workspace(tmp_path / "bare", {"provider": None, "application": {"trusted_certificates": None}})
    )
    assert {row.item for row in rows(bare.apps["crew-roster"], bare)} >= {"audience", "acs_url"}


def test_two_attempts(tmp_path: Path) -> None:
    """What came, went and stayed; what matters first; what always differs only counted."""
    folder = workspace(
        tmp_path,
        {"account": {"list": "a.csv"}, "claims": [{"name": "role"}, {"name": "mail"}]},
        {"a.csv": f"user\n{TERN}\n"},
    )
    given = attribute("role", "mate") + attribute("mail", "a@x.example")
    fails = response(audiences=OTHER, name_id="M.Tern@northmere.example", attributes=given)
    works = response(
        response_id="_rs2",
        identifier="_as2",
        issued="2026-11-20T09:14:03Z",
        begins="2026-11-20T09:13:03Z",
        ends="2026-11-20T09:19:03Z",
        authenticated="2026-11-20T09:13:43Z",
        session_end="2026-11-20T17:14:03Z",
        request=None,
        attributes=attribute("role", "mate") + attribute("mail", "b@x.example"),
    )
    (folder / "fails.txt").write_bytes(posted(fails))
    (folder / "works.txt").write_bytes(posted(works))
    status, document = run_json("compare", "fails.txt", "works.txt", folder=folder)
    conforms(document, "compare")
    assert (status, document["kind"], document["matters"]) == (1, "attempts", True)
    assert document["left"]["first_break"] == "audience-mismatch"
    assert document["right"]["outcome"] == "sound"
    assert {"audience-mismatch", "account-near-match"} <= {one["code"] for one in document["findings"]["went"]}
    assert document["findings"]["came"] == []
    found = {one["item"]: one for one in document["differences"]}
    assert list(found)[:2] == ["audience", "name identifier"]
    assert (found["audience"]["difference"], found["audience"]["matters"]) == ("trailing-slash", True)
    assert found["name identifier"]["matters"]
    assert not found["attribute mail"]["matters"]
    assert "attribute role" not in found
    noise = {one["kind"]: one["count"] for one in document["noise"]}
    assert noise == {"ids": 4, "moments": 5, "signature values": 1}
    status, document = run_json("compare", "works.txt", "works.txt", folder=folder)
    assert (status, document["differences"], document["noise"]) == (0, [], [])
    text = run("compare", "fails.txt", "works.txt", folder=folder).stdout.decode()
    assert text.startswith("Left breaks at intended (audience-mismatch); right works.")


def test_two_people(tmp_path: Path) -> None:
    """Names and what is said of a person may differ without it mattering; a role may not."""
    folder = workspace(tmp_path, {"claims": [{"name": "role", "one_of": ["mate", "cook"]}]})
    (folder / "a.xml").write_bytes(response())
    (folder / "b.xml").write_bytes(response(name_id="a.fulmar@northmere.example"))
    (folder / "c.xml").write_bytes(response(attributes=attribute("role", "cook")))
    assert run("compare", "a.xml", "b.xml", folder=folder).returncode == 0
    status, document = run_json("compare", "a.xml", "c.xml", folder=folder)
    assert (status, [one["item"] for one in document["differences"]]) == (1, ["attribute role"])


def test_two_metadata_files(tmp_path: Path) -> None:
    folder = workspace(tmp_path, {"application": {"provider_sso_url": SSO}})
    (folder / "a.xml").write_text(idp_metadata(extra='validUntil="2026-12-01T00:00:00Z"'))
    new = idp_metadata(signers=("id", "next"), extra='validUntil="2027-12-01T00:00:00Z"').replace(SSO, SSO + "/v2")
    (folder / "b.xml").write_text(new)
    status, document = run_json("compare", "a.xml", "b.xml", folder=folder)
    conforms(document, "compare")
    found = {one["item"]: one for one in document["differences"]}
    assert (status, document["kind"]) == (1, "metadata")
    assert found["SingleSignOnService (HTTP-Redirect)"]["hits"] == ["crew-roster"]
    assert len(found["signing key"]["right"]) == 2
    assert not found["validUntil"]["matters"]
    gathered = f'<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata">{idp_metadata()}'
    (folder / "c.xml").write_text(f"{gathered}{sp_metadata()}</md:EntitiesDescriptor>")
    (folder / "d.xml").write_text(f"{gathered}</md:EntitiesDescriptor>")
    _, document = run_json("compare", "c.xml", "d.xml", folder=folder)
    assert [(one["item"], one["hits"]) for one in document["differences"]] == [(f"entity {AUDIENCE}", ["crew-roster"])]
    (folder / "e.xml").write_text(idp_metadata(extra='cacheDuration="PT1H"'))
    (folder / "f.xml").write_text(idp_metadata())
    assert run("compare", "e.xml", "f.xml", folder=folder).returncode == 0


def test_two_certificates(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "new.pem").write_text(pem(certificate("new")))
    status, document = run_json("compare", "certs/id.pem", "new.pem", folder=folder)
    conforms(document, "compare")
    found = {one["item"]: one for one in document["differences"]}
    assert (status, found["sha256"]["hits"]) == (1, ["crew-roster"])
    assert found["public key"]["matters"]
    assert not found["serial"]["matters"]
    assert "valid until" not in found
    (folder / "both.pem").write_text(pem(certificate("id")) + pem(certificate("new")))
    _, document = run_json("compare", "certs/id.pem", "both.pem", folder=folder)
    assert [one["why"] for one in document["differences"]] == ["it is new"]


@pytest.mark.parametrize(
    ("left", "right", "status"),
    [("m.xml", "certs/id.pem", 2), ("m.xml", "x.txt", 3), ("m.xml", "no.txt", 3), (".", "m.xml", 2)],
)
def test_what_cannot_be_compared(tmp_path: Path, left: str, right: str, status: int) -> None:
    folder = workspace(tmp_path)
    (folder / "m.xml").write_bytes(response())
    (folder / "x.txt").write_text("hello")
    done = run("compare", left, right, folder=folder)
    assert (done.returncode, done.stdout) == (status, b"")
    assert done.stderr


def _signed(change: Any = None, **told: Any) -> bytes:
    root = etree.fromstring(idp_metadata(extra='ID="_m1"'))
    sign(root, **{"signer": "fed", "position": 0, **told})
    if change:
        change(root)
    return etree.tostring(root)


def _rename(root: etree._Element) -> None:
    root.set("entityID", "https://attacker.example")


SIGNED = [
    ("holds", _signed(), None),
    ("formatted", _signed(etree.indent), "its digest is another"),
    ("changed", _signed(_rename), "its digest is another"),
    ("by nobody known", _signed(embed=False), "no key on record"),
    ("over the whole", _signed(reference=""), "must not be accepted"),
]


@pytest.mark.parametrize(("name", "data", "problem"), SIGNED, ids=[one[0] for one in SIGNED])
def test_signed_metadata(tmp_path: Path, name: str, data: bytes, problem: str | None) -> None:
    (one,) = metadata_signatures(data)
    assert (one.problem is None) is (problem is None)
    assert problem is None or problem in (one.problem or "")
    folder = workspace(tmp_path, provider=PROVIDER + 'metadata = "m.xml"\n', files={"m.xml": data.decode()})
    status, document = run_json("apps", "check", folder=folder)
    codes = [one["code"] for one in document["applications"][0]["findings"]]
    assert ("metadata-signature-invalid" in codes) is (problem is not None)
    assert status == (problem is not None)
    _, opened = run_json("decode", "m.xml", folder=folder)
    assert opened["messages"][0]["summary"]["signature"].startswith("holds" if problem is None else "does not hold")


def test_a_known_key_needs_no_certificate_inside(tmp_path: Path) -> None:
    data = _signed(embed=False)
    files = {"m.xml": data.decode(), "certs/fed.pem": pem(certificate("fed"))}
    folder = workspace(tmp_path, provider=PROVIDER + 'metadata = "m.xml"\n', files=files)
    _, document = run_json("apps", "check", folder=folder)
    assert "metadata-signature-invalid" not in [one["code"] for one in document["applications"][0]["findings"]]


def test_many_entities_and_a_broken_one(tmp_path: Path) -> None:
    """Ten thousand entities of which one is broken: the one asked for is found, and the damage is told."""
    parts = [sp_metadata(entity_id=f"https://app{number}.example") for number in range(10_000)]
    parts[5_000] = parts[5_000].replace("</md:SPSSODescriptor>", "", 1)
    parts.append(idp_metadata())
    whole = "<md:EntitiesDescriptor xmlns:md='urn:oasis:names:tc:SAML:2.0:metadata'>" + "\n".join(parts)
    folder = workspace(
        tmp_path, provider=PROVIDER + 'metadata = "m.xml"\n', files={"m.xml": whole + "</md:EntitiesDescriptor>"}
    )
    entity = load_workspace(folder).providers["northmere-id"].entity
    assert entity
    assert entity.entity_id == ISSUER
    (folder / "cap.xml").write_bytes(response())
    assert run("diagnose", "cap.xml", folder=folder).returncode == 0
    _, document = run_json("decode", "m.xml", folder=folder)
    (message,) = document["messages"]
    assert message["summary"]["entities"] >= 9_999
    assert [one["code"] for one in message["findings"]] == ["malformed-message"]


def test_apps_add(tmp_path: Path) -> None:
    """From metadata, from options, a provider likewise; never over what exists; what is not known is said."""
    folder = workspace(tmp_path)
    asked = (
        '<md:AttributeConsumingService index="0"><md:RequestedAttribute Name="role" isRequired="true"/>'
        '<md:RequestedAttribute Name="mail"/></md:AttributeConsumingService>'
    )
    (folder / "sp.xml").write_text(sp_metadata(asked, entity_id="https://tides.northmere.example/saml"))
    done = run("apps", "add", "--from", "sp.xml", "--provider", "northmere-id", folder=folder)
    assert done.returncode == 0, done.stderr
    assert b"provider_setup.audience" in done.stdout
    found = load_workspace(folder).apps["tides"]
    assert (found.settings.application.saml.entity_id, found.acs_urls) == (
        "https://tides.northmere.example/saml",
        (ACS,),
    )
    assert [(one.name, one.need) for one in found.settings.claims] == [("role", "must"), ("mail", "may")]
    assert found.sign_out_urls == (SLO,)
    assert run("apps", "check", "tides", folder=folder).returncode == 0
    again = run("apps", "add", "tides", "--entity-id", "x", folder=folder)
    assert (again.returncode, b"--overwrite" in again.stderr) == (2, True)
    assert load_workspace(folder).apps["tides"].entity_id == "https://tides.northmere.example/saml"
    assert run("apps", "add", "tides", "--entity-id", "x", "--overwrite", folder=folder).returncode == 0
    assert load_workspace(folder).apps["tides"].entity_id == "x"

    bare = [
        "apps",
        "add",
        "radio",
        "--entity-id",
        "https://radio.example",
        "--acs-url",
        ACS,
        "--acs-url",
        ACS + "2",
        "--certificate",
        "certs/id.pem",
        "--display-name",
        "Harbour Radio",
        "--set",
        "account.compare=ignore-case",
    ]
    assert run(*bare, folder=folder).returncode == 0
    radio = load_workspace(folder).apps["radio"]
    assert (radio.name, radio.provider_id, len(radio.acs_urls)) == ("Harbour Radio", "northmere-id", 2)
    assert radio.settings.account.compare == "ignore-case"

    (folder / "idp.xml").write_text(idp_metadata(entity_id="https://sso.skerry-pilots.example/idp"))
    assert run("apps", "add", "--from", "idp.xml", folder=folder).returncode == 0
    assert load_workspace(folder).providers["sso"].sign_on_urls == (SSO,)


@pytest.mark.parametrize(
    ("arguments", "status", "words"),
    [
        (["--from", "many.xml", "--entity-id", "https://none.example"], 2, "no entity"),
        (["--from", "notes.txt"], 3, "no SAML metadata"),
        (["--from", "none.xml"], 3, "no such file"),
        ([], 2, "NAME is needed"),
        (["x/../y", "--entity-id", "a"], 2, "no name for a file"),
        (["x", "--set", "application.entity_idd=a"], 2, "did you mean application.entity_id"),
        (["x", "--set", "provider=nobody"], 2, "not on record"),
        (["x", "--certificate", "certs/none.pem"], 2, "does not exist"),
        (["x", "--provider", "north"], 2, "not on record"),
        (["--from", "idp.xml", "--as", "app"], 2, "no role"),
    ],
)
def test_apps_add_that_cannot_be(tmp_path: Path, arguments: list[str], status: int, words: str) -> None:
    folder = workspace(tmp_path)
    many = f'<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata">{idp_metadata()}{sp_metadata()}'
    (folder / "many.xml").write_text(many + "</md:EntitiesDescriptor>")
    (folder / "idp.xml").write_text(idp_metadata())
    (folder / "notes.txt").write_text("hello")
    before = sorted(path.name for path in folder.rglob("*.toml"))
    done = run("apps", "add", *arguments, folder=folder)
    assert done.returncode == status, done.stderr
    assert words in done.stderr.decode()
    assert sorted(path.name for path in folder.rglob("*.toml")) == before


def test_a_dry_run_writes_nothing(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    done = run("apps", "add", "radio", "--entity-id", "https://radio.example", "--dry-run", folder=folder)
    assert b'entity_id = "https://radio.example"' in done.stdout
    assert not (folder / "apps/radio.toml").exists()


def test_sarif(tmp_path: Path) -> None:
    """What the settings check finds, as SARIF: rules, levels, places, and accepted risks suppressed."""
    app = {
        "application": {"password_sign_in": True},
        "provider_setup": {"audience": AUDIENCE[:-1]},
        "accepted": [{"code": "password-sign-in-open", "reason": "until spring"}],
    }
    folder = workspace(tmp_path, app)
    done = run("apps", "check", "--format", "sarif", folder=folder)
    document = json.loads(done.stdout)
    assert (done.returncode, document["version"]) == (1, "2.1.0")
    (one,) = document["runs"]
    results = {result["ruleId"]: result for result in one["results"]}
    rules = [rule["id"] for rule in one["tool"]["driver"]["rules"]]
    assert set(results) == {"settings-disagree", "password-sign-in-open"} == set(rules)
    broken = results["settings-disagree"]
    assert (broken["level"], rules[broken["ruleIndex"]]) == ("error", "settings-disagree")
    place = broken["locations"][0]["physicalLocation"]
    assert place["artifactLocation"]["uri"] == "apps/crew-roster.toml"
    text = (folder / "apps/crew-roster.toml").read_text().splitlines()
    assert text[place["region"]["startLine"] - 1].startswith("audience = ")
    assert results["password-sign-in-open"]["suppressions"][0]["justification"] == "until spring"
    shape = {
        "type": "object",
        "required": ["version", "runs"],
        "properties": {
            "runs": {
                "items": {
                    "required": ["tool", "results"],
                    "properties": {
                        "results": {
                            "items": {
                                "required": ["message"],
                                "properties": {"level": {"enum": ["none", "note", "warning", "error"]}},
                            }
                        }
                    },
                }
            }
        },
    }
    jsonschema_rs.validate(shape, document)
