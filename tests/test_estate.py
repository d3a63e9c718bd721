"""Both sides put on record from captures and documents: what was seen stands there, never trusted, never overwritten."""

from __future__ import annotations

import json
import os
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kit import (
    ACS,
    AUDIENCE,
    ISSUER,
    TERN,
    authn_request,
    certificate,
    idp_metadata,
    pem,
    posted,
    redirect,
    response,
    run,
    sp_metadata,
    workspace,
)
from recorded_kit import EXPECTED, NOW, source_of
from trace_lens.attempts.evidence import read_evidence
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.estate import plans
from trace_lens.estate.merging import differences, new_text, updated_text
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.records import Workspace

WORKING = [name for name in sorted(EXPECTED) if EXPECTED[name]["works"]]
SPAS = [name for name in WORKING if name.startswith("spa")]
MANY = '<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata">{}</md:EntitiesDescriptor>'


def settings_in(folder: Path) -> dict[str, dict[str, Any]]:
    return {str(path.relative_to(folder)): tomllib.loads(path.read_text()) for path in sorted(folder.glob("*/*.toml"))}


def outcome(folder: Path, name: str) -> tuple[str, str | None]:
    (attempt,) = json.loads(run("diagnose", name, "--format", "json", folder=folder).stdout)["attempts"]
    return attempt["outcome"], attempt["first_break"]


@pytest.mark.parametrize("name", WORKING if os.environ.get("EVERY_CAPTURE") else WORKING[::6])
def test_a_working_sign_in_put_on_record_is_never_broken(name: str, tmp_path: Path) -> None:
    """What a capture shows of both sides can never make that same capture a broken one."""
    plan = plans.plan_captures([read_evidence(source_of(name))], Workspace(root=tmp_path), NOW, trust_seen=True)
    (tmp_path / "trace-lens.toml").touch()
    plans.write(plan, tmp_path)
    known = load_workspace(tmp_path)
    found = diagnose_sources([source_of(name)], known, Options(NOW)).diagnoses
    assert [diagnosis.cause for diagnosis in found if diagnosis.outcome == "broken"] == []
    again = plans.plan_captures([read_evidence(source_of(name))], known, NOW, trust_seen=True)
    assert [item.file for item in again.files if item.changes] == []


@pytest.mark.parametrize("name", SPAS if os.environ.get("EVERY_CAPTURE") else SPAS[::5])
def test_documents_that_a_browser_fetched_are_kept_as_seen(name: str, tmp_path: Path) -> None:
    """A discovery document is put on record; the keys beside it only where the user trusts what was seen."""
    (tmp_path / "a.har").write_bytes(source_of(name).data or b"")
    run("apps", "add", "--from", "a.har", folder=tmp_path)
    seen = settings_in(tmp_path)
    assert not any("key_set" in provider for file, provider in seen.items() if file.startswith("providers/"))
    run("apps", "add", "--from", "a.har", "--trust-seen", "--update", folder=tmp_path)
    for file, provider in settings_in(tmp_path).items():
        for key in ("discovery", "key_set"):
            assert (tmp_path / provider.get(key, file)).is_file()
    told = json.loads(run("diagnose", "a.har", "--format", "json", folder=tmp_path).stdout)["attempts"]
    assert "broken" not in {attempt["outcome"] for attempt in told}


def test_from_one_response_in_an_empty_folder(tmp_path: Path) -> None:
    """One command makes the workspace and both sides; the key is seen, not trusted, and what is a guess says so."""
    (tmp_path / "m.txt").write_bytes(posted(response()))
    done = run("apps", "add", "--from", "m.txt", folder=tmp_path)
    assert done.returncode == 0, done.stderr
    found = settings_in(tmp_path)
    app = found["apps/roster.toml"]
    assert (app["protocol"], app["provider"]) == ("saml", "id")
    assert (app["application"]["entity_id"], app["application"]["acs_urls"]) == (AUDIENCE, [ACS])
    assert found["providers/id.toml"] == {"entity_id": ISSUER}
    assert app["application"]["seen_certificates"][0].startswith("sha256:")
    assert "trusted_certificates" not in app["application"]
    text = (tmp_path / "apps/roster.toml").read_text()
    assert "compare it with the application" in text
    assert "seen on 2026-11-20 in m.txt" in text
    assert "answers by HTTP-POST" in text
    assert outcome(tmp_path, "m.txt") == ("inconclusive", None)


