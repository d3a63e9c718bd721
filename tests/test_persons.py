"""What is said of one person is told again of another only where the full judge says the same of both, to the letter."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kit import PROVIDER, TERN, attribute, judge, posted, workspace
from oidc_kit import IAT, client_workspace, judge_texts, token
from test_oidc import discovery
from test_repeated import AUDIENCES, Share, share, varied
from test_strict_tokens import told_again
from trace_lens.checks.checking import Check
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.saml.case import SamlCase

NAMES = [
    TERN,
    "k.gannet@northmere.example",
    "K.GANNET@NORTHMERE.EXAMPLE",
    "j.skua@skerry-pilots.example",
    "j.skua_skerry-pilots.example#EXT#@northmere.example",
    "a.tystie_skerry-pilots.example#EXT#@northmere.example",
    "b.auk@fulmar.example",
    "m.tern",
    "40117",
    "s p@northmere.example",
    "x@y@northmere.example",
    "e.dunlin@northmere.example.",
]
LISTED = {
    "accounts/crew.csv": "user,active\n" + "".join(f"{name},yes\n" for name in NAMES if name != NAMES[2]),
    "assignments/crew.csv": "user,group\n" + "".join(f"{name},\n" for name in NAMES),
    "providers/skerry.toml": 'name = "Skerry Pilots"\nentity_id = "urn:skerry"\nemail_domains = ["skerry-pilots.example"]\n',
}
GROUPS = ["grp-deck", "grp-bridge", "grp-galley", "40117a00-0000-4000-8000-000000000001"]
PEOPLE = st.fixed_dictionaries(
    {
        "name": st.sampled_from(NAMES),
        "mail": st.sampled_from([*NAMES, "", " ", f" {TERN}"]),
        "role": st.sampled_from(["mate", "mate", "captain", "Mate", "cook", ""]),
        "groups": st.lists(st.sampled_from(GROUPS), min_size=1, max_size=3),
        "town": st.sampled_from(["Skerry", "Holm", "x", ""]),
    }
)
ACCOUNTS: list[dict[str, Any]] = [
    {},
    {"list": "accounts/crew.csv"},
    {"list": "accounts/crew.csv", "compare": "ignore-case"},
    {"list": "accounts/crew.csv", "from": "mail"},
    {"from": "mail"},
    {"list": "accounts/crew.csv", "from": "mail", "rewrite": [{"case": "lower"}]},
]
ROLE, GROUP = {"name": "role", "kind": "role"}, {"name": "groups", "kind": "groups"}
CLAIMS: list[list[dict[str, Any]]] = [
    [],
    [ROLE],
    [{**ROLE, "one_of": ["mate", "captain"], "need": "should"}],
    [{**ROLE, "one_of": ["captain"], "elevated": ["captain"]}, {"name": "town", "need": "must"}],
    [{**ROLE, "also_as": ["groups"], "maps": {"grp-deck": "mate"}}, {"name": "mail", "need": "must"}],
    [{**ROLE, "name": "groups", "maps": {"grp-deck": "mate", "grp-bridge": "captain"}, "one_of": ["mate"]}],
    [{**GROUP, "maps": {"grp-deck": "deck", "grp-bridge": "bridge"}, "need": "should"}],
    [{**GROUP, "one_of": ["grp-deck"]}, {**GROUP, "maps": {"grp-bridge": "b"}}],
    [{"name": "groups", "single": True}, {**ROLE, "default_role": "cook", "one_of": ["mate"]}],
    [{"name": "Towns", "also_as": ["Town"], "need": "should"}, {"name": "email", "need": "should"}],
]
PROVIDERS = [
    "",
    "most_groups = { assertion = 3, token = 3 }\n",
    "guest_pattern = '(?P<local>.+)_(?P<domain>[^_]+)#EXT#@northmere\\.example'\n",
]


class World(NamedTuple):
    """People, and what an application and its provider have on record."""

    people: list[dict[str, Any]]
    account: dict[str, Any]
    claims: list[dict[str, Any]]
    provider: str


WORLDS = st.builds(
    World,
    people=st.lists(PEOPLE, min_size=4, max_size=12),
    account=st.sampled_from(ACCOUNTS),
    claims=st.sampled_from(CLAIMS),
    provider=st.sampled_from(PROVIDERS),
)
SUPPRESSED = [HealthCheck.function_scoped_fixture, HealthCheck.too_slow]
MANY = settings(max_examples=300 if os.environ.get("EVERY_CAPTURE") else 20, suppress_health_check=SUPPRESSED)


def of_person(person: dict[str, Any], place: int, **more: Any) -> bytes:
    """A response about a person."""
    sent = [attribute(name, person[name]) for name in ("mail", "role", "town")]
    told = {"name_id": person["name"], "attributes": "".join([*sent, attribute("groups", *person["groups"])])}
    return varied({**told, **more}, {"shift": place, "identifier": f"_a{place}", "response_id": f"_r{place}"})


def of_token(person: dict[str, Any], place: int) -> str:
    """An ID token about a person."""
    times = {"iat": IAT + place, "exp": IAT + 3600 + place, "auth_time": IAT + place}
    told = {name: person[name] for name in ("mail", "role", "groups", "town")}
    return token(sub=person["name"], nonce=f"n-{place:02}", **times, **told)


def settings_of(account: dict[str, Any], claims: list[dict[str, Any]], assigned: bool) -> dict[str, Any]:
    """Those of an application."""
    setup = {"assigned": "assignments/crew.csv"} if assigned else {}
    return {"account": account, "claims": claims, "provider_setup": setup}


@given(
    world=WORLDS,
    fault=st.sampled_from([{}, {}, {"audiences": AUDIENCES.format("https://roster.northmere.example/saml")}]),
    assigned=st.booleans(),
)
@MANY
def test_whoever_signs_in(world: World, fault: dict[str, Any], assigned: bool, tmp_path: Path) -> None:
    told = settings_of(world.account, world.claims, assigned)
    folder = workspace(tmp_path, told, LISTED, PROVIDER + world.provider)
    share(folder, [of_person(person, place, **fault) for place, person in enumerate(world.people)])


DECK = "https://roster.northmere.example/deck"
RELAY_STATES = st.sampled_from(
    [None, "", "ss-1", "ss:mem:4d1f", DECK, f"{DECK}?day=2", f"{DECK}/{'x' * 80}", "/a?code=1"]
)


@given(
    told=st.lists(st.tuples(PEOPLE, RELAY_STATES), min_size=4, max_size=12),
    default=st.sampled_from([{}, {"relay_state": DECK}]),
    asked=st.booleans(),
)
@MANY
def test_whatever_the_relay_state_is(
    told: list[tuple[dict[str, Any], str | None]], default: dict[str, Any], asked: bool, tmp_path: Path
) -> None:
    folder = workspace(tmp_path, {"application": default}, LISTED)
    request = {} if asked else {"request": "", "response_request": ""}
    share(
        folder,
        [
            posted(of_person(person, place, **request), **({} if relay is None else {"RelayState": relay}))
            for place, (person, relay) in enumerate(told)
        ],
    )


def table(name: str, told: dict[str, Any]) -> str:
    """Settings of an application of OpenID Connect."""
    maps = ", ".join(f'{one} = "{other}"' for one, other in told.get("maps", {}).items())
    plain = [
        f"{key} = {value!r}".replace("True", "true") for key, value in told.items() if key not in ("maps", "rewrite")
    ]
    return "\n".join([name, *plain, *([f"maps = {{{maps}}}"] if maps else [])])


@given(world=WORLDS)
@MANY
def test_whoever_has_a_token(world: World, tmp_path: Path) -> None:
    provider = f'email_domains = ["northmere.example"]\n{world.provider}'
    folder = client_of(tmp_path, world.account, world.claims, provider)
    told_again(folder, [of_token(person, place) for place, person in enumerate(world.people)])


def client_of(
    folder: Path, account: dict[str, Any], claims: list[dict[str, Any]], provider: str = "", **files: str
) -> Path:
    """A workspace with one client that reads these claims."""
    more = "\n".join([table("[account]", account), *(table("[[claims]]", claim) for claim in claims)])
    return client_workspace(folder, more=more, provider=provider, files={**(files or LISTED), **discovery()})


@pytest.mark.parametrize(
    ("account", "claims"), [({}, []), (ACCOUNTS[1], CLAIMS[2]), (ACCOUNTS[3], CLAIMS[6]), (ACCOUNTS[1], CLAIMS[9])]
)
def test_a_fair_share_is_told_of_others(account: dict[str, Any], claims: list[dict[str, Any]], tmp_path: Path) -> None:
    """A law that never applies shows nothing: of people who differ in what nobody looks at two are judged in full."""
    folder = workspace(tmp_path, settings_of(account, claims, True), LISTED_CREW)
    people: list[dict[str, Any]] = [
        {"name": name, "mail": name, "role": "mate", "groups": ["grp-deck", f"grp-{place}"], "town": f"Skerry {place}"}
        for place, name in enumerate(CREW)
    ]
    messages = [of_person(person, place) for place, person in enumerate(people)]
    assert share(folder, messages) == Share(0, 4)
    forms = [posted(message, RelayState=f"{DECK}/{place}") for place, message in enumerate(messages)]
    assert share(folder, forms) == Share(0, 4)
    client = client_of(tmp_path / "client", account, claims, **LISTED_CREW)
    assert told_again(client, [of_token(person, place) for place, person in enumerate(people)]) == 4


CREW = [f"{name}@northmere.example" for name in ("m.tern", "k.gannet", "a.fulmar", "s.petrel", "j.skua", "b.auk")]
LISTED_CREW = {
    "accounts/crew.csv": "user,active\n" + "".join(f"{name},yes\n" for name in CREW),
    "assignments/crew.csv": "user,group\n" + "".join(f"{name},\n" for name in CREW),
}
OF_PERSON = {
    SamlCase: ("name_id", "attributes", "said", "subject"),
    OidcCase: ("subject", "said", "claim"),
}
"""Where a case says what a message says of a person."""


def readers_of(judged: Callable[[], object]) -> set[str]:
    """The checks, and what else, that read what messages say of people while something is judged."""
    asked: list[str] = []
    found: set[str] = set()

    def watched(of: type, name: str) -> Any:
        plain = vars(of)[name]
        get = plain.func if isinstance(plain, cached_property) else plain.fget if isinstance(plain, property) else plain

        def read(case: Any, *args: Any) -> Any:
            caller = sys._getframe(1).f_code
            if not caller.co_filename.endswith("case.py"):
                found.add(asked[-1] if asked else caller.co_name)
            return get(case, *args)

        return read if callable(plain) else property(read)

    def asking(check: Check) -> Callable[[Any], Iterator[Any]]:
        def ask(case: Any) -> Iterator[Any]:
            asked.append(f"{check.ask.__module__.removeprefix('trace_lens.checks.')}.{check.ask.__name__}")
            answers = list(check.ask(case))
            asked.pop()
            return iter(answers)

        return ask

    from trace_lens.checks import registry

    with pytest.MonkeyPatch.context() as patch:
        for of, names in OF_PERSON.items():
            for name in names:
                patch.setattr(of, name, watched(of, name))
        rounds = {
            protocol: tuple(
                one._replace(checks=tuple(check._replace(ask=asking(check)) for check in one.checks))
                for one in registry._rounds(protocol)
            )
            for protocol in ("saml", "oidc")
        }
        patch.setattr(registry, "_rounds", rounds.__getitem__)
        judged()
    return found


EVERYBODY = {
    "assigned.assigned",
    "entitled.claims_there",
    "entitled.claims_used",
    "entitled.groups_fit",
    "entitled.groups_known",
    "entitled.groups_room",
    "entitled.values_allowed",
    "identified.account",
    "identified.guest_name",
    "identified.routed",
    "identified.subject_there",
    "_parties",
    "_sent",
    "table",
}
"""Who looks at names and claims; the two that list them; and what finds the account, which is known."""
OF_SAML = {"saml.authentic.comments", "saml.identified.name_id_format", "saml.identified.stable"}
"""Comments stand in no message of the usual shape; of the other two the strict path holds the format."""
OF_TOKENS = {
    f"oidc.{name}"
    for name in (
        "admitted.renewal",
        "entitled.scopes",
        "identified.email_vouched_for",
        "identified.one_subject",
        "identified.stable",
        "identified.subject_of_token",
        "identified.who_was_asked_for",
    )
}
"""They ask whether a claim is there, read one that must be the same, or lay it beside a request or another token."""


def test_nobody_else_reads_what_is_said_of_a_person(tmp_path: Path) -> None:
    """Whatever reads names and claims decides by what `persons` keeps of them; whoever comes to read them must too."""
    person = {"name": TERN, "mail": TERN, "role": "mate", "groups": ["grp-deck"], "town": "Skerry"}
    for place, (account, claims) in enumerate((account, claims) for account in ACCOUNTS for claims in CLAIMS):
        folder = workspace(tmp_path / str(place), settings_of(account, claims, True), LISTED)
        assert readers_of(lambda folder=folder: judge(of_person(person, 0), folder)) <= EVERYBODY | OF_SAML
        client = client_of(tmp_path / f"client {place}", account, claims)
        assert readers_of(lambda folder=client: judge_texts(folder, of_token(person, 0))) <= EVERYBODY | OF_TOKENS
