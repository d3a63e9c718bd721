"""`apps set`, `init`, and `trace-lens` alone."""

from __future__ import annotations

import csv
import tomllib
from pathlib import Path

import pytest

from kit import AUDIENCE, response, run, run_program, workspace
from trace_lens.workspace.loading import load_workspace


def changes(folder: Path) -> list[dict[str, str]]:
    with (folder / "changes.csv").open() as file:
        return list(csv.DictReader(file))


def test_one_setting_changes_and_the_rest_stays_to_the_letter(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    file = folder / "apps/crew-roster.toml"
    before = file.read_text().replace(f'entity_id = "{AUDIENCE}"', f'entity_id = "{AUDIENCE}"   # ours') + "# end\n"
    file.write_text(before)
    new = "https://new.example/saml"
    done = run("apps", "set", "crew-roster", f"application.entity_id={new}", folder=folder)
    assert done.returncode == 0, done.stderr
    assert f'application.entity_id: "{AUDIENCE}" → "{new}"' in done.stdout.decode()
    after = file.read_text()
    assert load_workspace(folder).apps["crew-roster"].entity_id == new
    assert "# ours" in after
    untouched = [line for line in before.splitlines() if "entity_id" not in line]
    assert [line for line in after.splitlines() if "entity_id" not in line] == untouched
    (row,) = changes(folder)
    assert row["app"] == "crew-roster"
    assert row["what"] == f'application.entity_id = "{new}"'
    assert row["who"]


@pytest.mark.parametrize(
    ("setting", "path", "value"),
    [
        ("owner=a@northmere.example", ("owner",), "a@northmere.example"),
        ("kind=api", ("kind",), "api"),
        ("application.public=true", ("application", "public"), True),
        ("application.authn_contexts=urn:x", ("application", "authn_contexts"), ["urn:x"]),
        ("application.seen_certificates=sha256:" + "AB:" * 31 + "AB", ("application", "seen_certificates"), None),
        ("application.pages.signed_out=Sign in", ("application", "pages", "signed_out"), ["Sign in"]),
        ("account.compare=ignore-case", ("account", "compare"), "ignore-case"),
        ("provider_setup.consent=given", ("provider_setup", "consent"), "given"),
    ],
)
def test_every_setting_is_in_reach(tmp_path: Path, setting: str, path: tuple[str, ...], value: object) -> None:
    folder = workspace(tmp_path)
    done = run("apps", "set", "crew-roster", setting, folder=folder)
    assert done.returncode == 0, done.stderr
    held = tomllib.loads((folder / "apps/crew-roster.toml").read_text())
    for part in path:
        held = held[part]
    assert value is None or held == value


@pytest.mark.parametrize(
    ("line", "setting"),
    [
        ("accepts_unsolicited = true", "application.accepts_unsolicited=false"),
        ('entity_id = "x"', "application.entity_id=y"),
        ('acs_urls = ["a"]', 'application.acs_urls=["b", "c"]'),
    ],
)
def test_the_comment_behind_a_value_of_any_kind_stays(tmp_path: Path, line: str, setting: str) -> None:
    folder = workspace(tmp_path)
    (folder / "apps/plain.toml").write_text(f"[application]\n{line}   # ours\n")
    assert run("apps", "set", "plain", setting, folder=folder).returncode == 0
    assert "# ours" in (folder / "apps/plain.toml").read_text()


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        (["application.entity_idd=x"], "did you mean application.entity_id"),
        (["application.metadata=none.xml"], "does not exist"),
        (["provider=nobody"], "not on record"),
        (["clock_skew=soon"], "duration"),
        (["x"], "KEY=VALUE"),
        (["claims.role.need=must"], "names no entry of claims"),
        (["claims.role=must"], "names no entry of claims"),
        (["nothing.at.all=1"], "nothing"),
        (["name.first=1"], "name"),
        (["owner=a@b.example", "claims.1.need=must"], "names no entry of claims"),
    ],
)
def test_what_cannot_be_changes_nothing(tmp_path: Path, settings: list[str], words: str) -> None:
    folder = workspace(tmp_path)
    before = (folder / "apps/crew-roster.toml").read_bytes()
    done = run("apps", "set", "crew-roster", *settings, folder=folder)
    assert (done.returncode, (folder / "apps/crew-roster.toml").read_bytes()) == (2, before)
    assert words in done.stderr.decode()
    assert not (folder / "changes.csv").exists()