def test_trusted_only_where_told(tmp_path: Path) -> None:
    (tmp_path / "m.txt").write_bytes(posted(response()))
    run("apps", "add", "--from", "m.txt", "--trust-seen", folder=tmp_path)
    app = settings_in(tmp_path)["apps/roster.toml"]["application"]
    assert app["trusted_certificates"][0].startswith("sha256:")
    assert "seen_certificates" not in app
    assert outcome(tmp_path, "m.txt") == ("sound", None)


def test_the_request_tells_more_than_the_answer(tmp_path: Path) -> None:
    """With the request the entity ID is no guess; what only that request demanded is no setting."""
    text = redirect(authn_request()).decode() + "\n\n" + posted(response()).decode()
    (tmp_path / "m.txt").write_text(text)
    run("apps", "add", "--from", "m.txt", folder=tmp_path)
    text = (tmp_path / "apps/roster.toml").read_text()
    assert "compare it with the application" not in text
    assert "authn_contexts" not in text


def test_what_varies_is_left_out_and_told(tmp_path: Path) -> None:
    (tmp_path / "captures").mkdir()
    for number, audience in enumerate((AUDIENCE, AUDIENCE[:-1])):
        held = f"<saml:AudienceRestriction><saml:Audience>{audience}</saml:Audience></saml:AudienceRestriction>"
        (tmp_path / f"captures/{number}.txt").write_bytes(posted(response(audiences=held)))
    done = run("apps", "add", "--from", "captures", folder=tmp_path)
    assert "provider_setup.audience is left out, for it varies" in done.stdout.decode()
    assert "audience" not in settings_in(tmp_path)["apps/roster.toml"].get("provider_setup", {})


def test_two_applications_behind_one_address_are_kept_apart(tmp_path: Path) -> None:
    """Each names itself in its requests; a response alone goes to the one that it is made out to, or to none of them."""
    (tmp_path / "captures").mkdir()
    gate = "https://gate.northmere.example"
    for number, (name, asked) in enumerate(
        (("crew", True), ("fuel", True), ("crew", True), ("fuel", False), ("tides", False))
    ):
        held = f"<saml:AudienceRestriction><saml:Audience>{gate}/{name}</saml:Audience></saml:AudienceRestriction>"
        answer = posted(response(audiences=held, request=f"_rq{number}"))
        sent = redirect(authn_request(issuer=f"{gate}/{name}", identifier=f"_rq{number}")) if asked else b""
        (tmp_path / f"captures/{number}.txt").write_bytes(sent + b"\n\n" + answer)
    done = run("apps", "add", "--from", "captures", "--trust-seen", folder=tmp_path)
    assert done.returncode == 0, done.stderr
    apps = [one["application"] for file, one in settings_in(tmp_path).items() if file.startswith("apps/")]
    assert sorted(one["entity_id"] for one in apps) == [f"{gate}/{name}" for name in ("crew", "fuel", "tides")]
    assert [one["acs_urls"] for one in apps] == [[ACS]] * 3
    assert "its ACS URL is also that of https://gate.northmere.example/fuel" in done.stdout.decode()
    told = json.loads(run("diagnose", "captures", "--format", "json", folder=tmp_path).stdout)["attempts"]
    assert {attempt["outcome"] for attempt in told} == {"sound"}
    again = run("apps", "add", "--from", "captures", "--trust-seen", "--update", folder=tmp_path)
    assert again.returncode == 0, again.stderr
    assert len(list((tmp_path / "apps").iterdir())) == 3


