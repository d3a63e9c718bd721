"""Logs that no description names: columns known by what they hold, and nothing told that does not stand there."""

from __future__ import annotations

import csv
import io
import json
import random
import shutil
from datetime import UTC, datetime
from pathlib import Path

import pytest

from kit import run, run_json, workspace
from trace_lens.diagnosis.carried import carried_by_captures
from trace_lens.logs.formats.events import client_address
from trace_lens.logs.formats.records import records_of
from trace_lens.logs.formats.rows import BadRow, Record
from trace_lens.logs.formats.times import NoTime, TimeForm, TimeReader
from trace_lens.logs.recognising.checking import check
from trace_lens.logs.recognising.columns import Column, columns_of
from trace_lens.logs.recognising.forms import form_of
from trace_lens.logs.recognising.known import Known, known_to
from trace_lens.logs.recognising.moments import read_times
from trace_lens.logs.recognising.outcomes import outcome_of_word, read_words
from trace_lens.logs.recognising.proposing import Proposal, propose
from trace_lens.workspace.loading import load_workspace
from unknown_exports import WRITERS, Export, as_csv, exports, nameless

NUMBERS = range(len(WRITERS))
NOW = datetime(2026, 11, 28, tzinfo=UTC)


@pytest.fixture(scope="module")
def known(demo: Path) -> Known:
    """What the demo's workspace and captures know."""
    there = load_workspace(demo)
    return known_to(there, carried_by_captures(there, NOW))


@pytest.fixture(scope="module")
def made(known: Known) -> list[Export]:
    """All made-up exports."""
    return list(exports(known.workspace, sorted(known.carried)))


def proposal_of(export: Export, known: Known | None, folder: Path) -> Proposal:
    path = folder / export.file
    path.write_bytes(export.content)
    proposal = check(path, None, known).proposal
    assert proposal is not None
    return proposal


def columns(proposal: Proposal) -> dict[str, str]:
    """The column of each field, of a time in two columns both."""
    return {match.field: " ".join(match.columns) for match in proposal.found.matches if match.field != "ids"}


# -- what unknown exports hold


@pytest.mark.parametrize("number", NUMBERS, ids=[write.__name__[1:] for write in WRITERS])
def test_columns_are_known_by_what_they_hold(number: int, made: list[Export], known: Known, tmp_path: Path) -> None:
    export = made[number]
    proposal = proposal_of(export, known, tmp_path)
    found = columns(proposal)
    assert set(found) == set(export.fields)
    assert all(found[field] in right for field, right in export.fields.items())
    settings = proposal.settings()
    assert set(export.ids) <= set(settings["fields"].get("ids", ()))
    assert (settings["role"], settings.get("app")) == (export.role, export.app)
    words = settings.get("outcomes", {"success": [], "failure": []})
    assert (set(words["success"]), set(words["failure"])) == (set(export.success), set(export.failure))


@pytest.mark.parametrize("number", NUMBERS, ids=[write.__name__[1:] for write in WRITERS])
def test_nothing_is_told_by_a_column_that_does_not_hold_it(
    number: int, made: list[Export], known: Known, tmp_path: Path
) -> None:
    """Names that say nothing may leave a field open; they never put one where another is."""
    export = nameless(made[number])
    if export is None:
        pytest.skip("the format names its columns itself")
    for field, column in columns(proposal_of(export, known, tmp_path)).items():
        assert column in export.fields.get(field, ())


@pytest.mark.parametrize("seed", range(3))
def test_the_order_of_the_columns_does_not_matter(seed: int, made: list[Export], known: Known, tmp_path: Path) -> None:
    export = next(item for item in made if item.name == "Norwegian")
    rows = list(csv.DictReader(io.StringIO(export.content.decode())))
    order = random.Random(seed).sample(list(rows[0]), len(rows[0]))
    mixed = export._replace(content=as_csv([{name: row[name] for name in order} for row in rows]))
    before, after = (columns(proposal_of(item, known, tmp_path)) for item in (export, mixed))
    assert before == after


@pytest.mark.parametrize(
    "name",
    [
        "German",
        "German, date and time apart",
        "Italian",
        "report with a title",
        "letters",
        "newest first",
        "nested",
        "Greek",
    ],
)
def test_what_is_proposed_reads_the_file(name: str, made: list[Export], demo: Path, tmp_path: Path) -> None:
    """Saved as it is, the description loads every row, and the events have a user each."""
    export = next(item for item in made if item.name == name)
    folder = tmp_path / "story"
    shutil.copytree(demo, folder, ignore=shutil.ignore_patterns(".trace-lens", "captures", "logs"))
    (folder / "logs").mkdir()
    (folder / "logs" / export.file).write_bytes(export.content)
    done = run("logs", "check", f"logs/{export.file}", "--write", "new", folder=folder)
    assert done.returncode == 0, done.stderr
    status, loaded = run_json("logs", "load", folder=folder)
    before_header = 2 if name == "report with a title" else 0
    assert (status, loaded["files"][0]["rows"], loaded["files"][0]["bad"]) == (0, 400, before_header)
    _, found = run_json("logs", "search", folder=folder)
    assert len(found["events"]) == 400
    assert all(event["user"] and event["outcome"] != "other" for event in found["events"])
    assert not any(
        event["ip"].startswith("[") or ("." in event["ip"] and ":" in event["ip"]) for event in found["events"]
    )


