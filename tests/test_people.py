"""People and their names: lists in three forms, guests whose address was folded, the account rule, `identify`."""

from __future__ import annotations

import base64
import json
import re
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kit import NOW, PROVIDER, TERN, judge, response, run, run_json, workspace
from test_program import conforms
from trace_lens.diagnosis.identification import identify
from trace_lens.people import guests
from trace_lens.people.accounts import AccountIndex
from trace_lens.workspace.account_rows import AccountRow, ListError
from trace_lens.workspace.lists import read_accounts, read_members
from trace_lens.workspace.loading import load_workspace

NILS = "nils.lunde@skerry-pilots.example"
HOME = ("northmere.example",)
INDEX = AccountIndex(
    [
        AccountRow(name, line)
        for line, name in enumerate(
            [NILS, "ida.holm@skerry-pilots.example", TERN, "anna-b@skerry.example", "o@pilots.example"], 2
        )
    ],
    home=HOME,
)

SCIM = {
    "schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"],
    "totalResults": 3,
    "Resources": [
        {
            "id": "2819c223",
            "userName": "m.tern",
            "externalId": "X-1",
            "active": True,
            "emails": [{"value": "old@x.example"}, {"value": TERN, "primary": True}],
            "groups": [{"value": "g1", "$ref": "../Groups/g1", "display": "grp-deck"}],
            "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {"employeeNumber": "40117"},
        },
        {"id": "b", "userName": "a.fulmar", "active": False, "name": {"familyName": "Fulmar"}},
        {"id": "c", "displayName": "no user name"},
    ],
}
LDIF = f"""version: 1
# a comment that is
  continued
dn: uid=m.tern,ou=people,dc=northmere,dc=example
uid: m.tern
mail: {TERN}
mail;lang-nb: other@x.example
memberOf: cn=grp-deck,ou=groups,dc=northmere,dc=example
cn:: {base64.b64encode("Møya Tern".encode()).decode()}

dn: uid=a.fulmar,ou=people,dc=northmere,dc=exa
 mple
uid: a.fulmar
employeeNumber: 40118
pwdAccountLockedTime: 000001010000Z

dn: ou=people,dc=northmere,dc=example
ou: people
"""


def test_scim_users() -> None:
    tern, fulmar = read_accounts(json.dumps(SCIM, indent=2).encode())
    assert tern == AccountRow(
        user="m.tern", line=7, email=TERN, login=None, id="2819c223", active=True, federated=True, groups=("grp-deck",)
    )
    assert (fulmar.user, fulmar.active) == ("a.fulmar", False)
    wanted = [
        ("externalId", "X-1"),
        ("emails", TERN),
        ("emails.value", TERN),
        ("USERNAME", "m.tern"),
        ("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber", "40117"),
    ]
    for attribute, value in wanted:
        assert read_accounts(json.dumps(SCIM).encode(), attribute)[0].user == value
    assert read_accounts(json.dumps(SCIM["Resources"]).encode())[0].line == 1
    assert read_accounts(json.dumps(SCIM["Resources"][0]).encode())[0].user == "m.tern"


def test_ldif_people() -> None:
    tern, fulmar = read_accounts(LDIF.encode())
    assert tern == AccountRow(
        user="m.tern", line=4, email=TERN, login=None, id=None, active=True, federated=True, groups=("grp-deck",)
    )
    assert (fulmar.user, fulmar.id, fulmar.active, fulmar.line) == ("a.fulmar", "40118", False, 11)
    assert read_accounts(LDIF.encode(), "cn")[0].user == "Møya Tern"


@pytest.mark.parametrize(
    ("data", "line", "words"),
    [
        (b"{", 1, "no JSON"),
        (b'{\n "a": }', 2, "no JSON"),
        (b'{"a": 1}', 1, "no list of Resources"),
        (b'{"Resources": [\n 1]}', 2, "no JSON object"),
        (b'{"Resources": [{"userName": "a", "active": "maybe"}]}', 1, "must be true or false"),
        (b"dn: uid=a\nuid: a\nbroken", 3, "name: value"),
        (b"dn: uid=a\nuid:< file:///etc/x", 2, "URL"),
        (b"dn: uid=a\nuid:: ***", 2, "not base64"),
        (b"dn: uid=a\nchangetype: modify\nuid: a", 2, "changes"),
        (b"", 1, "empty"),
        (b"name\nx", 1, "no column user"),
        (b"user,active\na,perhaps", 2, "must be yes"),
    ],
)
def test_lists_that_cannot_be_read(data: bytes, line: int, words: str) -> None:
    with pytest.raises(ListError, match=re.escape(words)) as raised:
        read_accounts(data)
    assert raised.value.line == line


