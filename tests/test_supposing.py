"""Settings that are only tried, the proposals that a diagnosis makes of them, and changes on record."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from kit import AUDIENCE, EMAIL, ISSUED, TERN, TRANSIENT, certificate, judge, pem, response, run, run_json, workspace
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.trial_settings import read_supposed, with_trial_settings

OTHER = f"<saml:AudienceRestriction><saml:Audience>{AUDIENCE[:-1]}</saml:Audience></saml:AudienceRestriction>"
LISTED: dict[str, Any] = {"account": {"list": "accounts.csv"}}
ACCOUNTS = {"accounts.csv": f"user\n{TERN}\n"}

PROPOSED: list[tuple[str, dict[str, Any], dict[str, Any], dict[str, str], str]] = [
    ("audience", {"audiences": OTHER}, {}, {}, "audience-mismatch"),
    ("destination", {"destination": "https://roster.northmere.example/saml/acs2"}, {}, {}, "destination-mismatch"),
    ("recipient", {"recipient": "https://roster.northmere.example/saml/acs2"}, {}, {}, "recipient-mismatch"),
    ("case of the name", {"name_id": TERN.upper()}, LISTED, ACCOUNTS, "account-near-match"),
    ("domain of the name", {}, LISTED, {"accounts.csv": "user\nm.tern\n"}, "account-near-match"),
    ("format", {"name_format": TRANSIENT}, {"application": {"name_id_format": EMAIL}}, {}, "name-id-format-mismatch"),
    (
        "key",
        {"signing": {"signer": "id-next"}},
        {},
        {"certs/next.pem": pem(certificate("id-next"))},
        "signed-by-other-known-key",
    ),
    ("start", {"request": None}, {"application": {"accepts_unsolicited": False}}, {}, "unsolicited-not-accepted"),
    ("claim", {}, {"claims": [{"name": "urn:northmere:ROLE"}]}, {}, "claim-name-near-match"),
]


@pytest.mark.parametrize(("name", "message", "app", "files", "code"), PROPOSED, ids=[one[0] for one in PROPOSED])
def test_what_is_proposed_repairs_the_break(
    tmp_path: Path, name: str, message: dict[str, Any], app: dict[str, Any], files: dict[str, str], code: str
) -> None:
    provider_next = code == "signed-by-other-known-key"
    from kit import PROVIDER

    provider = PROVIDER.replace('["certs/id.pem"]', '["certs/id.pem", "certs/next.pem"]') if provider_next else PROVIDER
    folder = workspace(tmp_path, app, files, provider=provider)
    (folder / "capture.txt").write_bytes(response(**message))
    status, document = run_json("diagnose", "capture.txt", folder=folder)
    (attempt,) = document["attempts"]
    assert (status, attempt["first_break"]) == (1, code)
    _, document = run_json("diagnose", "capture.txt", "--set", attempt["try"], folder=folder)
    (after,) = document["attempts"]
    assert after["first_break"] != code
    assert after["supposed"]


def test_several_settings_and_what_breaks_next(tmp_path: Path) -> None:
    folder = workspace(tmp_path, LISTED, ACCOUNTS)
    (folder / "capture.txt").write_bytes(response(audiences=OTHER, name_id=TERN.upper()))
    before = (folder / "apps/crew-roster.toml").read_text()
    _, document = run_json("diagnose", "capture.txt", folder=folder)
    assert document["attempts"][0]["next_breaks"] == ["account-near-match"]
    one = ("--set", f"application.entity_id={AUDIENCE[:-1]}")
    status, document = run_json("diagnose", "capture.txt", *one, folder=folder)
    assert (status, document["attempts"][0]["first_break"]) == (1, "account-near-match")
    both = (*one, "--set", "account.compare=ignore-case")
    status, document = run_json("diagnose", "capture.txt", *both, folder=folder)
    assert (status, document["attempts"][0]["outcome"]) == (0, "sound")
    assert (folder / "apps/crew-roster.toml").read_text() == before
    _, document = run_json("diagnose", "capture.txt", "--set", "application.entity_id=https://x.example", folder=folder)
    places = [item["where"] for one in document["attempts"][0]["findings"] for item in one["evidence"]]
    assert "told by --set › application.entity_id" in places


@pytest.mark.parametrize(
    ("told", "words"),
    [
        ("application.entity_idd=x", "did you mean application.entity_id?"),
        ("application.accepts_unsolicited=perhaps", "must be true or false"),
        ("clock_skew=soon", "--set: clock_skew"),
        ("claims.nothing.need=may", "names no entry of claims"),
        ("application.trusted_certificates=certs/none.pem", "does not exist"),
        ("provider=nobody", "not on record"),
        ("provider.email_domain=x", "did you mean email_domains?"),
        ("justakey", "not of the form KEY=VALUE"),
        ("=x", "not of the form KEY=VALUE"),
    ],
)
def test_wrong_settings_are_told(tmp_path: Path, told: str, words: str) -> None:
    folder = workspace(tmp_path)
    (folder / "capture.txt").write_bytes(response())
    done = run("diagnose", "capture.txt", "--set", told, folder=folder)
    assert done.returncode == 2
    assert words in done.stderr.decode()


def test_a_provider_supposed_otherwise(tmp_path: Path) -> None:
    folder = workspace(tmp_path, {"application": {"provider_entity_id": None}})
    (folder / "capture.txt").write_bytes(response(issuer="https://new.northmere.example"))
    told = ("--app", "crew-roster", "--set", "provider.entity_id=https://new.northmere.example")
    assert run_json("diagnose", "capture.txt", *told[:2], folder=folder)[0] == 1
    assert run_json("diagnose", "capture.txt", *told, folder=folder)[0] == 0


@pytest.mark.parametrize(
    ("row", "told"),
    [
        ("2026-11-20T09:00:00Z,crew-roster,audience set anew", True),
        ("2026-11-20T09:00:00Z,northmere-id,audience set anew", True),
        ("2026-11-20T09:00:00Z,,everything", True),
        ("2026-11-20T08:00:00Z,crew-roster,before the attempt", False),
        ("2026-11-20T09:00:00Z,fuel-ledger,another application", False),
        ("2026-11-25T09:00:00Z,crew-roster,not yet done", False),
    ],
)
def test_an_attempt_before_a_change(tmp_path: Path, row: str, told: bool) -> None:
    folder = workspace(tmp_path, files={"changes.csv": f"at,app,what\n{row}\n"})
    found = judge(response(audiences=OTHER), folder, ISSUED)
    assert ("issued-before-change" in {one.code for one in found.findings}) is told
    assert "issued-before-change" not in {one.code for one in judge(response(), folder, ISSUED).findings}


def test_changes_that_cannot_be_read(tmp_path: Path) -> None:
    folder = workspace(tmp_path, files={"changes.csv": "at,app,what\nsoon,crew-roster,x\n"})
    (folder / "capture.txt").write_bytes(response(audiences=OTHER))
    done = run("diagnose", "capture.txt", folder=folder)
    assert done.returncode == 2
    assert "changes.csv, line 2" in done.stderr.decode()


def test_what_is_supposed_twice_in_one_process_are_two_workspaces(tmp_path: Path) -> None:
    known = load_workspace(workspace(tmp_path))
    app = known.apps["crew-roster"]
    made = [
        with_trial_settings(known, app, (read_supposed(f"application.entity_id={name}"),)).apps["crew-roster"].entity_id
        for name in ("https://a.example", "https://b.example", "https://a.example")
    ]
    assert made == ["https://a.example", "https://b.example", "https://a.example"]


def test_a_date_is_put_on_record_as_a_date(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    told = ("--client-id", "tides-web", "--set", "application.secret_expires=2026-12-09")
    done = run("apps", "add", "tide-tables", "--provider", "northmere-id", *told, folder=folder)
    assert done.returncode == 0, done.stderr
    assert "secret_expires = 2026-12-09" in (folder / "apps/tide-tables.toml").read_text()
    assert load_workspace(folder).apps["tide-tables"].settings.application.oidc.secret_expires is not None


@pytest.mark.parametrize("words", [("apps", "show"), ("sides",), ("identify",)])
def test_an_argument_that_is_not_on_record_is_not_called_an_option(words: tuple[str, ...], tmp_path: Path) -> None:
    done = run(*words, "crew-rooster", folder=workspace(tmp_path))
    assert (done.returncode, b"--app" in done.stderr, b"Did you mean crew-roster?" in done.stderr) == (2, False, True)