# -- outcomes

WORDS = [
    ("granted", "success"),
    ("SignInFailed", "failure"),
    ("signin.completed", "success"),
    ("riuscito", "success"),
    ("non riuscito", "failure"),
    ("erfolglos abgelehnt", "failure"),
    ("unauthorized", "failure"),
    ("Y", "success"),
    ("password", None),
    ("passkey", None),
    ("Denmark", None),
    ("Norway", None),
    ("page", None),
    ("notice", None),
    ("locker", None),
    ("badge", None),
]


@pytest.mark.parametrize(("word", "outcome"), WORDS)
def test_words_of_outcomes(word: str, outcome: str | None) -> None:
    assert outcome_of_word(word) == outcome


def sample(*cells: str, name: str = "c") -> Column:
    """A column of a sample, its cells filled where they are not empty."""
    return columns_of([Record(n, {name: cell}) for n, cell in enumerate(cells, 1)])[0]


def test_a_word_that_says_nothing_stays_open() -> None:
    """What stands beside a code is a failure; what stands beside none is not a success for that."""
    words = sample(*(["ok"] * 60 + ["page"] * 30 + ["zelk"] * 10))
    codes = sample(*([""] * 90 + ["A-1"] * 10), name="code")
    read = read_words(words, [words, codes], 100)
    assert (read.success, read.failure, read.unknown) == (("ok",), ("zelk",), ("page",))


def test_most_rows_alone_say_little() -> None:
    read = read_words(sample(*(["north"] * 90 + ["south"] * 10)), [], 100)
    assert read.sure == "guess"
    assert read.strength < 0.5


@pytest.mark.parametrize("values", [["true", "false"], ["ja", "nein"], ["password", "otp"], ["200"] * 2, ["nb", "en"]])
def test_a_flag_of_something_else_is_no_outcome(values: list[str]) -> None:
    told = [Record(n, {"flag": values[n % 2], "who": f"u{n}", "at": f"2026-11-20T08:{n:02}:00Z"}) for n in range(50)]
    assert "outcome" not in columns(propose(form_of(b"flag,who,at\n"), told, "x.csv", None))


# -- times

READ = [
    (["05/11/2026 08:00:00", "25/11/2026 08:00:00"], None, True, False),
    (["11/05/2026 08:00:00", "11/25/2026 08:00:00"], None, False, False),
    (["05/11/2026 08:00:00", "06/11/2026 08:00:00", "07/11/2026 08:00:00"], None, False, True),
    (["05.11.2026 08:00", "06.11.2026 08:00"], None, False, False),
    (["20261120081403", "20261120081503"], "%Y%m%d%H%M%S", False, False),
    (["20 Nov 2026 08:14:03"], "%d %b %Y %H:%M:%S", False, False),
    (["2026-11-20T08:14:03Z"], None, False, False),
]


@pytest.mark.parametrize(("values", "pattern", "day_first", "either"), READ)
def test_how_times_are_written(values: list[str], pattern: str | None, day_first: bool, either: bool) -> None:
    read = read_times(values)
    assert read is not None
    assert (read.pattern, read.day_first, read.either_day, read.share) == (pattern, day_first, either, 1.0)


@pytest.mark.parametrize("values", [["40100", "40101"], ["1991-02-03", "2026-01-01"], ["never"], ["192.0.2.1"]])
def test_what_is_no_time_of_events(values: list[str]) -> None:
    read = read_times([f"{value} 00:00:00" if "-" in value else value for value in values])
    assert read is None or not read.plausible


def test_a_day_that_cannot_be_a_month_is_told() -> None:
    """Were it read the other way round, the days up to the twelfth would be other days."""
    with pytest.raises(NoTime, match="day_first"):
        TimeReader(TimeForm()).read("25/11/2026 08:00:00")


# -- forms

ADDRESSES = [
    ("192.0.2.4", "192.0.2.4"),
    ("192.0.2.4:51234", "192.0.2.4"),
    ("[2001:db8::4]:443", "2001:db8::4"),
    ("2001:db8::4", "2001:db8::4"),
    ("192.0.2.4, 192.0.2.250", "192.0.2.4"),
    ("::ffff:192.0.2.4", "::ffff:192.0.2.4"),
    ("localhost", "localhost"),
]