def test_groups_in_every_form() -> None:
    """Nested groups, by name or by id, and people by any of their names."""
    groups = [
        {"id": "g1", "displayName": "grp-deck", "members": [{"value": "2819c223", "display": "M. Tern"}]},
        {"id": "g2", "displayName": "grp-ships", "members": [{"value": "g1", "type": "Group"}]},
        {"id": "g3", "displayName": "grp-empty", "members": []},
    ]
    scim = read_members(json.dumps({"Resources": groups}).encode())
    assert scim.of({"2819C223"}) == {"g1", "grp-deck", "g2", "grp-ships"}
    ldif = read_members(
        b"dn: cn=grp-deck,ou=g\ncn: grp-deck\nmember: uid=m.tern,ou=p\n\ndn: cn=all,ou=g\ncn: all\n"
        b"uniqueMember: cn=grp-deck,ou=g\nmemberUid: a.fulmar\n"
    )
    assert {"grp-deck", "all"} <= ldif.of({"m.tern"})
    assert ldif.of({"a.fulmar"}) == {"all", "cn=all,ou=g"}
    assert scim.of(set()) == set()


FOLDED = [
    "nils.lunde_skerry-pilots.example~guest@northmere.example",
    "nils.lunde%40skerry-pilots.example@northmere.example",
    "nils.lunde%2540skerry-pilots.example",
    "NILS.LUNDE=40SKERRY-PILOTS.EXAMPLE@NORTHMERE.EXAMPLE",
    "nils_x002elunde_x0040_skerry-pilots_x002e_example",
    "ext-nils-lunde-at-skerry-pilots-example@northmere.example",
    "example.skerry-pilots.nils.lunde@northmere.example",
    "northmere.example!skerry-pilots.example!nils.lunde",
    "nils_lunde_skerry_pilots_example",
    "guest.nils.lunde_skerry-pilots.example@northmere.example",
    "x(nils.lunde)skerry-pilots.example",
    "nils.lunde#skerry-pilots.example#EXTERN#@northmere.example",
]


@pytest.mark.parametrize("name", FOLDED)
def test_a_folded_guest_is_known_by_account(name: str) -> None:
    near = INDEX.near(name)
    assert [(one.row.user, one.by) for one in near] == [(NILS, "folding")]
    assert near[0].folded
    assert near[0].folded.how
    step = guests.unfolding(name, near[0].folded, NILS)
    if step:
        assert re.sub(step["replace"], step["with"], name).casefold() == NILS


@pytest.mark.parametrize(
    "name",
    [
        "ole.nils.lunde_skerry-pilots.example@northmere.example",
        "nils.lunde_skerry-pilots.example.attacker.example",
        "anna_b.skerry@northmere.example",
        "lunde_skerry-pilots.example@northmere.example",
        "skerry-pilots.example",
        "nils.lunde",
        "_7f3a90c2d1",
        "",
        "@",
        "nils.lundeskerry-pilots.example",
    ],
)
def test_what_is_no_folded_account(name: str) -> None:
    assert not [one for one in INDEX.near(name) if one.folded]


@given(st.text(max_size=60))
def test_any_text_is_read_without_an_error(name: str) -> None:
    for one in guests.readings(name, ["skerry-pilots.example", "xn--p.example"], HOME):
        assert name[slice(*one.local_span)]
        guests.unfolding(name, one, f"{one.local}@{one.domain}")


PARTS = st.from_regex(r"[a-z]{2,8}(\.[a-z]{2,8})?", fullmatch=True)


@given(local=PARTS, sign=st.sampled_from("_#=~+!$^|"), marker=st.sampled_from(["", "~g", "#x#", "!"]))
def test_unfolding_undoes_folding(local: str, sign: str, marker: str) -> None:
    """For any local part: what was folded is found by its account, and the proposed step gives the account's name."""
    address = f"{local}@skerry-pilots.example"
    index = AccountIndex([AccountRow(address, 2)], home=HOME)
    name = f"{local}{sign}skerry-pilots.example{marker}@northmere.example"
    (near,) = index.near(name)
    assert near.folded
    step = guests.unfolding(name, near.folded, address)
    assert step
    assert re.sub(step["replace"], step["with"], name) == address
    other = name.replace(local, "somebody.else", 1)
    assert re.sub(step["replace"], step["with"], other) == "somebody.else@skerry-pilots.example"


