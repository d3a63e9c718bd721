"""The strict path of ID tokens says sound only where the full judge does, and the same of it."""

from __future__ import annotations

import gzip
import json
import os
import random
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from kit import NOW, TERN, key
from oidc_kit import API, CLIENT, IAT, ISSUER, client_workspace, judge_texts, token
from recorded_kit import EXPECTED, FOLDER, workspace_of
from test_oidc import DISCOVERED, ROWS, Row, discovery, with_certificate, with_payload
from test_repeated import told_again as told_of
from trace_lens.attempts.evidence import read_evidence
from trace_lens.attempts.oidc import assemble_oidc
from trace_lens.common.masking import Masks
from trace_lens.demo.tokens import public_jwk
from trace_lens.diagnosis.diagnosing import MANY, diagnose_sources
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.diagnosis.later import LaterDiagnosis
from trace_lens.diagnosis.strict_tokens import sound_token
from trace_lens.intake.peeling import peel
from trace_lens.render import as_json
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile

FILES = {
    "a.csv": "user,email,active\n40117,m.tern@northmere.example,yes\nM.TERN@northmere.example,,yes\noff,,no\n",
    "b.csv": f"user,group\n{TERN},\n,grp-deck\n",
    **discovery(),
}


def agrees(text: str, folder: Path) -> bool:
    """Whether the strict path judges a token; where it does, the full judge says the same."""
    told = sound_token(text.encode("utf-8", "surrogatepass"), load_workspace(folder))
    if told is None:
        return False
    (found,) = judge_texts(folder, text)
    assert found.outcome == "sound", (found.cause, text)
    assert (found.app, found.provider, found.subject) == (told.app.id, told.provider.id, told.subject)
    assert (found.protocol, found.parties.started_by, found.parties.chosen_by) == ("oidc", told.started_by, "audience")
    assert (found.at, found.judged.at_from) == (told.at, "message")
    (attempt,) = assemble_oidc(list(read_evidence(SourceFile("1.txt", text.encode())).oidc))
    assert attempt.open_ends == (set(told.wanted), set(told.offered))
    return True


@pytest.mark.parametrize("one", [one for one in ROWS if one.name != "not assigned"], ids=lambda one: one.name)
def test_it_says_no_more_than_the_full_judge(one: Row, tmp_path: Path) -> None:
    folder = client_workspace(tmp_path, **one.settings)
    judged = [agrees(text, folder) for text in one.texts]
    assert not (any(judged) and one.first and one.at is None and one.app is None)


STRANGE = [None, "", " ", 0, 1.5, True, "7", [], ["x"], {}, {"a": 1}, "ä"]
MOMENTS = [IAT + by for by in (-7200, -181, -179, 0, 1, 179, 181, 3600)] + [float(IAT), str(IAT), IAT * 1000, 10**20]
OTHERS = ["code", "state", "scope", "client_id", "response_type", "_claim_names", "error", "hasgroups", "groups", "amr"]
CLAIMS: dict[str, list[Any]] = {
    "iss": [ISSUER, ISSUER + "/", ISSUER.upper()],
    "aud": [CLIENT, [CLIENT], [CLIENT, CLIENT], [CLIENT, "other"], "other", [API, CLIENT], API],
    "azp": [CLIENT, "other"],
    "sub": ["40117", "off", TERN, TERN.upper()],
    "exp": [IAT + 3600, *MOMENTS],
    "nbf": MOMENTS,
    "iat": MOMENTS,
    "auth_time": MOMENTS,
    "updated_at": MOMENTS,
    "email": [TERN, TERN.upper(), "off", "x@skerry-pilots.example", ["a", TERN]],
    "email_verified": [False, "false", True],
    "acr": ["urn:x", "urn:y"],
    "role": ["mate", "captain", ["mate", "x"], ["x"]],
    "events": [{"http://schemas.openid.net/event/backchannel-logout": {}}],
    **{name: ["v-1"] for name in ("nonce", "at_hash", "c_hash", "sid", *OTHERS)},
}
CHANGES = st.lists(
    st.sampled_from(sorted(CLAIMS)).flatmap(
        lambda name: st.tuples(st.just(name), st.sampled_from([*CLAIMS[name], *STRANGE]))
    ),
    max_size=3,
).map(dict)
HEADERS = st.sampled_from(
    [
        {},
        {},
        {},
        {"typ": "at+jwt"},
        {"typ": "JWT"},
        {"kid": None},
        {"kid": "x"},
        {"kid": ["oidc"]},
        {"crit": ["b64"]},
        {"b64": False},
        {"alg": "none"},
        {"alg": "RS512"},
        {"cty": "JWT"},
        {"jwk": {}},
        {"x5t": "a"},
        {"zip": "DEF"},
    ]
)
SETTINGS = st.fixed_dictionaries(
    {},
    optional={
        "application": st.sampled_from(
            [
                'max_age = "1h"',
                'acr_values = ["urn:x"]',
                'token_algorithm = "PS256"',
                f'api_audience = ["{API}"]',
                'clock_skew = "0s"',
                "checks_certificate_dates = true",
                f'discovery_url = "{ISSUER}/other/.well-known/openid-configuration"',
            ]
        ),
        "more": st.sampled_from(
            [
                '[account]\nlist = "a.csv"',
                '[account]\nfrom = "email"\nlist = "a.csv"',
                '[account]\nfrom = "email"\nlist = "a.csv"\ncompare = "ignore-case"',
                '[account]\nfrom = "role"',
                '[account]\nfrom = "acr"',
                '[[claims]]\nname = "role"\nneed = "must"',
                '[[claims]]\nname = "role"\nneed = "must"\none_of = ["mate"]',
                '[[claims]]\nname = "groups"\nneed = "must"\nmaps = {grp-deck = "mate"}',
                '[[claims]]\nname = "sub"\nneed = "must"',
                '[[claims]]\nname = "amr"\nneed = "must"\nsingle = true',
                '[[claims]]\nname = "mail"\nalso_as = ["email"]\nneed = "must"',
            ]
        ),
        "provider": st.sampled_from(
            [DISCOVERED, 'left_out_markers = ["hasgroups"]', 'email_domains = ["northmere.example"]']
        ),
        "keys": st.sampled_from(
            [
                [public_jwk(key("oidc"), "oidc")] * 2,
                [public_jwk(key("old"), "oidc"), public_jwk(key("oidc"), "x")],
                [{**public_jwk(key("oidc"), "oidc"), "use": "enc"}],
                [{**public_jwk(key("oidc"), "oidc"), "alg": "PS256"}],
                [with_certificate("oidc", ends="2025-11-01")],
                [with_certificate("oidc", "old")],
                [{"kty": "oct", "kid": "oidc", "k": "AAAA"}, public_jwk(key("oidc"), "oidc")],
            ]
        ),
        "provider_setup": st.sampled_from(['client_id = "other"', 'assigned = "b.csv"', 'assigned = "everyone"']),
    },
)