def test_an_application_on_record_is_not_taken_for_another_at_its_address(tmp_path: Path) -> None:
    """Beside captures of its own, another application at the same address is new; alone, the differences are shown."""
    folder = workspace(tmp_path)
    held = f"<saml:AudienceRestriction><saml:Audience>{AUDIENCE}fuel</saml:Audience></saml:AudienceRestriction>"
    other = redirect(authn_request(issuer=f"{AUDIENCE}fuel", identifier="_rq7")) + b"\n\n"
    (folder / "own.txt").write_bytes(redirect(authn_request()) + b"\n\n" + posted(response()))
    (folder / "other.txt").write_bytes(other + posted(response(audiences=held, request="_rq7")))
    alone = run("apps", "add", "--from", "other.txt", "--dry-run", folder=folder).stdout.decode()
    assert "apps/crew-roster.toml" in alone
    both = run("apps", "add", "--from", "own.txt", "--from", "other.txt", folder=folder).stdout.decode()
    assert "its ACS URL is also that of" in both
    assert settings_in(folder)["apps/roster.toml"]["application"]["entity_id"] == f"{AUDIENCE}fuel"
    assert settings_in(folder)["apps/crew-roster.toml"]["application"]["entity_id"] == AUDIENCE


def test_people_are_not_written_into_settings(tmp_path: Path) -> None:
    (tmp_path / "m.txt").write_bytes(posted(response()))
    run("apps", "add", "--from", "m.txt", folder=tmp_path)
    for path in tmp_path.glob("*/*.toml"):
        assert TERN.casefold() not in path.read_text().casefold()


def test_a_failed_sign_in_is_doubtful(tmp_path: Path) -> None:
    (tmp_path / "m.txt").write_bytes(redirect(authn_request()))
    run("apps", "add", "--from", "m.txt", folder=tmp_path)
    assert "DOUBTFUL: only the request was captured" in (tmp_path / "apps/roster.toml").read_text()


def test_what_is_on_record_changes_only_with_update(tmp_path: Path) -> None:
    """The differences are told key by key; comments, order and all other values stay to the letter."""
    folder = workspace(tmp_path)
    file = folder / "apps/crew-roster.toml"
    text = "# ours\n" + file.read_text().replace(ACS, ACS + "/old") + "# the end\n"
    file.write_text(text)
    (folder / "m.txt").write_bytes(posted(response()))
    done = run("apps", "add", "--from", "m.txt", folder=folder)
    assert done.returncode == 0
    assert f'application.acs_urls: ["{ACS}/old"] → ["{ACS}/old", "{ACS}"]' in done.stdout.decode()
    assert file.read_text() == text
    done = run("apps", "add", "--from", "m.txt", "--update", folder=folder)
    changed = file.read_text()
    assert changed.startswith("# ours\n")
    assert changed.endswith("# the end\n") or "# the end\n" in changed
    assert tomllib.loads(changed)["application"]["acs_urls"] == [ACS + "/old", ACS]
    assert "nothing differs" in run("apps", "add", "--from", "m.txt", folder=folder).stdout.decode()
    assert file.read_text() == changed


def test_one_provider_that_speaks_both_is_one_file(demo: Path, tmp_path: Path) -> None:
    captures = [next(demo.glob(f"captures/{number}-*")) for number in ("01", "30")]
    run("apps", "add", "--from", str(captures[0]), "--from", str(captures[1]), folder=tmp_path)
    found = settings_in(tmp_path)
    assert [name for name in found if name.startswith("providers/")] == ["providers/id.toml"]
    assert set(found["providers/id.toml"]) == {"entity_id", "issuer"}
    assert {app["protocol"] for name, app in found.items() if name.startswith("apps/")} == {"saml", "oidc"}


def test_an_estate_from_a_folder(demo: Path, tmp_path: Path) -> None:
    """A folder of mixed captures in one command; a dry run shows the same files and writes none."""
    dry = run("apps", "add", "--from", str(demo / "captures"), "--dry-run", folder=tmp_path)
    assert list(tmp_path.iterdir()) == []
    done = run("apps", "add", "--from", str(demo / "captures"), folder=tmp_path)
    found = settings_in(tmp_path)
    assert len([name for name in found if name.startswith("apps/")]) >= 20
    for name in found:
        assert f"{name}: would be written" in dry.stdout.decode()
        assert f"{name}: written" in done.stdout.decode()
    assert not any("trusted_certificates" in app.get("application", {}) for app in found.values())


