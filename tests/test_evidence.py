"""The one way in: every command reads a source once, and every attempt is judged once, also beside logs."""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path
from typing import Any

import pytest

from kit import NOW, Done, run_json
from trace_lens import NothingToDiagnose, diagnose
from trace_lens.attempts.evidence import assemble, read_evidence
from trace_lens.diagnosis import diagnosing
from trace_lens.diagnosis.judging import Options
from trace_lens.diagnosis.logbook import logbook_of
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile, read_sources

CAPTURES = ("captures/04-crew-roster-slash-lost.txt", "captures/55-weather-desk-loop.har")


@pytest.mark.parametrize(
    "words",
    [
        ("diagnose", *CAPTURES),
        ("timeline", *CAPTURES),
        ("decode", *CAPTURES),
        ("certs", "--now", "2026-11-21T00:00:00Z", *CAPTURES),
        ("identify", "crew-roster", CAPTURES[0]),
        ("sides", "crew-roster", CAPTURES[0]),
        ("compare", *CAPTURES),
    ],
)
def test_each_source_is_read_once(
    shown_demo: tuple[Done, Path], words: tuple[str, ...], monkeypatch: pytest.MonkeyPatch
) -> None:
    read: Counter[str] = Counter()
    whole = SourceFile.peeled

    def peeled(self: SourceFile) -> Any:
        read[self.name] += 1
        return whole(self)

    monkeypatch.setattr(SourceFile, "peeled", peeled)
    run_json(*words, folder=shown_demo[1])
    assert read == Counter(word for word in words if word in CAPTURES)


def test_each_attempt_is_judged_once_beside_logs(
    shown_demo: tuple[Done, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The log events are found before anything is judged, so that nothing is judged again with them."""
    judged: Counter[str] = Counter()
    whole = diagnosing.judge

    def judge(case: Any, *more: Any) -> Any:
        judged[case.attempt.main.source] += 1
        return whole(case, *more)

    monkeypatch.setattr(diagnosing, "judge", judge)
    monkeypatch.chdir(shown_demo[1])
    known = load_workspace(Path())
    sources = list(read_sources(CAPTURES))
    options = Options(NOW, with_logs=True)
    found = diagnosing.diagnose_sources(
        [*sources, SourceFile("notes.txt", b"nothing")], known, options, logbook=logbook_of(known)
    )
    assert set(judged.values()) == {1}
    assert len(judged) == len(found.diagnoses) == 2
    assert all(diagnosis.details.logs and diagnosis.details.logs.events for diagnosis in found.diagnoses)


def test_evidence_says_what_a_source_holds(shown_demo: tuple[Done, Path]) -> None:
    message, way, nothing, missing = (
        read_evidence(source)
        for source in (
            *read_sources(tuple(str(shown_demo[1] / name) for name in CAPTURES)),
            SourceFile("notes.txt", b"nothing of a sign-in"),
            SourceFile("gone.txt", None, "there is no such file"),
        )
    )
    assert (message.kinds, message.capture, message.problems) == (("saml-response",), None, ())
    assert way.capture is not None
    assert len(way.oidc) > 2
    assert nothing.without_sign_in() == nothing.peeled.because
    assert (missing.is_there, missing.problems, missing.without_sign_in()) == (False, ("there is no such file",), None)
    assert [attempt.way is not None for attempt in assemble([message, way])] == [False, True]


def test_the_library_front_runs_as_documented(
    shown_demo: tuple[Done, Path], monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    text = (Path(__file__).parents[1] / "docs" / "library.md").read_text()
    example, output = (part.partition("\n```")[0] for part in re.split(r"```(?:python|text)\n", text)[1:3])
    monkeypatch.chdir(shown_demo[1])
    exec(compile(example, "docs/library.md", "exec"), {})
    assert capsys.readouterr().out.rstrip() == output


def test_the_library_front_takes_octets_and_says_why_it_cannot(shown_demo: tuple[Done, Path]) -> None:
    data = (shown_demo[1] / CAPTURES[0]).read_bytes()
    (known,) = diagnose(data, shown_demo[1], now=NOW)
    (unknown,) = diagnose(data, now=NOW)
    assert (known.app, known.outcome) == ("crew-roster", "broken")
    assert (unknown.app, unknown.outcome) == (None, "inconclusive")
    with pytest.raises(NothingToDiagnose, match="no reading of it ends in a message"):
        diagnose(b"nothing of a sign-in")
    with pytest.raises(NothingToDiagnose, match="there is no such file"):
        diagnose("no-such-file.txt")
    with pytest.raises(KeyError):
        diagnose(data, shown_demo[1], app="nobody")