def made(told: dict[str, Any], folder: Path) -> Path:
    """A workspace with these settings, in which one table names no key twice."""
    found = client_workspace(folder, **{**told, "provider_setup": ""}, files=FILES)
    file, setup = folder / "apps/berth-planner.toml", told.get("provider_setup", "")
    if setup:
        name = setup.split(" ")[0]
        head, tail = file.read_text().split("[provider_setup]\n")
        kept = "\n".join(line for line in tail.split("\n") if not line.startswith(name + " "))
        file.write_text(f"{head}[provider_setup]\n{setup}\n{kept}")
    tomllib.loads(file.read_text())
    return found


@example(changes={"at_hash": ""}, header={}, told={})
@given(changes=CHANGES, header=HEADERS, told=SETTINGS)
@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
def test_whatever_differs(
    changes: dict[str, Any], header: dict[str, Any], told: dict[str, Any], tmp_path: Path
) -> None:
    """Tokens signed as they are, and settings, put together in all ways."""
    agrees(token(header=header, **changes), made(told, tmp_path))


VARIATIONS = st.lists(
    st.fixed_dictionaries(
        {
            "nonce": st.sampled_from(["n-1", "n-2", "n-3"]),
            "jti": st.sampled_from(["j-1", "j-2", "n-1"]),
            "later": st.sampled_from([0, 60, -90_000, -90_060, -90_120, -80_000, 40_000_000]),
        }
    ),
    min_size=8,
    max_size=16,
)
ODD = st.sampled_from([{}, {}, {"sid": "s-1"}, {"auth_time": IAT - 300}, {"email": "off"}, {"role": 1}])


@given(changes=st.one_of(ODD, CHANGES), odd=ODD, told=st.one_of(st.just({}), SETTINGS), variations=VARIATIONS)
@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
def test_what_is_told_again_is_what_the_full_judge_says(
    changes: dict[str, Any], odd: dict[str, Any], told: dict[str, Any], variations: list[dict[str, Any]], tmp_path: Path
) -> None:
    folder = made(told, tmp_path)
    told_again(
        folder, [later({**changes, **(odd if place % 5 == 4 else {})}, one) for place, one in enumerate(variations)]
    )


def later(changes: dict[str, Any], variation: dict[str, Any]) -> str:
    """A token in which some claims are others, and all moments lie so many seconds later."""
    claims = {"iat": IAT, "exp": IAT + 3600, "auth_time": IAT - 20, **changes, **variation}
    by = claims.pop("later")
    for name in ("iat", "exp", "nbf", "auth_time"):
        if isinstance(claims.get(name), int):
            claims[name] += by
    return token(**claims)