@pytest.mark.parametrize(("written", "address"), ADDRESSES)
def test_the_address_of_the_client(written: str, address: str) -> None:
    assert client_address(written) == address


ROWS = [{"t": n, "roles": [{"a": 1}, {"b": 2}, {"c": 3}]} for n in range(6)]
ARRAYS = [
    (ROWS, None),
    ({"a": {"x": ROWS}}, "a.x"),
    ({"pages": [{"items": ROWS[:3]}, {"items": ROWS[3:]}]}, "pages.items"),
    ([{"items": ROWS[:3]}, {"items": ROWS[3:]}], "items"),
    ({"none": [], "item": {"item": ROWS}}, "item.item"),
    ({"x": [ROWS[:3], ROWS[3:]]}, "x"),
]


@pytest.mark.parametrize(("document", "path"), ARRAYS, ids=[str(path) for _, path in ARRAYS])
def test_rows_of_json_at_any_depth(document: object, path: str | None) -> None:
    data = json.dumps(document).encode()
    assert form_of(data)[:3] == ("json", None, path)
    found = list(records_of(io.BytesIO(data), "json", rows=path))
    assert [(record.line, record.values["t"]) for record in found if isinstance(record, Record)] == [
        (n + 1, n) for n in range(6)
    ]


def test_what_stands_before_a_header_is_told() -> None:
    text = b"Sign-ins of the week\n\nwhen,who,how\n1,a,ok\n2,b,ok\n3,c,ok\n"
    found = list(records_of(io.BytesIO(text), "csv"))
    assert isinstance(found[0], BadRow)
    assert "before the header" in found[0].because
    assert [record.line for record in found] == [1, 4, 5, 6]
    narrow = list(records_of(io.BytesIO(b"when,who\n1,a\n2,b,c\n3,d\n"), "csv"))
    assert [type(record) for record in narrow] == [Record, BadRow, Record]


def test_ids_are_known_by_the_captures(known: Known, tmp_path: Path) -> None:
    """A column whose name says nothing is one of ids if a value of it stands in a capture, and says in which."""
    some = next(name for name in sorted(known.carried) if name.startswith("_"))
    rows = [{"at": f"2026-11-20T08:{n:02}:00Z", "x": some if n == 7 else f"n{n % 3}"} for n in range(50)]
    export = Export("ids", "x.csv", as_csv(rows), {}, ["x"], [], [], "provider")
    match = next(match for match in proposal_of(export, known, tmp_path).found.matches if match.field == "ids")
    assert (match.columns, match.sure) == (("x",), "sure")
    assert known.carried[some] in match.because
    assert not any(item.field == "ids" for item in proposal_of(export, None, tmp_path).found.matches)


def test_without_a_workspace_something_is_told_too(tmp_path: Path) -> None:
    (tmp_path / "x.csv").write_text("Zeit;Benutzer;Ergebnis\n" + "20.11.2026 08:14:03;m.tern;abgelehnt\n" * 3)
    status, document = run_json("logs", "check", "x.csv", folder=tmp_path)
    assert status == 0
    assert {item["column"]: item["field"] for item in document["columns"]} == {
        "Zeit": "time",
        "Benutzer": "user",
        "Ergebnis": "outcome",
    }
    assert document["owner"]["sure"] == "guess"
    assert any("on record" in remark for remark in document["remarks"])


def test_a_time_in_two_columns_needs_both(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "logs").mkdir(exist_ok=True)
    (folder / "logs/x.csv").write_text("day,clock,who\n2026-11-20,08:14:03,a\n2026-11-20,,b\n")
    (folder / "logs/x.toml").write_text(
        'role = "provider"\nformat = "csv"\nfiles = ["logs/x.csv"]\n[fields]\ntime = ["day", "clock"]\nuser = "who"\n'
    )
    status, loaded = run_json("logs", "load", folder=folder)
    assert (status, loaded["files"][0]["rows"], loaded["files"][0]["bad"]) == (0, 1, 1)
    _, checked = run_json("logs", "check", "logs/x.csv", folder=folder)
    assert [item["field"] for item in checked["columns"]] == ["time", "time", "user"]
    assert checked["lacking"]["time"] == 0.5


def test_a_manager_on_record_is_not_the_user(known: Known, tmp_path: Path) -> None:
    """People on record stand in other columns too, while those who sign in may be on no list."""
    managers = ["m.tern", "a.fulmar", "j.gannet", "o.petrel"]
    rows = [
        {"at": f"2026-11-20T08:{n:02}:00Z", "manager": managers[n % 4], "login": f"new{n}.hand@northmere.example"}
        for n in range(40)
    ]
    export = Export("managers", "x.csv", as_csv(rows), {}, [], [], [], "provider")
    assert columns(proposal_of(export, known, tmp_path))["user"] == "login"
