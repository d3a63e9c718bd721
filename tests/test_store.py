"""The store of logs: what is loaded, grows, is rotated and overlaps; what is found in it again."""

from __future__ import annotations

import errno
import gzip
import hashlib
import json
import re
import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kit import NOW, run, run_json, run_program, workspace
from strict_schemas import conforms
from test_logs import DESCRIPTION, LOG
from trace_lens.logs.event import Event
from trace_lens.logs.matching.between import kept_between
from trace_lens.logs.store.loading import load_file
from trace_lens.logs.store.manifest import Manifest, StoreProblem
from trace_lens.logs.store.overlaps import Rows, equal_runs
from trace_lens.logs.store.searching import Wanted
from trace_lens.logs.store.searching import search as search_events
from trace_lens.logs.store.store import EventStore
from trace_lens.logs.store.writing import Writer
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.log_sources import log_sources


@pytest.fixture
def loaded(tmp_path: Path) -> Path:
    """A workspace with one source of logs and one file of it."""
    accounts = "user,email,login,id\nm.tern@northmere.example,m.tern@northmere.example,m.tern,40117\n"
    described_files = DESCRIPTION.replace('format = "csv"', 'format = "csv"\nfiles = ["logs/id-*.csv*"]').replace(
        'code = "Code"', 'code = "Code"\nreason = "Message"\nip = "From"'
    )
    folder = workspace(
        tmp_path,
        {"account": {"list": "accounts/crew.csv"}},
        {"logs/id.toml": described_files, "accounts/crew.csv": accounts},
    )
    (folder / "logs/id-1.csv").write_text(LOG, "utf-8")
    return folder


def load(folder: Path) -> list[tuple[str, int, int]]:
    """Load every file of every source, as the program does; what came of each."""
    found = []
    opened = load_workspace(folder)
    sources = list(log_sources(opened).values())
    files = [file for source in sources for file in source.files_in(folder)]
    with EventStore(folder, writing=True, files=files) as store:
        for source in sources:
            for file in source.files_in(folder):
                one = load_file(store, source, file, file.relative_to(folder).as_posix(), NOW)
                found.append((one.state, one.rows, one.bad))
    return found


def search(folder: Path, **wanted: Any) -> list[Event]:
    with EventStore(folder) as store:
        return search_events(store, Wanted(**wanted), load_workspace(folder))


def test_loading_listing_and_searching_by_the_program(loaded: Path) -> None:
    status, document = run_json("logs", "load", folder=loaded)
    conforms(document, "log-load")
    assert (status, [(one["state"], one["rows"], one["bad"]) for one in document["files"]]) == (0, [("new", 3, 2)])
    _, document = run_json("logs", "list", folder=loaded)
    conforms(document, "log-files")
    assert [(one["file"], one["rows"]) for one in document["files"]] == [("logs/id-1.csv", 3)]
    status, document = run_json("logs", "search", "--outcome", "failure", folder=loaded)
    conforms(document, "events")
    assert document["events"] == [
        {
            "source": "id",
            "file": "logs/id-1.csv",
            "line": 3,
            "time": "2026-11-20T08:15:44Z",
            "user": "a.fulmar@northmere.example",
            "app": "Fuel Ledger",
            "outcome": "failure",
            "code": "D-4107",
            "reason": "no account\nof that name",
            "ip": "192.0.2.15",
            "ids": ["_rq9f1b2c3d4e5f60718293a4b6"],
            "doubled": False,
            "generation": None,
            "also": [],
        }
    ]
    text = run("logs", "search", "--user", "M.TERN", "--since", "2026-11-20", folder=loaded).stdout.decode()
    assert text.startswith("1 event.")


def test_the_same_content_adds_nothing_and_a_grown_file_its_new_rows(loaded: Path) -> None:
    file = loaded / "logs/id-1.csv"
    assert load(loaded) == [("new", 3, 2)]
    assert load(loaded) == [("same", 0, 0)]
    (loaded / "logs/id-2.csv.gz").write_bytes(gzip.compress(LOG.encode()))
    assert load(loaded) == [("same", 0, 0), ("same", 0, 0)]
    (loaded / "logs/id-2.csv.gz").unlink()
    file.write_text(LOG + NEXT, "utf-8")
    assert load(loaded) == [("grown", 1, 0)]
    assert [one.line for one in search(loaded)] == [2, 3, 5, 8]
    with EventStore(loaded) as store:
        assert [(one.rows, one.bad) for one in store.files()] == [(4, 2)]
        assert [row.line for _, row in store.bad_rows("id")] == [6, 7]


NEXT = "2026-11-20 09:20:00;l.plover@northmere.example;Ticket Desk;granted;;;192.0.2.17;\n"