def told_again(folder: Path, texts: list[str]) -> int:
    """How many diagnoses of tokens are told after another; each is what the full judge says."""
    sources = [SourceFile(f"{number}.txt", text.encode()) for number, text in enumerate(texts)]
    full = diagnose_sources(sources, load_workspace(folder), Options(NOW), 1).diagnoses
    stream = told_of(sources, folder, Options(NOW))
    assert [one for judged in stream for one in judged.whole.diagnoses] == [one._replace(id="1") for one in full]
    return sum(judged.again is not None for judged in stream)


def test_a_fair_share_is_told_again(tmp_path: Path) -> None:
    folder = made({"more": '[account]\nlist = "a.csv"'}, tmp_path)
    six = [later({}, {"nonce": f"n-{n}", "jti": f"j-{n}", "later": n - 90_000}) for n in range(6)]
    assert told_again(folder, six) == 4
    assert told_again(folder, [*six, later({}, {"nonce": "n-7", "jti": "n-7", "later": 7 - 90_000})]) == 4
    assert (
        told_again(folder, [*six, later({}, {"nonce": "n-8", "jti": "j-8", "later": 8 - 90_000, "acr": "other"})]) == 4
    )


def test_a_certificate_of_the_key_set_ends_in_between(tmp_path: Path) -> None:
    folder = made({"keys": [with_certificate("oidc", ends="2026-02-20")]}, tmp_path)
    days = [0, 0, 0, 0, 85, 95]
    texts = [later({}, {"nonce": f"n-{n}", "later": n - 90_000 + day * 86_400}) for n, day in enumerate(days)]
    assert told_again(folder, texts) == 2


@pytest.mark.parametrize("told", [{}, {"more": '[account]\nlist = "a.csv"'}, {"provider": DISCOVERED}])
def test_what_works_is_judged(told: dict[str, Any], tmp_path: Path) -> None:
    folder = made(told, tmp_path)
    assert agrees(token(), folder)
    assert agrees(token(aud=[CLIENT], azp=CLIENT, sid="s-1", nbf=IAT) + "\n", folder)
    assert not agrees(token(signer="old"), folder)
    assert not agrees(token(iss="https://id.northmere.example/"), folder)


@pytest.mark.parametrize(
    "payload",
    [
        '{"iss": "%s", "iss": "x", ',
        '{"a": {"b": 1, "b": 2}, "iss": "%s", ',
        '\ufeff{"iss": "%s", ',
        '{"n": NaN, "iss": "%s", ',
        '{"n": 1' + "0" * 450 + ', "iss": "%s", ',
        '{"n": ' + "[" * 70 + "]" * 70 + ', "iss": "%s", ',
    ],
)
def test_json_that_readers_differ_in(payload: str, tmp_path: Path) -> None:
    rest = f'"sub": "40117", "aud": "{CLIENT}", "iat": {IAT}, "exp": {IAT + 60}, "nonce": "n"}}'
    assert agrees(with_payload(f'{{"iss": "{ISSUER}", {rest}'), client_workspace(tmp_path))
    assert not agrees(with_payload(payload.replace("%s", ISSUER) + rest), tmp_path)


RECORDED = sorted(EXPECTED) if os.environ.get("EVERY_CAPTURE") else sorted(EXPECTED)[::8]


def test_tokens_of_real_systems() -> None:
    """Every token in the recorded sign-ins: it is left to the full judge, or both say the same of it alone."""
    judged = 0
    for name in RECORDED:
        known = workspace_of(name)
        for found in peel(gzip.decompress((FOLDER / "captures" / f"{name}.har.gz").read_bytes())).found:
            told = sound_token(found.data, known)
            if told:
                judged += 1
                (full,) = diagnose_sources([SourceFile("alone", found.data)], known, Options(NOW), 1).diagnoses
                assert (full.outcome, full.app, full.subject, full.at) == (
                    "sound",
                    told.app.id,
                    told.subject,
                    told.at,
                ), name
    assert judged >= 3


def test_the_rest_is_the_full_judges(tmp_path: Path) -> None:
    """A summary of many is the same either way; so is each diagnosis once it is looked at."""
    known, draw = load_workspace(client_workspace(tmp_path)), random.Random(4)
    texts = [
        token(aud="other", nonce=f"n-{n}") if draw.random() < 0.2 else token(nonce=f"n-{n}") for n in range(MANY + 5)
    ]
    sources = [SourceFile(f"{n}.txt", text.encode()) for n, text in enumerate(texts)]
    brief = diagnose_sources(sources, known, Options(NOW), 1, brief=True)
    full = diagnose_sources(sources, known, Options(NOW), 1)
    assert sum(isinstance(one, LaterDiagnosis) for one in brief.diagnoses) > MANY / 2

    def shown(found: Diagnosis) -> str:
        return json.dumps(as_json.attempt(found, Masks(reveal=False)))

    assert [shown(one) for one in brief.diagnoses] == [shown(one) for one in full.diagnoses]
