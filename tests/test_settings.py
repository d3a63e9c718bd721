"""Settings: every error at once, with file, line, key and the nearest valid key; lists; accounts; rules."""

from __future__ import annotations

import ast
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

import trace_lens
from kit import APP, TERN, response, run, toml, workspace
from trace_lens.common import limits
from trace_lens.common.toml import inline
from trace_lens.people.accounts import AccountIndex
from trace_lens.people.rewriting import rewrite
from trace_lens.workspace import seen_settings
from trace_lens.workspace.account_rows import AccountRow, ListError
from trace_lens.workspace.lists import read_accounts, read_assignments, read_members
from trace_lens.workspace.loading import find_workspace, load_workspace
from trace_lens.workspace.places import line_of
from trace_lens.workspace.problems import SettingsError
from trace_lens.workspace.settings import AppSettings, Rewrite, fields_of

WRONG = """name = "Crew Roster"
provider = "northmere-idd"
users = "many"

[application]
entityid = "https://roster.northmere.example/saml/"
acs_urls = "https://roster.northmere.example/saml/acs"
signed_part = "everything"
clock_skew = "3 fortnights"
trusted_certificates = ["certs/gone.pem", "sha256:12"]

[account]
list = "accounts/gone.csv"
rewrite = [{ drop_domain = true, case = "lower" }, { replace = "(", with = "" }]

[[claims]]
name = "role"
need = "always"

[[claims]]
nmae = "mail"
"""
PLACES = [
    (3, "users", "whole number"),
    (6, "application.entityid", "did you mean application.entity_id?"),
    (7, "application.acs_urls", "must be a list"),
    (8, "application.signed_part", "'response', 'assertion', 'both' or 'either'"),
    (9, "application.clock_skew", "is not a duration"),
    (14, "account.rewrite[1]", "exactly one of"),
    (14, "account.rewrite[2].replace", "not a regular expression"),
    (18, "claims[1].need", "must be 'must', 'should' or 'may'"),
    (21, "claims[2].nmae", "did you mean claims.name?"),
]


def test_ten_errors_at_once(tmp_path: Path) -> None:
    folder = workspace(tmp_path, files={"apps/crew-roster.toml": WRONG}, main='clock_skw = "3m"\n')
    done = run("apps", "check", folder=folder)
    lines = done.stderr.decode().splitlines()
    assert done.returncode == 2
    assert len(lines) >= 11, lines
    for line, key, words in PLACES:
        assert any(f"apps/crew-roster.toml, line {line}: {key} " in text and words in text for text in lines), (
            key,
            lines,
        )
    assert any("trace-lens.toml, line 1: clock_skw" in text and "did you mean clock_skew?" in text for text in lines)
    assert "Traceback" not in done.stderr.decode()


def problems(folder: Path) -> str:
    with pytest.raises(SettingsError) as error:
        load_workspace(folder)
    return str(error.value)


def test_files_that_are_missing(tmp_path: Path) -> None:
    changes = {
        "provider": "northmere-idd",
        "application": {"trusted_certificates": ["certs/gone.pem", "sha256:12"], "metadata": "metadata"},
        "account": {"list": "accounts/gone.csv"},
    }
    folder = workspace(tmp_path, changes, files={"metadata/x.xml": ""})
    text = problems(folder)
    for words in (
        "certs/gone.pem, which does not exist",
        "has 2 hexadecimal digits",
        "metadata, which is a folder",
        "accounts/gone.csv, which does not exist",
        "did you mean northmere-id?",
    ):
        assert words in text


BROKEN_FILES: list[tuple[str, bytes, str]] = [
    ("apps/crew-roster.toml", b'name = "x\n', "line 1: is not valid TOML"),
    ("apps/crew-roster.toml", b"name = \xff\n", "is not UTF-8"),
    ("trace-lens.toml", b"[x\n", "is not valid TOML"),
    ("providers/northmere-id.toml", b'guest_pattern = "(?P<local>x)"\n', "needs the named groups"),
]


@pytest.mark.parametrize(("file", "data", "words"), BROKEN_FILES)
def test_broken_files(file: str, data: bytes, words: str, tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / file).write_bytes(data)
    text = problems(folder)
    assert file in text
    assert words in text


LAZY: list[tuple[dict[str, Any], dict[str, str], str]] = [
    ({"account": {"list": "a.csv"}}, {"a.csv": "name,mail\nx,y\n"}, "its header has no column user"),
    ({"account": {"list": "a.csv"}}, {"a.csv": ""}, "it is empty"),
    ({"account": {"list": "a.csv"}}, {"a.csv": "user,active\nx,perhaps\n"}, "a.csv, line 2: active is 'perhaps'"),
    ({"application": {"metadata": "m.xml"}}, {"m.xml": "<a>"}, "is no metadata that can be read"),
    ({"application": {"metadata": "m.xml"}}, {"m.xml": "<a/>"}, "holds no EntityDescriptor"),
    ({"application": {"decryption_key": "k.pem"}}, {"k.pem": "no key"}, "holds no private key"),
]