@pytest.mark.parametrize(
    ("name", "found"),
    [
        ("l.plover", 1),
        ("L.PLOVER@northmere.example", 1),
        ("plover", 1),
        ("l.plove", 0),
        ("l.plover@elsewhere.example", 0),
    ],
)
def test_somebody_on_no_list_is_found_by_name(name: str, found: int, loaded: Path) -> None:
    (loaded / "logs/id-1.csv").write_text(LOG + NEXT, "utf-8")
    load(loaded)
    assert [one.user for one in search(loaded, user=name)] == ["l.plover@northmere.example"] * found


def test_a_last_line_that_was_cut_off_is_read_again(loaded: Path) -> None:
    file = loaded / "logs/id-1.csv"
    file.write_text((LOG + NEXT)[:-40], "utf-8")
    assert load(loaded) == [("new", 3, 3)]
    file.write_text(LOG + NEXT, "utf-8")
    assert load(loaded) == [("grown", 1, 0)]
    with EventStore(loaded) as store:
        assert [(one.rows, one.bad) for one in store.files()] == [(4, 2)]


def test_other_content_under_the_same_name_is_added(loaded: Path) -> None:
    """A log that was rotated: what was loaded stays."""
    load(loaded)
    (loaded / "logs/id-1.csv").write_text(LOG.replace("2026-11-20", "2026-11-21"), "utf-8")
    assert load(loaded) == [("new", 3, 2)]
    assert len(search(loaded)) == 6


SEARCHES: list[tuple[dict[str, Any], list[int]]] = [
    ({}, [2, 3, 5]),
    ({"user": "m.tern@northmere.example"}, [2]),
    ({"user": "M.TERN"}, [2]),
    ({"user": "40117"}, [2]),
    ({"user": "NORTHMERE\\m.tern"}, [2]),
    ({"user": "nobody"}, []),
    ({"user": "Fulmar"}, [3]),
    ({"user": "northmere"}, []),
    ({"app": "crew-roster"}, [2, 5]),
    ({"app": "Fuel Ledger"}, [3]),
    ({"outcome": "failure"}, [3]),
    ({"code": "d-4107"}, [3]),
    ({"ip": "192.0.2.15"}, [3]),
    ({"ip": "192.0.2.0/24"}, [2, 3, 5]),
    ({"ip": "198.51.100.0/24"}, []),
    ({"id": "_rq9f1b2c3d4e5f60718293a4b5"}, [2]),
    ({"text": "of that name"}, [3]),
    ({"text": "A4B6"}, [3]),
    ({"since": datetime(2026, 11, 20, 8, 15, 44, tzinfo=UTC)}, [3, 5]),
    ({"until": datetime(2026, 11, 20, 8, 15, 44, tzinfo=UTC)}, [2]),
    ({"source": "id", "outcome": "other"}, [5]),
]


def test_searches(loaded: Path) -> None:
    load(loaded)
    assert {str(wanted): [one.line for one in search(loaded, **wanted)] for wanted, _ in SEARCHES} == {
        str(wanted): lines for wanted, lines in SEARCHES
    }


def test_doubled_lines_are_kept_and_marked(loaded: Path) -> None:
    line = "2026-11-20 09:14:03;m.tern@northmere.example;Crew Roster;granted;;;192.0.2.14;_rq9f1b2c3d4e5f60718293a4b5\n"
    (loaded / "logs/id-1.csv").write_text(LOG + line, "utf-8")
    load(loaded)
    assert [(one.line, one.doubled) for one in search(loaded, user="m.tern")] == [(2, False), (8, True)]


def manifest_of(folder: Path) -> Path:
    return folder / ".trace-lens/logs/manifest.json"


def part_of(folder: Path) -> Path:
    return next((folder / ".trace-lens/logs/parts").iterdir())


STORES: list[tuple[str, Any, str]] = [
    ("a damaged manifest", lambda folder: manifest_of(folder).write_bytes(b"no store at all"), "cannot be read"),
    ("another version", lambda folder: manifest_of(folder).write_text('{"version": 9}'), "version 9"),
    ("a part elsewhere", lambda folder: edit(folder, '"part": "', '"part": "../../'), "no name of a file"),
    ("no contents", lambda folder: edit(folder, '"contents"', '"other"'), "cannot be read"),
    ("a damaged part", lambda folder: part_of(folder).write_bytes(b"PAR1 nothing PAR1"), "cannot be used"),
    ("a part that is gone", lambda folder: part_of(folder).unlink(), "cannot be used"),
]


def edit(folder: Path, word: str, instead: str) -> None:
    text = manifest_of(folder).read_text()
    assert word in text
    manifest_of(folder).write_text(text.replace(word, instead))