def test_a_federation_gives_all_its_entities(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    entities = "".join(
        sp_metadata(entity_id=f"https://a{number}.example/saml").replace(ACS, f"https://a{number}.example/acs")
        for number in range(3)
    )
    (folder / "many.xml").write_text(MANY.format(entities + idp_metadata(entity_id="https://idp.example/x")))
    done = run("apps", "add", "--from", "many.xml", folder=folder)
    assert done.returncode == 0, done.stderr
    assert {app.entity_id for app in load_workspace(folder).apps.values()} >= {
        f"https://a{number}.example/saml" for number in range(3)
    }


def test_an_array_of_registrations_gives_as_many_applications(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    made = [
        {"client_id": f"c{number}", "redirect_uris": [f"https://c{number}.example/cb"], "client_name": f"App {number}"}
        for number in range(3)
    ]
    (folder / "clients.json").write_text(json.dumps(made))
    assert run("apps", "add", "--from", "clients.json", folder=folder).returncode == 0
    apps = load_workspace(folder).apps
    assert {f"app-{number}" for number in range(3)} <= set(apps)
    assert apps["app-1"].settings.provider_setup.client_id == "c1"
    assert apps["app-1"].settings.application.oidc.client_id is None


def test_the_provider_s_copy_fills_its_side(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "sp.xml").write_text(sp_metadata(entity_id="https://tides.example/saml"))
    run("apps", "add", "tides", "--from", "sp.xml", "--held-by", "provider", folder=folder)
    app = load_workspace(folder).apps["tides"].settings
    assert (app.provider_setup.audience, app.provider_setup.acs_url) == ("https://tides.example/saml", ACS)
    assert app.application.saml.entity_id is None


def test_key_sets_certificates_and_lists(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "keys.json").write_text(json.dumps({"keys": [{"kty": "oct", "k": "AAAA", "kid": "1"}]}))
    assert run("apps", "add", "--from", "keys.json", folder=folder).returncode == 0
    assert load_workspace(folder).providers["northmere-id"].settings.key_set is None
    assert run("apps", "add", "--from", "keys.json", "--update", folder=folder).returncode == 0
    assert load_workspace(folder).providers["northmere-id"].settings.key_set == "discovery/northmere-id.keys.json"
    (folder / "new.pem").write_text(pem(certificate("next")))
    done = run("apps", "add", "crew-roster", "--from", "new.pem", "--update", folder=folder)
    assert done.returncode == 0, done.stderr
    pins = load_workspace(folder).apps["crew-roster"].settings.application.saml.trusted_certificates
    assert "certs/crew-roster.pem" in pins
    (folder / "people.csv").write_text("Mail;Full name\na@northmere.example;A\nb@northmere.example;B\n")
    done = run("apps", "add", "crew-roster", "--from", "people.csv", "--update", folder=folder)
    assert b"2 accounts, named by the column 'mail'" in done.stderr
    assert [row.user for row in load_workspace(folder).apps["crew-roster"].accounts or ()] == [
        "a@northmere.example",
        "b@northmere.example",
    ]


KEYS = st.sampled_from(["name", "owner", "application.entity_id", "application.sign_in_url", "provider_setup.audience"])
TEXTS = st.text(st.characters(codec="utf-8", exclude_categories=["Cs"]), max_size=12)


@given(st.dictionaries(KEYS, TEXTS, max_size=4), st.dictionaries(KEYS, TEXTS, max_size=4))
def test_merging_gives_what_is_wanted_and_keeps_the_rest(before: dict[str, str], wanted: dict[str, str]) -> None:
    text = "# first\n" + new_text(before, {}, ("head",))
    raw = tomllib.loads(text)
    merged = tomllib.loads(updated_text(text, wanted, {}))
    assert differences(merged, wanted) == []
    assert differences(merged, {key: value for key, value in before.items() if key not in wanted}) == []
    assert updated_text(text, wanted, {}).startswith("# first\n")
    assert {difference.key for difference in differences(raw, wanted)} == {
        key for key, value in wanted.items() if before.get(key) != value
    }


def test_the_provider_on_record_proposes_what_the_application_may_have(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    words = ("apps", "add", "tides", "--entity-id", "https://tides.example", "--provider", "northmere-id")
    text = run(*words, folder=folder).stdout.decode()
    assert f"trace-lens apps set tides application.provider_entity_id={ISSUER}" in text
    assert "trace-lens apps set tides application.trusted_certificates=sha256:" in text
    for line in text.splitlines():
        if line.strip().startswith("trace-lens apps set"):
            assert run(*line.split()[1:], folder=folder).returncode == 0
    held = load_workspace(folder).apps["tides"].settings.application.saml
    assert held.provider_entity_id == ISSUER
    assert held.trusted_certificates


@pytest.mark.parametrize(
    ("text", "settings"),
    [
        ("Team;Mail\nbridge;a@n.example\nbridge;b@n.example\ndeck;a@n.example\n", {"groups": "groups/crew-roster.csv"}),
        ("member,group\na,bridge\nb,bridge\n", {"groups": "groups/crew-roster.csv"}),
        (
            "Sign-in name;Groups\na@n.example;x;\nb@n.example;x\n",
            {"list": "accounts/crew-roster.csv", "column": "sign-in name"},
        ),
        ("user,groups\na,x\nb,x\n", {"list": "accounts/crew-roster.csv"}),
        (
            "Mail,Full name,City\na@n.example,A,X\nb@n.example,B,X\n",
            {"list": "accounts/crew-roster.csv", "column": "mail"},
        ),
    ],
)
def test_lists_are_known_by_their_content(tmp_path: Path, text: str, settings: dict[str, str]) -> None:
    folder = workspace(tmp_path)
    (folder / "people.csv").write_text(text)
    done = run("apps", "add", "crew-roster", "--from", "people.csv", "--update", folder=folder)
    assert done.returncode == 0, done.stderr
    account = settings_in(folder)["apps/crew-roster.toml"]["account"]
    assert {key: account[key] for key in settings} == settings
    app = load_workspace(folder).apps["crew-roster"]
    assert app.members if "groups" in settings else app.accounts


ASSIGNED: list[tuple[str, str, str, str, str, tuple[str, ...]]] = [
    (
        "what each row is",
        "Object,Type,Address,Role\nDeck crew,Group,,x\nM. Tern,User,m.tern@n.example,x\nK. Auk,User,k.auk@n.example,x\n",
        "people.csv",
        "m.tern@n.example k.auk@n.example",
        "Deck crew",
        (),
    ),
    ("types in another language", "Name;Typ\nKapitäne;Gruppe\nDeck;Gruppe\n", "a.csv", "", "Kapitäne Deck", ()),
    ("groups alone", "Group\ngrp-deck\ngrp-bridge\n", "a.csv", "", "grp-deck grp-bridge", ()),
    ("one of two columns", "user,group\nm.tern,\n,grp-deck\n", "a.csv", "m.tern", "grp-deck", ()),
    (
        "a title",
        "Assigned to\nm.tern@n.example\nk.auk@n.example\n",
        "a.csv",
        "m.tern@n.example k.auk@n.example",
        "",
        (),
    ),
    ("the file's name", "Mail,Name\nm.tern@n.example,M\n", "app-assignments.csv", "m.tern@n.example", "", ()),
    (
        "as told",
        "Mail,Groups\nm.tern@n.example,a\nk.auk@n.example,a\n",
        "people.csv",
        "m.tern@n.example k.auk@n.example",
        "",
        ("--held-by", "provider"),
    ),
    (
        "accounts of SCIM, as told",
        '{"schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "Resources": [{"userName": "m.tern"}]}',
        "people.json",
        "m.tern",
        "",
        ("--held-by", "provider"),
    ),
]


@pytest.mark.parametrize(
    ("name", "text", "file", "users", "groups", "told"), ASSIGNED, ids=[row[0] for row in ASSIGNED]
)
def test_assignments_are_known_by_their_content(
    tmp_path: Path, name: str, text: str, file: str, users: str, groups: str, told: tuple[str, ...]
) -> None:
    folder = workspace(tmp_path)
    (folder / file).write_text(text)
    done = run("apps", "add", "crew-roster", "--from", file, "--update", *told, folder=folder)
    assert done.returncode == 0, done.stderr
    assert b"assigned at the provider" in done.stderr
    rows = load_workspace(folder).apps["crew-roster"].assignments or []
    assert " ".join(row.user for row in rows if row.user) == users
    assert " ".join(row.group for row in rows if row.group) == groups


@pytest.mark.parametrize(
    "text",
    [
        "user,groups\na,x\nb,x\n",
        "Mail,Type\na@n.example,User\nb@n.example,User\n",
        "Group,Member\nx,a@n.example\nx,b@n.example\n",
        "User,Type\na,contractor\nb,employee\n",
    ],
)
def test_other_lists_are_not_taken_for_assignments(tmp_path: Path, text: str) -> None:
    folder = workspace(tmp_path)
    (folder / "people.csv").write_text(text)
    done = run("apps", "add", "crew-roster", "--from", "people.csv", "--update", folder=folder)
    assert done.returncode == 0, done.stderr
    assert load_workspace(folder).apps["crew-roster"].settings.provider_setup.assigned is None


def test_thirty_applications_from_one_folder(tmp_path: Path) -> None:
    """Put on record in one command, then diagnosed with it: none is broken, each is known by its own name."""
    (tmp_path / "captures").mkdir()
    for number in range(30):
        host = f"https://app{number}.northmere.example"
        held = f"<saml:AudienceRestriction><saml:Audience>{host}/saml</saml:Audience></saml:AudienceRestriction>"
        message = response(audiences=held, recipient=f"{host}/acs", destination=f"{host}/acs")
        (tmp_path / f"captures/{number}.txt").write_bytes(posted(message))
    done = run("apps", "add", "--from", "captures", "--trust-seen", folder=tmp_path)
    assert done.returncode == 0, done.stderr
    assert len([name for name in settings_in(tmp_path) if name.startswith("apps/")]) == 30
    told = json.loads(run("diagnose", "captures", "--format", "json", folder=tmp_path).stdout)["attempts"]
    assert {attempt["app"] for attempt in told} == {f"app{number}" for number in range(30)}
    assert {attempt["outcome"] for attempt in told} == {"sound"}


def test_tables_for_other_programs(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    head, row = run("apps", "list", "--format", "csv", folder=folder).stdout.decode().splitlines()
    assert dict(zip(head.split(","), row.split(","), strict=True))["app"] == "crew-roster"
    (line,) = run("apps", "list", "--format", "jsonl", folder=folder).stdout.decode().splitlines()
    assert json.loads(line)["app"] == "crew-roster"
    assert "| crew-roster |" in run("apps", "list", "--format", "markdown", folder=folder).stdout.decode()


def test_no_file_that_is_there_changes_without_update(tmp_path: Path) -> None:
    """Neither settings nor what stands beside them, and nothing is left beside settings that do not name it."""
    folder = workspace(tmp_path)
    (folder / "sp.xml").write_text(sp_metadata(entity_id="https://tides.example/saml"))
    run("apps", "add", "tides", "--from", "sp.xml", folder=folder)
    before = {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*") if path.is_file()}
    (folder / "sp.xml").write_text(sp_metadata(entity_id="https://tides.example/saml") + "<!-- newer -->")
    (folder / "people.csv").write_text("user\na@n.example\n")
    for source in ("sp.xml", "people.csv"):
        done = run("apps", "add", "tides", "--from", source, folder=folder)
        assert done.returncode == 0, done.stderr
        assert b"--update" in done.stdout
    after = {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*") if path.is_file()}
    assert {name: after[name] for name in before if name != "sp.xml"} == {
        name: data for name, data in before.items() if name != "sp.xml"
    }
    assert set(after) - set(before) == {"people.csv"}
    run("apps", "add", "tides", "--from", "sp.xml", "--update", folder=folder)
    assert b"newer" in (folder / "metadata/tides.xml").read_bytes()


def test_values_in_a_message_never_become_settings(tmp_path: Path) -> None:
    """What a message holds is quoted in comments and texts; it ends no line, and makes no key."""
    evil = 'x&#10;[application]&#10;trusted_certificates = ["sha256:00"]&#10;# &#8232; end'
    attributes = (
        f'<saml:Attribute Name="role&#10;need = 2"><saml:AttributeValue>{evil}</saml:AttributeValue></saml:Attribute>'
    )
    (tmp_path / "m\n[account].xml").write_bytes(response(attributes=attributes))
    done = run("apps", "add", "--from", "m\n[account].xml", folder=tmp_path)
    assert done.returncode == 0, done.stderr
    held = settings_in(tmp_path)["apps/roster.toml"]
    assert set(held) == {"protocol", "provider", "application", "provider_setup", "claims"}
    assert "trusted_certificates" not in held["application"]
    assert [claim["need"] for claim in held["claims"]] == ["may"]
    assert "\x1b" not in (tmp_path / "apps/roster.toml").read_text()


def test_certificates_given_by_options_are_copied_in(tmp_path: Path) -> None:
    """From outside of the workspace, by an absolute or a relative path; a file of the workspace is named as it is."""
    folder = workspace(tmp_path / "w")
    (tmp_path / "outside.pem").write_text(pem(certificate("next")))
    for number, path in enumerate(("../outside.pem", str(tmp_path / "outside.pem"), "certs/id.pem")):
        words = ("apps", "add", f"app{number}", "--entity-id", f"https://a{number}.example", "--certificate", path)
        assert run(*words, folder=folder).returncode == 0
        (pin,) = load_workspace(folder).apps[f"app{number}"].settings.application.saml.trusted_certificates
        assert pin == ("certs/id.pem" if number == 2 else f"certs/app{number}-outside.pem")
        assert (folder / pin).is_file()


def test_the_next_command_fits_the_protocol(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "d.json").write_text(
        json.dumps(
            {
                "issuer": "https://op.example",
                "authorization_endpoint": "https://op.example/a",
                "jwks_uri": "https://op.example/k",
                "response_types_supported": ["code"],
                "subject_types_supported": ["public"],
                "id_token_signing_alg_values_supported": ["RS256"],
            }
        )
    )
    assert b"--from client.json --provider op" in run("apps", "add", "--from", "d.json", folder=folder).stdout
    (folder / "idp.xml").write_text(idp_metadata(entity_id="https://idp.example/x"))
    assert b"--from sp.xml --provider idp" in run("apps", "add", "--from", "idp.xml", folder=folder).stdout


def test_a_list_without_a_name_asks_for_it(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "people.csv").write_text("user,group\nm.tern,\n,grp-deck\n")
    done = run("apps", "add", "--from", "people.csv", folder=folder)
    assert done.returncode == 3
    assert b"apps add NAME --from people.csv" in done.stderr


def test_a_table_whose_parts_stand_apart_is_merged_too(tmp_path: Path) -> None:
    """TOML lets the parts of a table stand before and after another one."""
    folder = workspace(tmp_path)
    file = folder / "apps/crew-roster.toml"
    apart = (
        '[provider_setup]\nclient_id = "x"\n[account]\nfrom = "NameID"\n[[provider_setup.subject]]\nfrom = "login"\n'
    )
    file.write_text(file.read_text() + apart)
    (folder / "m.txt").write_bytes(posted(response()))
    done = run("apps", "add", "--from", "m.txt", "--update", folder=folder)
    assert done.returncode == 0, done.stderr
    setup = settings_in(folder)["apps/crew-roster.toml"]["provider_setup"]
    assert (setup["audience"], setup["acs_url"], setup["client_id"]) == (AUDIENCE, ACS, "x")
    assert setup["subject"] == [{"from": "login"}]
    assert run("apps", "set", "crew-roster", f"provider_setup.name_id_format={TERN}", folder=folder).returncode == 0