@pytest.mark.parametrize(("app", "files", "words"), LAZY, ids=range(len(LAZY)))
def test_files_that_cannot_be_used(app: dict[str, Any], files: dict[str, str], words: str, tmp_path: Path) -> None:
    folder = workspace(tmp_path, app, files)
    inner = (
        "<saml:EncryptedAssertion xmlns:saml='urn:oasis:names:tc:SAML:2.0:assertion'/>" if "k.pem" in files else None
    )
    (folder / "m.txt").write_bytes(response(inner=inner, signed="none" if inner else "assertion"))
    command = ["apps", "check"] if "m.xml" in files else ["diagnose", "m.txt", "--app", "crew-roster"]
    done = run(*command, folder=folder)
    assert done.returncode == 2, done.stdout
    assert words in done.stderr.decode()


def test_a_damaged_certificate_is_never_a_settings_error(tmp_path: Path) -> None:
    folder = workspace(tmp_path, files={"certs/id.pem": "not a certificate"})
    (folder / "m.xml").write_bytes(response())
    assert run("diagnose", "m.xml", folder=folder).returncode == 1


def test_settings_found_valid_before_are_trusted_only_to_the_letter(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    folder = workspace(tmp_path / "workspace")
    load_workspace(folder)
    (kept,) = (tmp_path / "cache/trace-lens/settings").iterdir()
    marks = kept.read_text()
    load_workspace(folder)
    assert kept.read_text() == marks
    assert not (folder / ".trace-lens").exists()
    with (folder / "apps" / "crew-roster.toml").open("a") as file:
        file.write("\nbogus = 1\n")
    assert "bogus" in problems(folder)
    kept.write_bytes(b"\xff\xfe")
    workspace(tmp_path / "workspace")
    assert load_workspace(folder).apps["crew-roster"].name == "Crew Roster"


def test_the_workspace_is_found_upwards(tmp_path: Path) -> None:
    folder = workspace(tmp_path / "here")
    deep = folder / "captures" / "monday"
    deep.mkdir(parents=True)
    assert find_workspace(deep) == folder
    assert find_workspace(tmp_path) is None
    done = run("apps", "list", "--workspace", str(tmp_path), folder=tmp_path)
    assert (done.returncode, b"trace-lens init" in done.stderr) == (2, True)


def test_openid_connect_keys_are_read(tmp_path: Path) -> None:
    client = {
        "protocol": "oidc",
        "provider": "northmere-id",
        "application": {
            "client_id": "abc",
            "redirect_uris": ["https://x.example/cb"],
            "max_age": 3600,
            "token_algorithm": "RS256",
            "scopes": ["openid"],
            "secret_expires": "2027-01-01",
        },
    }
    folder = workspace(tmp_path, files={"apps/x.toml": toml(client)})
    settings = load_workspace(folder).apps["x"].settings.application
    assert (
        settings.oidc.token_algorithm,
        settings.oidc.max_age.total_seconds() if settings.oidc.max_age else None,
    ) == (
        ("RS256",),
        3600,
    )


def test_lines_of_keys() -> None:
    text = toml(APP)
    lines = text.splitlines()
    for path, start in (
        (("application", "entity_id"), "entity_id"),
        (("application",), "[application]"),
        (("name",), "name"),
    ):
        assert lines[line_of(text, path) - 1].startswith(start)
    nested = '[[claims]]\nname = "a"\n[claims.maps]\n"x" = "y"\n[[claims]]\none_of = [\n "b",\n "c"]\nname = "d"\n'
    assert line_of(nested, ("claims", 0, "maps", "x")) == 4
    assert line_of(nested, ("claims", 1, "name")) == 9
    assert line_of(nested, ("claims", 1, "nowhere")) == 5


def test_lists() -> None:
    rows = read_accounts('\ufeffUser;E-Mail;Active;Groups\n m.tern ;x;1; a ; b\n\n;;;\n"o\'neil, p";;no;\n'.encode())
    assert [(row.user, row.active, row.line) for row in rows] == [("m.tern", True, 2), ("o'neil, p", False, 5)]
    assert read_accounts(b"login,user\nm.tern,40117\n", "login")[0].user == "m.tern"
    assert read_accounts("user\nBj\u00f8rn\n".encode("cp1252"))[0].user == "Bj\u00f8rn"
    assert read_accounts("user\nBj\u00f8rn\n".encode("utf-16"))[0].user == "Bj\u00f8rn"
    assert [(row.user, row.group) for row in read_assignments(b"user,group\na,\n,g\n,\n")] == [("a", None), (None, "g")]
    with pytest.raises(ListError):
        read_assignments(b"who\nx\n")
    members = read_members(b"group,member\nall,deck\ndeck,m.tern\nloop,all\nall,loop\n")
    assert members.of({"M.Tern"}) == {"deck", "all", "loop"}


def test_rewriting_step_by_step() -> None:
    steps = [
        Rewrite(drop_domain=True),
        Rewrite(case="lower"),
        Rewrite(replace="^x-(.*)$", replacement=r"\1"),
        Rewrite(add_suffix="@northmere.example"),
    ]
    assert rewrite("X-M.Tern@other.example", steps) == ["X-M.Tern", "x-m.tern", "m.tern", TERN]
    assert rewrite("x", []) == []


def index(*names: str, compare: str = "exact") -> AccountIndex:
    return AccountIndex([AccountRow(name, line) for line, name in enumerate(names, 2)], compare)


NEAR = [
    ("M.Tern@northmere.example", TERN, "case"),
    ("m.tern@northmere.example ", TERN, "whitespace"),
    ("m.tern@other.example", TERN, "domain"),
    ("NORTH\\m.tern", TERN, "domain"),
    ("m.t\u0435rn@northmere.example", TERN, "lookalike"),
    ("nils_skerry.example~guest@northmere.example", "nils@skerry.example", "folding"),
    ("nils.lunde-at-skerry-example.x@northmere.example", "nils.lunde@skerry.example", "folding"),
]


@pytest.mark.parametrize(("name", "account", "by"), NEAR)
def test_near_accounts(name: str, account: str, by: str) -> None:
    found = index("someone.else@northmere.example", account)
    assert found.find(name) == []
    assert [(one.row.user, one.by) for one in found.near(name)] == [(account, by)]


@given(st.text(max_size=20), st.lists(st.text(min_size=1, max_size=20), max_size=5))
def test_an_exact_account_is_never_only_near(name: str, others: list[str]) -> None:
    found = index(*others, name)
    assert name in [row.user for row in found.find(name)]


def test_many_accounts_are_looked_up_quickly_enough_to_try() -> None:
    rows = [AccountRow(f"user{number}@northmere.example", number) for number in range(20_000)]
    found = AccountIndex(rows)
    assert found.find("user19999@northmere.example")[0].line == 19_999
    assert found.near("USER19999@northmere.example")[0].row.line == 19_999


def test_unknown_accounts_are_not_near() -> None:
    assert index(TERN).near("someone@else.example") == []


TOML_VALUES = st.recursive(
    st.booleans()
    | st.integers(-(2**63), 2**63 - 1)
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(st.characters(exclude_categories=["Cs"]))
    | st.dates()
    | st.datetimes()
    | st.times(),
    lambda values: st.lists(values, max_size=3) | st.dictionaries(st.text('ab c."é', max_size=4), values, max_size=3),
    max_leaves=8,
)


@example("\x7f", False)
@given(TOML_VALUES, st.booleans())
def test_what_is_written_as_toml_is_read_back(value: object, literal: bool) -> None:
    assert tomllib.loads(f"value = {inline(value, literal=literal)}") == {"value": value}


def test_only_so_many_workspaces_are_remembered(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What was found valid is believed only where it was this very code that found it so."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(limits, "REMEMBERED_WORKSPACES", 3)
    for number in range(5):
        folder = tmp_path / f"w{number}"
        folder.mkdir()
        (folder / "trace-lens.toml").write_text('clock_skew = "3m"\n')
        load_workspace(folder)
    assert len(list((tmp_path / "cache" / "trace-lens" / "settings").iterdir())) == 3
    assert seen_settings.SettingsSeen(folder).valid("WorkspaceSettings", 'clock_skew = "3m"\n')
    monkeypatch.setattr(seen_settings, "_schema", lambda: "other code")
    assert not seen_settings.SettingsSeen(folder).valid("WorkspaceSettings", 'clock_skew = "3m"\n')


def named_settings() -> Iterator[tuple[str, str]]:
    """Every setting that a question names as what would allow it, with the module that names it."""
    for path in sorted((Path(trace_lens.__file__).parent).rglob("*.py")):
        for call in ast.walk(ast.parse(path.read_text())):
            if isinstance(call, ast.Call) and isinstance(call.func, ast.Name) and call.func.id == "lack":
                key = call.args[3] if len(call.args) > 3 else None
                if isinstance(key, ast.Constant):
                    yield path.name, str(key.value)


def test_what_would_allow_a_question_is_a_setting_as_the_file_spells_it() -> None:
    named = list(named_settings())
    assert len(named) >= 5
    for module, key in named:
        record: Any = AppSettings
        for part in key.split("."):
            field = {field.key: field for field in fields_of(record)}.get(part)
            assert field, (module, key)
            record = field.record