@pytest.mark.parametrize(("name", "spoil", "words"), STORES, ids=[one[0] for one in STORES])
def test_stores_that_cannot_be_used(name: str, spoil: Any, words: str, loaded: Path) -> None:
    load(loaded)
    spoil(loaded)
    done = run("logs", "search", folder=loaded)
    assert (done.returncode, words in done.stderr.decode(), b"Traceback" in done.stderr) == (3, True, False)
    assert b"load again" in done.stderr
    shutil.rmtree(loaded / ".trace-lens/logs")
    assert load(loaded) == [("new", 3, 2)]


def test_one_load_at_a_time_and_readers_beside_it(loaded: Path) -> None:
    load(loaded)
    with EventStore(loaded, writing=True):
        done = run_program("logs", "load", folder=loaded)
        assert (done.returncode, done.stdout, b"nother trace-lens" in done.stderr) == (3, b"", True)
        for words in (("list",), ("search",), ("list", "--format", "json")):
            assert run_program("logs", *words, folder=loaded).returncode == 0


def test_readers_keep_what_they_opened(loaded: Path) -> None:
    load(loaded)
    with EventStore(loaded) as store:
        (loaded / "logs/id-1.csv").write_text(LOG + NEXT, "utf-8")
        assert load(loaded) == [("grown", 1, 0)]
        assert len(search_events(store, Wanted(), load_workspace(loaded))) == 3
    assert len(search(loaded)) == 4


PLACES = ("write_events", "write_bad", "keep")