ACCOUNTS = f"""user,email,login,active,sign_in
{TERN},{TERN},m.tern,yes,federated
a.fulmar@northmere.example,a.fulmar@northmere.example,a.fulmar,no,federated
{NILS},{NILS},nils.lunde_skerry-pilots.example~guest@northmere.example,yes,federated
ida.holm@skerry-pilots.example,ida.holm@skerry-pilots.example,ida.holm_skerry-pilots.example~guest@northmere.example,yes,password
"""
SETUP = """
[[provider_setup.subject]]
when = "guest"
from = "login"
[[provider_setup.subject]]
from = "login"
rewrite = [{ add_suffix = "@northmere.example" }]
"""


def folder_with(tmp_path: Path, app: dict[str, Any] | None = None, accounts: str = ACCOUNTS, setup: str = "") -> Path:
    made = workspace(tmp_path, {"account": {"list": "a.csv"}, **(app or {})}, {"a.csv": accounts})
    file = made / "apps/crew-roster.toml"
    file.write_text(file.read_text("utf-8") + setup, "utf-8")
    return made


def test_all_accounts_through_both_rules(tmp_path: Path) -> None:
    """What the directory holds, what is sent, what the application makes of it; a rule that repairs the guests."""
    folder = folder_with(tmp_path, setup=SETUP)
    status, document = run_json("identify", "crew-roster", folder=folder)
    conforms(document, "identify")
    assert (status, document["counts"]) == (1, {"found": 2, "near": 2, "ambiguous": 0, "other": 0, "none": 0})
    tern, _, nils, _ = document["names"]
    assert (tern["held"], tern["sent_steps"], tern["account"], tern["guest"]) == ("m.tern", [TERN], TERN, False)
    assert (nils["guest"], nils["near_by"], nils["candidates"]) == (True, "folding", [NILS])
    rule = document["proposal"]["rewrite"]
    assert document["proposal"]["held_against"] == 4
    assert len(document["proposal"]["repairs"]) == 2
    file = folder / "apps/crew-roster.toml"
    step = rule[0]
    line = f"rewrite = [{{ replace = '{step['replace']}', with = '{step['with']}' }}]\n"
    file.write_text(file.read_text().replace('list = "a.csv"\n', f'list = "a.csv"\n{line}'))
    assert run("identify", "crew-roster", folder=folder).returncode == 0


def test_names_of_a_list_a_capture_and_standard_input(tmp_path: Path) -> None:
    folder = folder_with(tmp_path)
    (folder / "names.txt").write_text(f"# who\n{TERN}\n\nM.Tern@northmere.example\nnobody\n")
    (folder / "names.csv").write_text(f"no;NameID\n1;{TERN}\n2; \n")
    (folder / "names.json").write_text(json.dumps([TERN, 1, "x"]))
    (folder / "m.xml").write_bytes(response(name_id=TERN.upper()))
    expected = {
        "names.txt": ["found", "near", "none"],
        "names.csv": ["found"],
        "names.json": ["found", "none"],
        "m.xml": ["near"],
    }
    for name, results in expected.items():
        _, document = run_json("identify", "crew-roster", name, folder=folder)
        assert [one["result"] for one in document["names"]] == results, name
    status, document = run_json("identify", "crew-roster", "-", folder=folder, stdin=f"{TERN}\n".encode())
    assert (status, document["names"][0]["where"]) == (0, "line 1")
    status, document = run_json("identify", "crew-roster", "nowhere.txt", folder=folder)
    assert (status, document["unreadable"][0]["source"]) == (3, "nowhere.txt")


def test_another_rule_tried(tmp_path: Path) -> None:
    accounts = "user,email\nanna,anna@a.example\nanna2,anna@b.example\nbo,bo@a.example\n"
    folder = folder_with(tmp_path, {"account": {"list": "a.csv", "rewrite": [{"case": "lower"}]}}, accounts)
    status, document = run_json("identify", "crew-roster", "--rule", "[{ drop_domain = true }]", folder=folder)
    conforms(document, "identify")
    changes = document["changes"]
    assert status == 1
    assert [one["name"] for one in changes["gained"]] == ["anna@a.example", "bo@a.example"]
    assert changes["merged"] == [{"account": "anna", "names": ["anna@a.example", "anna@b.example"]}]
    assert document["names"][1]["result"] == "other"
    text = run("identify", "crew-roster", "--rule", "[{ drop_domain = true }]", folder=folder).stdout.decode()
    assert text.startswith("This rule gains 2, loses 0, moves 0 and merges 1 at Crew Roster.")
    wrong = run("identify", "crew-roster", "--rule", "[{ drop = true }]", folder=folder)
    assert (wrong.returncode, b"did you mean" in wrong.stderr or b"no setting" in wrong.stderr) == (2, True)