def test_the_line_fits_the_file_that_is_there(tmp_path: Path) -> None:
    """Columns that the header lacks are added; no line is lost; without a record none is written."""
    folder = workspace(tmp_path, files={"changes.csv": "at;app;what;ticket\n2026-11-01;crew-roster;before;T-1\n"})
    words = (
        "apps",
        "set",
        "crew-roster",
        "owner=b@northmere.example",
        "--takes",
        "4h",
        "--now",
        "2026-11-20T10:00:00Z",
    )
    assert run(*words, folder=folder).returncode == 0
    lines = (folder / "changes.csv").read_text().splitlines()
    assert lines[:2] == ["at;app;what;ticket;who;takes", "2026-11-01;crew-roster;before;T-1"]
    assert lines[2].startswith("2026-11-20T10:00:00Z;crew-roster;")
    assert lines[2].endswith(";4h")
    assert load_workspace(folder).changes[0].what == "before"
    run("apps", "set", "crew-roster", "owner=c@northmere.example", "--no-record", folder=folder)
    assert len((folder / "changes.csv").read_text().splitlines()) == 3


def test_an_attempt_soon_after_is_told_that_the_change_may_not_have_arrived(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    run("apps", "set", "crew-roster", "owner=b@northmere.example", "--now", "2026-11-20T08:00:00Z", folder=folder)
    (folder / "m.xml").write_bytes(response(name_id="nobody@northmere.example", audiences=""))
    words = ("diagnose", "m.xml", "--app", "crew-roster", "--now", "2026-11-21T00:00:00Z")
    assert "may not have arrived yet" in run(*words, folder=folder).stdout.decode().split("how sure")[0]


def test_the_state_in_a_few_lines(tmp_path: Path, demo: Path) -> None:
    done = run(folder=tmp_path)
    assert done.returncode == 0
    assert "Three ways to begin" in done.stdout.decode()
    lines = run(folder=demo).stdout.decode().splitlines()
    assert len(lines) == 6
    assert "24 (7 OpenID Connect, 17 SAML)" in lines[1]
    assert "crew-roster" in lines[5]
    (tmp_path / "trace-lens.toml").write_text("clock_skw = 1\n")
    assert run(folder=tmp_path).returncode == 2


def test_the_workspace_is_named_by_the_environment(tmp_path: Path) -> None:
    folder = workspace(tmp_path / "w")
    assert b"crew-roster" in run("apps", "list", folder=tmp_path, TRACE_LENS_WORKSPACE=str(folder)).stdout


def test_init_shows_both_protocols(tmp_path: Path) -> None:
    assert run("init", "new", folder=tmp_path).returncode == 0
    apps = load_workspace(tmp_path / "new").apps
    assert {app.settings.protocol for app in apps.values()} == {"saml", "oidc"}
    done = run("apps", "add", "x", "--entity-id", "https://x.example", "--workspace", "new", folder=tmp_path)
    assert done.returncode == 0
    assert load_workspace(tmp_path / "new").apps["x"].provider_id is None


@pytest.mark.parametrize(
    ("typed", "offered"),
    [
        ("diagnose --app crew", "crew-roster"),
        ("apps show crew", "crew-roster"),
        ("diagnose --provider north", "northmere-id"),
        ("explain audience-mi", "audience-mismatch"),
        ("apps set crew-roster application.seen", "application.seen_certificates="),
        ("diagnose --set provider.key", "provider.key_set="),
    ],
)
def test_the_shell_offers_names_codes_and_keys(tmp_path: Path, typed: str, offered: str) -> None:
    words = f"trace-lens {typed}"
    told = {"COMP_WORDS": words, "COMP_CWORD": str(len(words.split()) - 1), "_TRACE_LENS_COMPLETE": "bash_complete"}
    done = run_program(folder=workspace(tmp_path), **told)
    assert f"plain,{offered}" in done.stdout.decode().splitlines()