@pytest.mark.parametrize("place", PLACES)
def test_an_interruption_leaves_the_store_whole(place: str, loaded: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    load(loaded)
    before = search(loaded)
    (loaded / "logs/id-1.csv").write_text(LOG + NEXT, "utf-8")

    def interrupted(*_: Any, **__: Any) -> Any:
        raise KeyboardInterrupt

    with monkeypatch.context() as patched:
        patched.setattr(Writer, place, interrupted)
        with pytest.raises(KeyboardInterrupt):
            load(loaded)
    assert search(loaded) == before
    assert load(loaded) == [("grown", 1, 0)]
    assert [event.line for event in search(loaded)] == [2, 3, 5, 8]


def test_a_full_disk_is_said_and_nothing_is_lost(loaded: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    load(loaded)
    (loaded / "logs/id-1.csv").write_text(LOG + NEXT, "utf-8")

    def full(*_: Any) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    with monkeypatch.context() as patched:
        patched.setattr(Manifest, "write", full)
        with pytest.raises(StoreProblem, match="the disk is full"):
            load(loaded)
    assert len(search(loaded)) == 3
    assert load(loaded) == [("grown", 1, 0)]


BAD_CALLS = [
    (("search", "--ip", "nowhere"), 2),
    (("search", "--source", "nobody"), 2),
    (("load", "--source", "nobody"), 2),
    (("search", "--ip", "10.0.0.0/9"), 2),
]


@pytest.mark.parametrize(("arguments", "status"), BAD_CALLS)
def test_calls_that_cannot_be(arguments: tuple[str, ...], status: int, loaded: Path) -> None:
    load(loaded)
    done = run("logs", *arguments, folder=loaded)
    assert (done.returncode, b"Traceback" in done.stderr) == (status, False)


def test_nothing_loaded_and_nothing_there(loaded: Path) -> None:
    assert run("logs", "search", folder=loaded).returncode == 2
    assert b"No logs are loaded yet" in run("logs", "list", folder=loaded).stdout
    (loaded / "logs/id-1.csv").unlink()
    done = run("logs", "load", folder=loaded)
    assert (done.returncode, b"no file matches" in done.stdout) == (3, True)


def regular(count: int, time: str = "2026-11-20 {h:02d}:{m:02d}:{s:02d}") -> str:
    """A well-formed log of many rows, with everything in its cells that may be in them."""
    odd = ["granted", "DENIED", "error", "perhaps", "", "-", " granted "]
    reasons = ["", "-", '"a; b"', '"say ""no"""', "plain words", "Ærlig talt"]
    made = ["When;Account;Target;Result;Code;Message;From;Request"]
    for n in range(count):
        when = time.format(h=n // 3600, m=n // 60 % 60, s=n % 60, n=n)
        made.append(
            f"{when};m.tern{n % 7}@northmere.example;App {n % 3};{odd[n % 7]};{'' if n % 2 else 'D-1'};{reasons[n % 6]};192.0.2.{n % 200};_rq{n:020x}"
        )
    return "\n".join(made) + "\n"


BULK_ROWS = 700
BULK = [
    ("local times", regular(BULK_ROWS), True),
    ("epoch milliseconds", regular(BULK_ROWS, "17951624{n:05d}"), True),
    ("with fractions", regular(BULK_ROWS, "2026-11-20T{h:02d}:{m:02d}:{s:02d}.125"), True),
    (
        "addresses with ports",
        regular(BULK_ROWS).replace(".7;_", ".7:443;_").replace("192.0.2.18;", "[2001:db8::8]:1;"),
        True,
    ),
    ("nothing at the edges of cells", regular(BULK_ROWS).replace(" granted ", "granted"), True),
    (
        "a space at an edge, late",
        regular(BULK_ROWS).replace(" granted ", "granted").replace("_rq" + f"{BULK_ROWS - 3:020x}", " - "),
        True,
    ),
    ("one bad row", regular(BULK_ROWS) + "x;y\n", False),
    ("one bad time", regular(BULK_ROWS).replace("2026-11-20 00:10:00", "never"), False),
    ("a value on two lines", regular(BULK_ROWS).replace("plain words", '"plain\nwords"', 1), False),
    ("a blank line", regular(BULK_ROWS) + "\n", False),
    ("white space of other kinds", regular(BULK_ROWS).replace("plain words", "\u00a0plain words\t"), True),
    ("the night when clocks change", regular(BULK_ROWS).replace("2026-11-20", "2026-10-25"), False),
]


JSON_LINES = """role = "application"
files = ["logs/id-*.csv"]
format = "jsonl"
time_zone = "Europe/Oslo"
[fields]
time = "ts"
user = "$.who.login"
app = "service"
outcome = "result"
code = "error.code"
ids = ["request", "who.sid"]
[outcomes]
success = ["ok"]
failure = ["refused"]
"""


def lines(count: int, time: str = "{ms}") -> str:
    """Well-formed JSON Lines, with what may be in them."""
    made = []
    for n in range(count):
        when = time.format(ms=1795162440000 + 1000 * n, h=n // 3600, m=n // 60 % 60, s=n % 60)
        error = ', "error": {"code": "A-41"}' if n % 5 == 0 else ', "error": null' if n % 5 == 1 else ""
        request = f', "request": "_rq{n:08d}"' if n % 2 else ', "request": ""'
        made.append(
            f'{{"ts": {when}, "service": {n % 4}, "who": {{"login": "Ærlig {n % 7}", "sid": "s{n}"}}, "result": "OK"{error}{request}}}'
        )
    return "\n".join(made) + "\n"


BULK_LINES = [
    ("epoch milliseconds", lines(BULK_ROWS), True),
    ("in UTC", lines(BULK_ROWS, '"2026-11-20T{h:02d}:{m:02d}:{s:02d}Z"'), True),
    ("local", lines(BULK_ROWS, '"2026-11-20 {h:02d}:{m:02d}:{s:02d}"'), True),
    ("a fraction", lines(BULK_ROWS).replace('"service": 3', '"service": 3.0', 1), False),
    ("a truth value", lines(BULK_ROWS).replace('"service": 3', '"service": true', 1), True),
    ("no JSON", lines(BULK_ROWS) + "{\n", False),
    ("a blank line", lines(BULK_ROWS) + "\n", False),
    ("a dotted name", lines(BULK_ROWS).replace('"service"', '"error.code": "X-1", "service"', 1), False),
]


@pytest.mark.parametrize(
    ("name", "text", "at_once", "described"),
    [(*one, None) for one in BULK] + [(*one, JSON_LINES) for one in BULK_LINES],
    ids=[one[0] for one in BULK] + [f"lines, {one[0]}" for one in BULK_LINES],
)
def test_in_bulk_the_same_events_come_out(
    name: str, text: str, at_once: bool, described: str | None, loaded: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is ordinary goes through the database, what is not line by line; the events are the same."""
    from trace_lens.logs.store import loading

    (loaded / "logs/id-1.csv").write_text(text, "utf-8")
    if described:
        (loaded / "logs/id.toml").write_text(described, "utf-8")
    taken: list[bool] = []
    whole = loading.Loader._write_at_once

    def watched(loader: loading.Loader, *arguments: Any) -> Any:
        written = whole(loader, *arguments)
        taken.append(written is not None)
        return written

    monkeypatch.setattr(loading.Loader, "_write_at_once", watched)
    monkeypatch.setattr(loading, "_WORTH_BULK", 0)
    fast, found = load(loaded), search(loaded)
    assert taken == [at_once]
    for worth_bulk, worth_two in ((0, 0), (10**9, 10**9)):  # read for its digest at the same time; line by line
        shutil.rmtree(loaded / ".trace-lens/logs")
        monkeypatch.setattr(loading, "_WORTH_BULK", worth_bulk)
        monkeypatch.setattr(loading, "_WORTH_TWO", worth_two)
        monkeypatch.setattr(loading, "_HEAD", 2_000)
        assert load(loaded) == fast
        assert search(loaded) == found
    assert len(found) >= BULK_ROWS - 1


@given(st.text(alphabet='ab ,"\n\r;\t\u00a0', max_size=40), st.integers(1, 9))
def test_what_white_space_there_is_at_the_edges_of_cells(text: str, chunk: int) -> None:
    from trace_lens.logs.store.facts import ANY, NONE, SPACES, white_in

    octets = text.encode()
    at_edge = re.search(rb'[,"\r\n] | [,"\r\n]', octets) is not None
    known = white_in(octets, b',"')
    assert known == (ANY if "\t" in text or "\u00a0" in text else SPACES if at_edge else NONE)
    pieces = [octets[max(place - 1, 0) : place + chunk] for place in range(0, len(octets), chunk)]
    assert max((white_in(piece, b',"') for piece in pieces), key=(NONE, SPACES, ANY).index, default=NONE) == known


# -- rotation, copies, overlaps


def rows_of(first: int, last: int, *, who: str = "m.tern") -> str:
    """Rows of a log, one each second, each with a request of its own."""
    return "".join(
        f"2026-11-20 09:{n // 60 % 60:02d}:{n % 60:02d};{who}@northmere.example;Crew Roster;granted;;;192.0.2.14;_r{n:05d}\n"
        for n in range(first, last)
    )


def plain_rows(first: int, last: int, every: int = 60) -> str:
    """Rows of a log that knows minutes only, and no ids."""
    return "".join(
        f"2026-11-20 {9 + n * every // 3600:02d}:{n * every // 60 % 60:02d}:00;m.tern{n % 3}@northmere.example;"
        "Crew Roster;granted;;;192.0.2.14;\n"
        for n in range(first, last)
    )


HEAD = "When;Account;Target;Result;Code;Message;From;Request\n"


@pytest.fixture
def rotating(loaded: Path) -> Path:
    """The same source over app.log and what it is rotated to."""
    text = (loaded / "logs/id.toml").read_text().replace("logs/id-*.csv*", "logs/app.log*")
    (loaded / "logs/id.toml").write_text(text)
    (loaded / "logs/id-1.csv").unlink()
    return loaded


def loaded_files(folder: Path) -> list[tuple[str, str, int, int]]:
    """Load as the program does: file, state, new events, and how many of them stand elsewhere too."""
    status, document = run_json("logs", "load", folder=folder)
    assert status == 0, document
    return [(one["file"].removeprefix("logs/"), one["state"], one["rows"], one["again"]) for one in document["files"]]


def found_in(folder: Path) -> dict[str, int]:
    """How many events there are, by the file that they are told by."""
    counts: dict[str, int] = {}
    for event in search(folder):
        name = event.file.removeprefix("logs/") + (f"#{event.generation}" if event.generation else "")
        counts[name] = counts.get(name, 0) + 1
    return counts


def test_a_log_that_is_rotated_neither_doubles_nor_loses_a_line(rotating: Path) -> None:
    logs = rotating / "logs"
    (logs / "app.log").write_text(HEAD + rows_of(0, 100))
    assert loaded_files(rotating) == [("app.log", "new", 100, 0)]
    (logs / "app.log").write_text(HEAD + rows_of(0, 150))
    (logs / "app.log").rename(logs / "app.log.1")
    (logs / "app.log").write_text(HEAD + rows_of(150, 170))
    assert loaded_files(rotating) == [("app.log", "new", 20, 0), ("app.log.1", "grown", 50, 0)]
    assert found_in(rotating) == {"app.log": 20, "app.log.1": 150}
    (logs / "app.log.2.gz").write_bytes(gzip.compress((logs / "app.log.1").read_bytes()))
    (logs / "app.log").rename(logs / "app.log.1")
    (logs / "app.log").write_text(HEAD + rows_of(170, 200))
    assert loaded_files(rotating) == [
        ("app.log", "new", 30, 0),
        ("app.log.1", "same", 0, 0),
        ("app.log.2.gz", "same", 0, 0),
    ]
    assert found_in(rotating) == {"app.log": 30, "app.log.1": 20, "app.log.2.gz": 150}
    assert {event.ids[0] for event in search(rotating)} == {f"_r{n:05d}" for n in range(200)}


def test_a_file_that_was_replaced_keeps_its_history(rotating: Path) -> None:
    (rotating / "logs/app.log").write_text(HEAD + rows_of(0, 30))
    loaded_files(rotating)
    (rotating / "logs/app.log").write_text(HEAD + rows_of(30, 40))
    assert loaded_files(rotating) == [("app.log", "new", 10, 0)]
    assert found_in(rotating) == {"app.log": 10, "app.log#1": 30}
    _, document = run_json("logs", "list", folder=rotating)
    conforms(document, "log-files")
    assert [(one["file"], one["rows"], one["generation"]) for one in document["files"]] == [
        ("logs/app.log", 30, 1),
        ("logs/app.log", 10, None),
    ]
    (rotating / "logs/app.log").unlink()
    (rotating / "logs/app.log.1").write_text(HEAD + rows_of(0, 30))
    assert loaded_files(rotating) == [("app.log.1", "same", 0, 0)]
    assert found_in(rotating) == {"app.log": 10, "app.log.1": 30}


OVERLAPS = [
    ("two days that overlap", rows_of(0, 60), rows_of(40, 100), 100, 20),
    ("the other way round", rows_of(40, 100), rows_of(0, 60), 100, 20),
    ("the last of one is the first of the other", plain_rows(0, 10), plain_rows(9, 20), 20, 1),
    ("newest first", "".join(reversed(rows_of(0, 60).splitlines(True))), rows_of(40, 100), 100, 20),
    ("minutes, without ids", plain_rows(0, 30), plain_rows(20, 50), 50, 10),
    ("minutes that come twice", plain_rows(0, 30, 20), plain_rows(20, 50, 20), 50, 10),
    ("a part of it, one line by its id", rows_of(0, 60), rows_of(30, 31), 60, 1),
    ("nothing in common", rows_of(0, 60), rows_of(60, 90), 90, 0),
    (
        "two systems, one line by chance",
        plain_rows(0, 30),
        HEAD[:0] + plain_rows(0, 30).replace("m.tern", "k.tern").replace("k.tern1@", "m.tern1@", 1),
        60,
        0,
    ),
]


@pytest.mark.parametrize(("name", "one", "two", "events", "again"), OVERLAPS, ids=[one[0] for one in OVERLAPS])
def test_what_stands_in_two_files_counts_once(
    name: str, one: str, two: str, events: int, again: int, rotating: Path
) -> None:
    (rotating / "logs/app.log").write_text(HEAD + one)
    (rotating / "logs/app.log.1").write_text(HEAD + two)
    together = [loaded_files(rotating), search(rotating)]
    assert [file[3] for file in together[0]] == [0, again]
    assert len(together[1]) == events
    lines = {("logs/app.log", n + 2) for n in range(len(one.splitlines()))}
    lines |= {("logs/app.log.1", n + 2) for n in range(len(two.splitlines()))}
    told = [
        place
        for event in together[1]
        for place in ((event.file, event.line), *((also.file, also.line) for also in event.also))
    ]
    assert sorted(told) == sorted(lines), "each line stands once, as an event or beside one"
    shutil.rmtree(rotating / ".trace-lens")
    (rotating / "logs/app.log.1").rename(rotating / "later")
    loaded_files(rotating)
    (rotating / "later").rename(rotating / "logs/app.log.1")
    loaded_files(rotating)
    assert search(rotating) == together[1], "loaded one after the other it is the same"


def test_three_files_that_overlap(rotating: Path) -> None:
    for number, (first, last) in enumerate(((0, 60), (30, 90), (50, 120))):
        (rotating / f"logs/app.log.{number}").write_text(HEAD + rows_of(first, last))
    assert loaded_files(rotating) == [
        ("app.log.0", "new", 60, 0),
        ("app.log.1", "new", 60, 30),
        ("app.log.2", "new", 70, 40),
    ]
    found = search(rotating)
    assert [event.ids for event in found] == [(f"_r{n:05d}",) for n in range(120)]
    assert [len(event.also) for event in found] == [0] * 30 + [1] * 20 + [2] * 10 + [1] * 30 + [0] * 30
    with (rotating / "logs/app.log.0").open("a") as file:
        file.write(rows_of(60, 95) + rows_of(40, 41))
    assert loaded_files(rotating)[0][1:] == ("grown", 36, 35)
    assert sorted(event.ids for event in search(rotating)) == sorted(
        [*((f"_r{n:05d}",) for n in range(120)), ("_r00040",)]
    )


def test_equal_lines_of_one_file_are_events_of_their_own(rotating: Path) -> None:
    (rotating / "logs/app.log").write_text(HEAD + plain_rows(0, 1) * 3)
    assert loaded_files(rotating) == [("app.log", "new", 3, 0)]
    assert [(event.line, event.doubled, event.also) for event in search(rotating)] == [
        (2, False, ()),
        (3, True, ()),
        (4, True, ()),
    ]


def test_an_export_written_anew_takes_the_place_of_the_earlier(rotating: Path) -> None:
    """Newest first, or a list in JSON: it does not begin as before, and holds all of it."""
    old, new = ("".join(reversed(rows_of(0, last).splitlines(True))) for last in (40, 60))
    (rotating / "logs/app.log").write_text(HEAD + old)
    loaded_files(rotating)
    (rotating / "logs/app.log").write_text(HEAD + new)
    assert loaded_files(rotating) == [("app.log", "grown", 20, 0)]
    assert found_in(rotating) == {"app.log": 60}
    assert [event.also for event in search(rotating)] == [()] * 60


def test_a_copy_is_told_beside(rotating: Path) -> None:
    (rotating / "logs/app.log").write_text(HEAD + rows_of(0, 2))
    (rotating / "logs/app.log.1").write_text(HEAD + rows_of(0, 2))
    assert [file[1] for file in loaded_files(rotating)] == ["new", "same"]
    assert [[tuple(place) for place in event.also] for event in search(rotating)] == [
        [("logs/app.log.1", 2, None)],
        [("logs/app.log.1", 3, None)],
    ]


# -- stores of earlier formats

EARLIER = """
CREATE TABLE events (source VARCHAR, file VARCHAR, line BIGINT, time TIMESTAMP, "user" VARCHAR, app VARCHAR,
    outcome VARCHAR, code VARCHAR, reason VARCHAR, ip VARCHAR, ids VARCHAR[]);
CREATE TABLE files (source VARCHAR, file VARCHAR, octets BIGINT, digest VARCHAR, lines BIGINT, rows BIGINT, bad BIGINT,
    loaded_at TIMESTAMP{more});
CREATE TABLE bad_rows (source VARCHAR, file VARCHAR, line BIGINT, because VARCHAR, text VARCHAR);
CREATE TABLE about (key VARCHAR, value VARCHAR);
INSERT INTO about VALUES ('version', '2');
INSERT INTO events VALUES
    ('id', 'logs/id-1.csv', 2, '2026-11-20 08:14:03', 'm.tern', 'Crew Roster', 'success', NULL, NULL, '192.0.2.14', ['_r1']),
    ('id', 'logs/id-1.csv', 3, '2026-11-20 08:15:03', NULL, NULL, 'failure', 'D-1', 'no', NULL, []),
    ('id', 'logs/gone.csv', 2, '2026-11-19 08:14:03', 'k.tern', 'Crew Roster', 'success', NULL, NULL, NULL, ['_r0', 's']);
INSERT INTO bad_rows VALUES ('id', 'logs/id-1.csv', 4, 'never', 'x;y');
INSERT INTO files VALUES
    ('id', 'logs/gone.csv', 10, 'd1', 2, 1, 0, '2026-11-21 00:00:00'{gone}),
    ('id', 'logs/id-1.csv', {octets}, '{digest}', {lines}, 2, 1, '2026-11-22 00:00:00'{there});
"""


def earlier(folder: Path, form: str, version: str = "2") -> None:
    """Put a store of an earlier format into a workspace, with the file that is there and one that is gone."""
    data = (folder / "logs/id-1.csv").read_bytes()
    facts = {"octets": len(data), "digest": hashlib.sha256(data).hexdigest(), "lines": data.count(b"\n")}
    own = folder / ".trace-lens"
    own.mkdir()
    if form == "database":
        with duckdb.connect(str(own / "events.duckdb")) as connection:
            connection.execute(EARLIER.format(more="", gone="", there="", **facts))
            connection.execute(f"UPDATE about SET value = '{version}'")
        return
    for name in ("files", "events", "bad_rows"):
        (own / "parquet" / name).mkdir(parents=True)
    (own / "parquet/about.json").write_text(json.dumps({"version": version}))
    with duckdb.connect() as connection:
        more = ", parts VARCHAR[], bad_parts VARCHAR[]"
        gone, there = ", ['g.parquet'], []", ", ['t.parquet'], ['b.parquet']"
        connection.execute(EARLIER.format(more=more, gone=gone, there=there, **facts))
        for part, file in (("g", "logs/gone.csv"), ("t", "logs/id-1.csv"), ("orphan", "logs/id-1.csv")):
            copied = f"(SELECT * FROM events WHERE file = '{file}')"
            connection.execute(f"COPY {copied} TO '{own}/parquet/events/{part}.parquet' (FORMAT parquet)")
        connection.execute(f"COPY bad_rows TO '{own}/parquet/bad_rows/b.parquet' (FORMAT parquet)")
        for number in (0, 1):
            copied = f"(SELECT * FROM files LIMIT 1 OFFSET {number})"
            connection.execute(f"COPY {copied} TO '{own}/parquet/files/{number}.parquet' (FORMAT parquet)")


@pytest.mark.parametrize("form", ["database", "folder"])
@pytest.mark.parametrize("command", ["search", "load"])
def test_a_store_of_an_earlier_format_is_converted(form: str, command: str, loaded: Path) -> None:
    """With all that it held, the file that is gone too; and what grew since is known as that."""
    earlier(loaded, form)
    if command == "load":
        with (loaded / "logs/id-1.csv").open("a") as file:
            file.write(NEXT)
        _, document = run_json("logs", "load", folder=loaded)
        assert [(one["state"], one["rows"]) for one in document["files"]] == [("grown", 1)]
    status, document = run_json("logs", "search", folder=loaded)
    assert status == 0
    told = [(one["file"], one["line"], one["user"], one["ids"]) for one in document["events"]]
    new = [("logs/id-1.csv", 8, "l.plover@northmere.example", [])] if command == "load" else []
    assert told == [
        ("logs/gone.csv", 2, "k.tern", ["_r0", "s"]),
        ("logs/id-1.csv", 2, "m.tern", ["_r1"]),
        ("logs/id-1.csv", 3, None, []),
        *new,
    ]
    with EventStore(loaded) as store:
        assert [row.line for _, row in store.bad_rows()] == [4]
    assert load(loaded)[0][0] == "same"
    assert not (loaded / ".trace-lens/events.duckdb").exists()
    assert not (loaded / ".trace-lens/parquet").exists()


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        ("UPDATE about SET value = '1'", "of version 1"),
        ("CREATE VIEW more AS SELECT 1", "the view more"),
        ("CREATE MACRO lower2(a) AS a", "the macro lower2"),
        ("CREATE TABLE other (a INTEGER)", "the table other"),
        ("DROP TABLE bad_rows; CREATE VIEW bad_rows AS SELECT 1 AS a", "the view bad_rows"),
        ("DROP TABLE files", "cannot be read"),
    ],
)
def test_an_earlier_store_that_cannot_be_converted_is_left(spoil: str, words: str, loaded: Path) -> None:
    earlier(loaded, "database")
    with duckdb.connect(str(loaded / ".trace-lens/events.duckdb")) as connection:
        connection.execute(spoil)
    done = run("logs", "search", folder=loaded)
    assert (done.returncode, b"Traceback" in done.stderr) == (3, False)
    assert words in done.stderr.decode()
    assert (loaded / ".trace-lens/events.duckdb").exists()
    assert not (loaded / ".trace-lens/logs/manifest.json").exists()


# -- equal runs


@given(
    st.lists(st.integers(0, 5), max_size=30), st.lists(st.integers(0, 5), max_size=30), st.booleans(), st.integers(0, 9)
)
def test_equal_runs_pair_each_row_once_and_only_with_its_like(
    mine: list[int], theirs: list[int], particular: bool, shared: int
) -> None:
    theirs = mine[len(mine) - min(shared, len(mine)) :] + theirs if mine else theirs
    sides = [
        Rows(
            np.array(said, dtype=np.uint64),
            np.full(len(said), particular),
            np.arange(len(said), dtype=np.int64),
            len(said),
        )
        for said in (mine, theirs)
    ]
    first, second = (some.tolist() for some in equal_runs(*sides))
    assert len(first) == len(second) == len(set(first)) == len(set(second))
    assert [mine[place] for place in first] == [theirs[place] for place in second]
    if particular:
        assert set(mine) & set(theirs) <= {mine[place] for place in first}
    rare = any(mine.count(said) <= 4 and theirs.count(said) <= 4 for said in mine[len(mine) - shared :])
    if shared >= 3 and len(mine) >= shared and rare:
        assert len(first) >= 3, "the end of one is the beginning of the other"


# -- the clocks between logs


def test_the_clocks_between_logs_are_kept_at_load_and_anew_with_each(tmp_path: Path) -> None:
    fields = '[fields]\ntime = "when"\nuser = "who"\noutcome = "result"\n[outcomes]\nsuccess = ["ok"]\n'
    folder = workspace(tmp_path, {}, {})
    (folder / "logs").mkdir(exist_ok=True)
    for name, role, off in (("id", "provider", 0), ("app", "application", 7)):
        (folder / f"logs/{name}.toml").write_text(
            f'role = "{role}"\nformat = "csv"\nfiles = ["logs/{name}.csv"]\n{fields}'
        )
        rows = (f"2026-11-{9 + n % 9:02d}T09:{n % 47:02d}:{10 + off}Z,p{n}.tern,ok\n" for n in range(60))
        (folder / f"logs/{name}.csv").write_text("when,who,result\n" + "".join(rows))
    assert run_json("logs", "load", folder=folder)[0] == 0
    kept = folder / ".trace-lens/logs/clocks.json"
    with EventStore(folder) as store:
        found = kept_between(store)
        assert found is not None
        clock, turned = found["id", "app"], found["app", "id"]
        assert clock.low is not None
        assert turned.high is not None
        assert -clock.offset == turned.offset
        assert -clock.low == turned.high
        assert 5 < abs(clock.offset) < 9
        before = kept.read_bytes()
        kept.write_text(before.decode().replace('"of": "', '"of": "0'))
        assert kept_between(store) is None, "of other contents"
    assert run_json("logs", "load", folder=folder)[0] == 0
    assert kept.read_bytes() == before
    kept.write_text("{")
    with EventStore(folder) as store:
        assert kept_between(store) is None