def test_a_rule_that_would_merge_is_not_proposed(tmp_path: Path) -> None:
    accounts = "user,email\nanna,anna@a.example\nanna2,anna@b.example\n"
    found = load_workspace(folder_with(tmp_path, accounts=accounts))
    result = identify(found.apps["crew-roster"], found, None, NOW)
    assert result.counted("near") == 2
    assert result.proposal is None


@pytest.mark.parametrize(
    ("names", "accounts", "rewrite"),
    [
        (["M.TERN@northmere.example"], "m.tern@northmere.example", [{"case": "lower"}]),
        (["m.tern@northmere.example"], "m.tern", [{"drop_domain": True}]),
        (["m.tern"], "m.tern@northmere.example", [{"add_suffix": "@northmere.example"}]),
        (["NORTHMERE\\m.tern"], "m.tern", [{"replace": r"^.*\\", "with": ""}]),
        (
            ["m.tern@old.example"],
            "m.tern@northmere.example",
            [{"replace": r"@old\.example$", "with": "@northmere.example"}],
        ),
        (["M.TERN@northmere.example"], "m.tern", [{"case": "lower"}, {"drop_domain": True}]),
    ],
)
def test_what_is_proposed(tmp_path: Path, names: list[str], accounts: str, rewrite: list[dict[str, Any]]) -> None:
    folder = folder_with(tmp_path, accounts=f"user\n{accounts}\n")
    (folder / "n.txt").write_text("\n".join(names))
    _, document = run_json("identify", "crew-roster", "n.txt", folder=folder)
    steps = document["proposal"]["rewrite"]
    assert sorted(steps, key=str) == sorted(rewrite, key=str)


def test_the_page(tmp_path: Path) -> None:
    folder = folder_with(tmp_path, setup=SETUP)
    text = run("identify", "crew-roster", folder=folder, COLUMNS="100").stdout.decode()
    assert text.startswith("2 of 4 names lead to their account at Crew Roster.\n")
    assert "put _ where the at sign was" in text
    assert "inactive" in text
    assert "trace-lens identify crew-roster --rule '[{replace = " in text
    assert "local password" not in text
    assert TERN in run("identify", "crew-roster", "-v", folder=folder).stdout.decode()
    none = run("identify", "crew-roster", folder=workspace(tmp_path / "other"))
    assert (none.returncode, b"no account list" in none.stderr) == (2, True)


def test_a_guest_in_a_diagnosis(tmp_path: Path) -> None:
    """The guest's account is named, and the rule that the diagnosis proposes repairs the sign-in."""
    folder = folder_with(tmp_path)
    (folder / "m.xml").write_bytes(response(name_id="nils.lunde_skerry-pilots.example~guest@northmere.example"))
    _, document = run_json("diagnose", "m.xml", folder=folder)
    (attempt,) = document["attempts"]
    codes = {one["code"]: one for one in attempt["findings"]}
    assert attempt["first_break"] == "account-near-match"
    assert codes["account-near-match"]["expected"] == NILS
    assert codes["guest-identifier"]["expected"] == NILS
    status, document = run_json("diagnose", "m.xml", "--set", attempt["try"], folder=folder)
    assert (status, document["attempts"][0]["outcome"]) == (0, "sound")
    member = judge(response(name_id="anna_b.smith@northmere.example"), workspace(tmp_path / "b", provider=PROVIDER))
    assert "guest-identifier" not in {one.code for one in member.findings}


def test_names_that_are_empty_double_or_foreign(tmp_path: Path) -> None:
    accounts = "user,email\nbjørn@x.example,\n,empty@x.example\nbjørn@x.example,\nзоя@x.example,\n"
    folder = folder_with(tmp_path, accounts=accounts)
    (folder / "n.txt").write_text("bjørn@x.example\nзоя@x.example\nBJØRN@X.EXAMPLE\n", "utf-8")
    _, document = run_json("identify", "crew-roster", "n.txt", folder=folder)
    assert [one["result"] for one in document["names"]] == ["ambiguous", "found", "near"]
    assert document["accounts"] == 3
