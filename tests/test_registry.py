"""What a check declares is what it raises, and each code of each check is raised by a case."""

from __future__ import annotations

import functools
import itertools
import os
from collections import defaultdict
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import pytest

import test_encryption
import test_judgement
import test_oidc
import test_requests
import test_sign_out
import test_timeline
import test_ways
from cases import CASES
from kit import NOW, judge, posted, response, workspace
from oidc_kit import client_workspace, judge_texts
from recorded_kit import EXPECTED, judged
from trace_lens.checks import registry
from trace_lens.checks.checking import Check, rounds_of
from trace_lens.common.findings import Finding
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.diagnosis.logbook import logbook_of
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile
from way_kit import har, saml_trip

CHECKS = list(dict.fromkeys((*registry.checks_of("saml"), *registry.checks_of("oidc"))))

DAMAGED = (
    response()[:900],
    response().replace(b"</samlp:Status>", b"<samlp:Status>"),
    b'<!DOCTYPE a [<!ENTITY b "c">]>' + response(),
    posted(response()).replace(b"%2B", b"+"),
)
"""Responses that were cut, are broken, unsafe, or had to be repaired."""

LOGGED = (("no,A-41,", 0.0), ("ok,,", 540.0), ("no,A-60,", 900.0), ("no,A-60,", -900.0))
"""What the application's log says, and by how many seconds its clock is ahead."""


def name_of(check: Check) -> str:
    return f"{check.ask.__module__.removeprefix('trace_lens.checks.')}.{check.ask.__name__}"


@pytest.fixture
def raised(monkeypatch: pytest.MonkeyPatch) -> dict[str, set[str]]:
    """What each check raises from here on, by its name."""
    found: dict[str, set[str]] = defaultdict(set)

    def watched(check: Check) -> Check:
        def ask(case: object) -> Iterator[object]:
            for answer in check.ask(case):
                if isinstance(answer, Finding):
                    found[name_of(check)].add(answer.code)
                yield answer

        return check._replace(ask=functools.wraps(check.ask)(ask))

    known = {protocol: tuple(map(watched, registry.checks_of(protocol))) for protocol in ("saml", "oidc")}
    monkeypatch.setattr(registry, "_rounds", lambda protocol: rounds_of(known[protocol]))
    return found


EVERY = bool(os.environ.get("EVERY_CAPTURE"))


def test_declared_is_raised_by_a_case(raised: dict[str, set[str]], demo: Path, tmp_path: Path) -> None:
    """And nothing else is: of every case where all are asked for, else of as many as it takes to raise each code."""

    def lacking() -> dict[str, set[str]]:
        return {name_of(one): left for one in CHECKS if (left := set(one.codes) - raised[name_of(one)])}

    for number, ask in enumerate(everything(demo, tmp_path)):
        ask()
        if not EVERY and number % 20 == 0 and not lacking():
            break
    assert lacking() == {}
    assert {name_of(one): more for one in CHECKS if (more := raised[name_of(one)] - set(one.codes))} == {}


def everything(demo: Path, tmp_path: Path) -> Iterator[Callable[[], object]]:
    """Every case of every table, each judged when it is called; those of rare codes first."""
    folders = (tmp_path / str(number) for number in itertools.count())
    for _, asked, answered, settings, *_ in test_requests.CASES:
        capture = test_requests.capture_of(asked, answered)
        yield partial(judge, capture, test_requests.folder_for(next(folders), settings))
    for _, request, answer, _ in test_sign_out.BESIDE:
        exchanged = test_sign_out.exchange(request, *filter(None, [answer]))
        yield partial(judge, exchanged, test_sign_out.make_folder(next(folders)))
    for _, form, _ in (*test_encryption.FORMS, *test_encryption.REASONS):
        sent = test_encryption.message(test_encryption.encrypted(test_encryption.signed_assertion(), **form))
        yield partial(judge, sent, test_encryption.folder_with_key(next(folders)))
    yield partial(judge, sent, workspace(next(folders)))  # without its key
    for data in DAMAGED:
        yield partial(judge, data, workspace(next(folders)))
    yield partial(judge, test_sign_out.STRAY, test_sign_out.make_folder(next(folders)))
    yield partial(test_ways.judged, har(saml_trip())[:-900], workspace(next(folders)))
    for words in test_judgement.TROUBLES:
        yield partial(test_judgement.diagnosed, workspace(next(folders)), har(test_judgement.unreachable(words)))
    yield partial(test_judgement.diagnosed, client_workspace(next(folders)), test_judgement.loaded_again(500))
    for app, off in LOGGED:
        yield partial(test_timeline.judged, test_timeline.loaded(next(folders), app=app, off=off))
    captures = [SourceFile(path.name, path.read_bytes()) for path in sorted((demo / "captures").iterdir())]
    known = load_workspace(demo)
    yield partial(diagnose_sources, captures, known, Options(NOW, with_logs=True), 1, logbook=logbook_of(known))
    for way in test_ways.ROWS:
        make = workspace if way.protocol == "saml" else client_workspace
        yield partial(test_ways.judged, way.data, make(next(folders), **way.settings))
    for row in test_oidc.ROWS:
        folder = client_workspace(next(folders), **row.settings)
        yield partial(judge_texts, folder, *row.texts, at=row.at, app=row.app)
    for case in CASES:
        folder = workspace(next(folders), case.app, case.files, case.provider, case.main)
        yield partial(judge, response(**case.message), folder, case.at)
    for name in EXPECTED:
        yield partial(judged, name)


def test_every_check_of_a_module_is_registered() -> None:
    import importlib
    import pkgutil

    import trace_lens.checks

    for module in pkgutil.walk_packages(trace_lens.checks.__path__, "trace_lens.checks."):
        loaded = importlib.import_module(module.name)
        own = [
            value for value in vars(loaded).values() if isinstance(value, Check) and value.ask.__module__ == module.name
        ]
        assert list(getattr(loaded, "CHECKS", ())) == own
        assert set(own) <= set(CHECKS)
