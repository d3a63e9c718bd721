"""Logs read: times in every form, records of every format, and what a check of a file says of it."""

from __future__ import annotations

import gzip
import io
import json
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from kit import NOW, run, run_json, run_program, workspace
from strict_schemas import conforms
from trace_lens.logs.event import Event
from trace_lens.logs.formats.events import events_of, time_form
from trace_lens.logs.formats.proposing import form_of
from trace_lens.logs.formats.records import BadRow, Record, Unreadable, records_of, sniffed, unpacked, value_at
from trace_lens.logs.formats.times import NoTime, TimeForm, TimeReader, is_descending
from trace_lens.logs.store.loading import load_file
from trace_lens.logs.store.searching import Wanted
from trace_lens.logs.store.searching import search as search_events
from trace_lens.logs.store.store import EventStore, StoreProblem
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.log_sources import LogSource, log_sources, read_description
from trace_lens.workspace.problems import Problem, SettingsError

OSLO = ZoneInfo("Europe/Oslo")
AT = datetime(2026, 11, 20, 8, 14, 3, tzinfo=UTC)
TIMES: list[tuple[object, TimeForm, datetime]] = [
    ("2026-11-20T08:14:03Z", TimeForm(), AT),
    ("2026-11-20T09:14:03+01:00", TimeForm(), AT),
    ("2026-11-20T09:14:03+0100", TimeForm(), AT),
    ("2026-11-20 09:14:03", TimeForm(zone=OSLO), AT),
    ("2026-11-20 08:14:03,250", TimeForm(), AT + timedelta(milliseconds=250)),
    ("20261120T081403Z", TimeForm(), AT),
    ("2026-11-20 08:14", TimeForm(), AT - timedelta(seconds=3)),
    ("20/Nov/2026:09:14:03 +0100", TimeForm(), AT),
    ("[20/Nov/2026:09:14:03 +0100]", TimeForm(), AT),
    ("20.11.2026 09:14:03", TimeForm(zone=OSLO), AT),
    ("11/20/2026 09:14:03 AM", TimeForm(zone=OSLO), AT),
    ("20/11/2026 09:14:03", TimeForm(zone=OSLO, day_first=True), AT),
    ("11/20/26, 8:14:03 PM", TimeForm(), AT + timedelta(hours=12)),
    (1795162443, TimeForm(), AT),
    (1795162443.5, TimeForm(), AT + timedelta(seconds=0.5)),
    ("1795162443000", TimeForm(), AT),
    ("1795162443000000", TimeForm(), AT),
    ("1795162443000000000", TimeForm(), AT),
    (1795162443000, TimeForm(unit="ms"), AT),
    ("20-11-2026 08h14m03", TimeForm(pattern="%d-%m-%Y %Hh%Mm%S"), AT),
    ("20-11-2026 09h14 +0100", TimeForm(pattern="%d-%m-%Y %Hh%M %z"), AT - timedelta(seconds=3)),
    (datetime(2026, 11, 20, 9, 14, 3), TimeForm(zone=OSLO), AT),
]


@pytest.mark.parametrize(("value", "form", "moment"), TIMES, ids=[str(one[0]) for one in TIMES])
def test_times(value: object, form: TimeForm, moment: datetime) -> None:
    assert TimeReader(form).read(value) == moment


NO_TIMES: list[tuple[object, TimeForm, str]] = [
    ("", TimeForm(), "no time"),
    ("-", TimeForm(), "no time"),
    (None, TimeForm(), "no time"),
    (True, TimeForm(), "no time"),
    ("yesterday", TimeForm(), "no form"),
    ("2026-02-30 10:00:00", TimeForm(), "no moment"),
    ("12", TimeForm(), "no form"),
    ("2026-11-20", TimeForm(pattern="%d.%m.%Y"), "not written as"),
    (1e300, TimeForm(), "no moment"),
    ("2026-03-29 02:30:00", TimeForm(zone=OSLO), "never was"),
    ("20/Nox/2026:09:14:03 +0100", TimeForm(), "no moment"),
]


@pytest.mark.parametrize(("value", "form", "words"), NO_TIMES, ids=[str(one[0]) for one in NO_TIMES])
def test_what_is_no_time(value: object, form: TimeForm, words: str) -> None:
    with pytest.raises(NoTime, match=words):
        TimeReader(form).read(value)


def walls(*minutes: int, night: datetime = datetime(2026, 10, 25, tzinfo=UTC)) -> list[tuple[str, datetime]]:
    """Local times of the night in which the clocks of Oslo go back, by minutes after midnight UTC, and what they are."""
    moments = [night + timedelta(minutes=one) for one in minutes]
    return [(f"{one.astimezone(OSLO):%Y-%m-%d %H:%M:%S}", one) for one in moments]


ORDERS = [
    (-30, 10, 35, 55, 65, 90, 130),
    (-30, 59, 60, 61),
    (130, 90, 65, 55, 35, 10, -30),
]


@pytest.mark.parametrize("minutes", ORDERS)
def test_the_hour_that_came_twice_is_told_by_the_order_of_the_file(minutes: tuple[int, ...]) -> None:
    pairs = walls(*minutes)
    form = TimeForm(zone=OSLO)
    reader = TimeReader(form, descending=is_descending([wall for wall, _ in walls(*minutes)], form))
    assert [reader.read(wall) for wall, _ in pairs] == [moment for _, moment in pairs]
    assert reader.ambiguous == 0


def test_alone_it_is_taken_as_the_first_and_said() -> None:
    reader = TimeReader(TimeForm(zone=OSLO))
    assert reader.read("2026-10-25 02:30:00") == datetime(2026, 10, 25, 0, 30, tzinfo=UTC)
    assert reader.ambiguous == 1


@given(
    st.datetimes(datetime(2020, 1, 1), datetime(2030, 1, 1)),
    st.sampled_from(["Europe/Oslo", "America/New_York", "Asia/Kolkata"]),
)
def test_a_local_time_comes_back_as_what_it_was(moment: datetime, name: str) -> None:
    """But for the hour that came twice, which is one of two."""
    zone = ZoneInfo(name)
    local = moment.replace(tzinfo=UTC).astimezone(zone)
    read = TimeReader(TimeForm(zone=zone)).read(local.strftime("%Y-%m-%d %H:%M:%S.%f"))
    assert read.astimezone(zone).replace(tzinfo=None, fold=0) == local.replace(tzinfo=None, fold=0)


def rows(text: str | bytes, form: str, **more: Any) -> list[Record | BadRow]:
    data = text.encode() if isinstance(text, str) else text
    return list(records_of(io.BytesIO(data), form, **more))


def told(found: list[Record | BadRow]) -> list[tuple[int, object]]:
    return [(one.line, one.because.split()[0] if isinstance(one, BadRow) else dict(one.values)) for one in found]


CSV = [
    ("plain", "a,b\n1,2\n3,4\n", [(2, {"a": "1", "b": "2"}), (3, {"a": "3", "b": "4"})]),
    ("semicolons", "a;b\n1;2,5\n", [(2, {"a": "1", "b": "2,5"})]),
    ("tabs and CRLF", "a\tb\r\n1\t2\r\n", [(2, {"a": "1", "b": "2"})]),
    ("a value on two lines", 'a,b\n"one\ntwo",2\n3,4\n', [(2, {"a": "one\ntwo", "b": "2"}), (4, {"a": "3", "b": "4"})]),
    ("quotes in quotes", 'a,b\n"say ""yes""",2\n', [(2, {"a": 'say "yes"', "b": "2"})]),
    ("a short row", "a,b\n1\n3,4\n", [(2, "it"), (3, {"a": "3", "b": "4"})]),
    ("a long row", "a,b\n1,2,3\n", [(2, "it")]),
    ("empty columns at the end", "a,b\n1,2,,\n", [(2, {"a": "1", "b": "2"})]),
    ("blank lines", "a,b\n\n1,2\n\n", [(3, {"a": "1", "b": "2"})]),
    ("a byte order mark", "\ufeffa,b\n1,2\n", [(2, {"a": "1", "b": "2"})]),
]


@pytest.mark.parametrize(("name", "text", "expected"), CSV, ids=[one[0] for one in CSV])
def test_csv(name: str, text: str, expected: list[tuple[int, object]]) -> None:
    """The line is the physical one on which the record begins."""
    assert told(rows(text, "csv")) == expected


def test_csv_in_another_encoding() -> None:
    assert told(rows("navn,b\nÅse,2\n".encode("cp1252"), "csv", encoding="cp1252")) == [(2, {"navn": "Åse", "b": "2"})]
    assert told(rows("a,b\n1,2\n".encode("utf-16"), "csv", encoding="utf-16")) == [(2, {"a": "1", "b": "2"})]


JSONS = [
    (
        "lines",
        '{"a": 1}\n\n{"b": [1, 2]}\nno\n[1]\n',
        "jsonl",
        {},
        [(1, {"a": 1}), (3, {"b": [1, 2]}), (4, "it"), (5, "it")],
    ),
    ("an array", '[{"a": 1}, 7, {"a": 2}]', "json", {}, [(1, {"a": 1}), (2, "it"), (3, {"a": 2})]),
    ("an array under a key", '{"data": {"events": [{"a": 1}]}}', "json", {"rows": "data.events"}, [(1, {"a": 1})]),
    ("with a dollar", '{"events": [{"a": 1}]}', "json", {"rows": "$.events"}, [(1, {"a": 1})]),
    ("an array that breaks off", '[{"a": 1}, {"a"', "json", {}, [(1, {"a": 1}), (2, "the")]),
    (
        "another class",
        '{"class_uid": 3002, "time": 1}\n{"class_uid": 1001}\n',
        "ocsf",
        {},
        [(1, {"class_uid": 3002, "time": 1}), (2, "its")],
    ),
]


@pytest.mark.parametrize(("name", "text", "form", "more", "expected"), JSONS, ids=[one[0] for one in JSONS])
def test_json(name: str, text: str, form: str, more: dict[str, str], expected: list[tuple[int, object]]) -> None:
    assert told(rows(text, form, **more)) == expected


def test_syslog() -> None:
    text = (
        '<134>1 2026-11-20T08:14:03Z gw1 gate 4711 SIGNIN [auth@32473 user="m.tern" note="a \\"b\\" \\]"][x@1 user="other"] ok code=E-1 why="no luck"\n'
        "17 <34>1 - - - - - - \ufeffbare\nno syslog\n"
    )
    first, second, third = rows(text, "syslog")
    assert isinstance(first, Record)
    expected = {
        "user": "m.tern",
        "auth@32473.user": "m.tern",
        "x@1.user": "other",
        "note": 'a "b" ]',
        "code": "E-1",
        "why": "no luck",
        "hostname": "gw1",
        "app-name": "gate",
        "severity": 6,
        "facility": 16,
        "time": "2026-11-20T08:14:03Z",
    }
    assert {name: first.values[name] for name in expected} == expected
    assert isinstance(second, Record)
    assert (second.values["message"], second.values["hostname"], second.values["time"]) == ("bare", None, None)
    assert isinstance(third, BadRow)


def test_w3c_with_fields_that_change() -> None:
    text = '#Version: 1.0\n#Fields: date time cs-username sc-status\n2026-11-20 08:14:03 m.tern 302\n#Fields: time x\n08:14:04 "a b"\n1 2 3\n'
    found = rows(text, "w3c")
    assert told(found)[0] == (
        3,
        {
            "date": "2026-11-20",
            "time": "08:14:03",
            "cs-username": "m.tern",
            "sc-status": "302",
            "date time": "2026-11-20 08:14:03Z",
        },
    )
    assert told(found)[1:] == [(5, {"time": "08:14:04", "x": "a b"}), (6, "it")]


def test_combined() -> None:
    text = 'shop.example:443 192.0.2.4 - m.tern [20/Nov/2026:09:14:03 +0100] "GET /a?b=\\"c HTTP/1.1" 302 5 "https://x.example/" "Panel"\n'
    (only,) = rows(text, "combined")
    assert isinstance(only, Record)
    assert (only.values["user"], only.values["status"], only.values["method"], only.values["vhost"]) == (
        "m.tern",
        "302",
        "GET",
        "shop.example:443",
    )


def parquet(*found: dict[str, Any]) -> bytes:
    import pyarrow as pa
    import pyarrow.parquet as pq

    held = io.BytesIO()
    pq.write_table(pa.Table.from_pylist(list(found)), held)
    return held.getvalue()


def test_parquet(tmp_path: Path) -> None:
    data = parquet(
        {"when": AT, "user": "m.tern", "result": "granted", "n": 1},
        {"when": AT, "user": None, "result": "denied", "n": 2},
    )
    assert told(rows(data, "parquet")) == [
        (1, {"when": AT, "user": "m.tern", "result": "granted", "n": 1}),
        (2, {"when": AT, "user": None, "result": "denied", "n": 2}),
    ]
    with pytest.raises(Unreadable, match="no Parquet"):
        rows(b"PAR1 nothing", "parquet")
    folder = workspace(tmp_path)
    (folder / "x.parquet").write_bytes(data)
    status, document = run_json("logs", "check", "x.parquet", folder=folder)
    assert (status, document["format"], document["bad"], document["first"]) == (0, "parquet", 0, "2026-11-20T08:14:03Z")
    assert {one["column"]: one["field"] for one in document["columns"]} == {
        "when": "time",
        "user": "user",
        "result": "outcome",
        "n": None,
    }


@pytest.mark.parametrize("pack", [gzip.compress, zstandard.compress, bytes], ids=["gzip", "zstd", "plain"])
def test_packed_files(pack: Any) -> None:
    stream = unpacked(io.BytesIO(pack(b"a,b\n1,2\n")))
    assert told(list(records_of(stream, "csv"))) == [(2, {"a": "1", "b": "2"})]


def test_damaged_gzip_is_said() -> None:
    with pytest.raises(Unreadable, match="damaged"):
        list(records_of(unpacked(io.BytesIO(gzip.compress(b"a,b\n1,2\n" * 99)[:-20])), "csv"))


PATHS = [
    ("a", 1),
    ("b.c", 2),
    ("$.b.c", 2),
    ("d.0", "x"),
    ("d.-1", "y"),
    ("d.7", None),
    ("e.f", 3),
    ("b.z", None),
    ("a.x", None),
]


@pytest.mark.parametrize(("path", "value"), PATHS)
def test_paths(path: str, value: object) -> None:
    assert value_at({"a": 1, "b": {"c": 2}, "d": ["x", "y"], "e.f": 3}, path) == value


DESCRIPTION = """\
role = "provider"
format = "csv"
time_zone = "Europe/Oslo"
[fields]
time = "When"
user = "Account"
app = "Target"
outcome = "Result"
code = "Code"
ids = ["Request"]
[outcomes]
success = ["granted"]
failure = ["DENIED", "error"]
"""
LOG = """\
When;Account;Target;Result;Code;Message;From;Request
2026-11-20 09:14:03;m.tern@northmere.example;Crew Roster;granted;;;192.0.2.14;_rq9f1b2c3d4e5f60718293a4b5
2026-11-20 09:15:44;a.fulmar@northmere.example;Fuel Ledger;Denied;D-4107;"no account
of that name";192.0.2.15;_rq9f1b2c3d4e5f60718293a4b6
2026-11-20 09:16:00;o.petrel@northmere.example;Crew Roster;perhaps;;;192.0.2.16;-
x;y
never;l.plover@northmere.example;Ticket Desk;granted;;;192.0.2.17;
"""


def described(text: str = DESCRIPTION) -> LogSource:
    problems: list[Problem] = []
    found = read_description(text, "id", "logs/id.toml", problems)
    assert found is not None, problems
    return found


def test_records_become_events() -> None:
    source = described()
    read = list(events_of(source, "p.csv", records_of(io.BytesIO(LOG.encode()), "csv"), TimeReader(time_form(source))))
    events = [one for one in read if isinstance(one, Event)]
    assert [(one.line, one.user, one.outcome, one.code, one.ids) for one in events] == [
        (2, "m.tern@northmere.example", "success", None, ("_rq9f1b2c3d4e5f60718293a4b5",)),
        (3, "a.fulmar@northmere.example", "failure", "D-4107", ("_rq9f1b2c3d4e5f60718293a4b6",)),
        (5, "o.petrel@northmere.example", "other", None, ()),
    ]
    assert events[0].time == AT
    assert [(one.line, one.because.split(";")[0]) for one in read if isinstance(one, BadRow)] == [
        (6, "it has 2 columns where the header has 8"),
        (7, "'never' is in no form of time that is known"),
    ]


OWN = [
    (
        "combined",
        '192.0.2.4 - m.tern [20/Nov/2026:09:14:03 +0100] "GET / HTTP/1.1" 403 5\n',
        ("m.tern", "failure", "403", "192.0.2.4"),
    ),
    (
        "w3c",
        "#Fields: date time c-ip cs-username sc-status\n2026-11-20 08:14:03 192.0.2.4 m.tern 302\n",
        ("m.tern", "success", "302", "192.0.2.4"),
    ),
    (
        "ocsf",
        json.dumps(
            {
                "class_uid": 3002,
                "time": 1795162443000,
                "status_id": 2,
                "status_code": "E1",
                "actor": {"user": {"name": "m.tern"}},
                "src_endpoint": {"ip": "192.0.2.4"},
            }
        ),
        ("m.tern", "failure", "E1", "192.0.2.4"),
    ),
    ("syslog", '<1>1 2026-11-20T08:14:03Z h gate 1 - [a@1 who="m.tern"] code=x\n', (None, "other", None, None)),
]


@pytest.mark.parametrize(("form", "text", "expected"), OWN, ids=[one[0] for one in OWN])
def test_what_a_format_keeps_by_itself(form: str, text: str, expected: tuple[str | None, ...]) -> None:
    source = described(f'role = "gateway"\nformat = "{form}"\n')
    (event,) = events_of(source, "f", iter(rows(text, form)), TimeReader(time_form(source)))
    assert isinstance(event, Event)
    assert (event.time, (event.user, event.outcome, event.code, event.ip)) == (AT, expected)


WRONG = [
    ('role = "provider"\n', "format is missing"),
    ('role = "somebody"\nformat = "csv"\n', "role must be"),
    ('role = "provider"\nformat = "csv"\ntime_zone = "Europe/Olso"\n', "no time zone"),
    ('role = "provider"\nformat = "csv"\n[fields]\nwhen = "x"\n', "is not a known setting"),
    ('role = "provider"\nformat = "csv"\ndelimiter = "||"\n', "one character"),
    ('role = "provider"\nformat = "csv"\nencoding = "klingon"\n', "no encoding"),
    ('role = "provider"\nformat = "csv"\nprovider = "a"\napp = "b"\n', "exclude each other"),
    ('role = "provider"\nformat = "csv"\n[codes]\n"D-1" = { stage = "identified" }\n', "means is missing"),
    ('role = "provider"\nformat = "csv"\n[codes]\n"D-1" = { means = "x", stage = "somewhere" }\n', "stage"),
    ("role = provider", "is not valid TOML"),
]


@pytest.mark.parametrize(("text", "words"), WRONG)
def test_wrong_descriptions(text: str, words: str) -> None:
    problems: list[Problem] = []
    assert read_description(text, "x", "logs/x.toml", problems) is None
    assert any(words in str(one) for one in problems), problems


def test_a_description_names_what_is_on_record(tmp_path: Path) -> None:
    wrong = {
        "logs/a.toml": DESCRIPTION.replace('role = "provider"', 'role = "provider"\nprovider = "northmere"'),
        "logs/b.toml": "x = [",
    }
    with pytest.raises(SettingsError) as caught:
        log_sources(load_workspace(workspace(tmp_path, files=wrong)))
    assert [(one.file, one.nearest) for one in caught.value.problems] == [
        ("logs/a.toml", "northmere-id"),
        ("logs/b.toml", None),
    ]


FORMS = [
    (b"PAR1xx", ("parquet", None, None)),
    (b'{"a": 1}\n{"a": 2}\n', ("jsonl", None, None)),
    (b'[{"a": 1}]', ("json", None, None)),
    (b'{"meta": {"n": 1}, "data": {"rows": [{"a": 1}]}}', ("json", None, "data.rows")),
    (b"<34>1 2026-11-20T08:14:03Z h a - - - x", ("syslog", None, None)),
    (b"#Software: x\n#Fields: date time\n", ("w3c", None, None)),
    (b'1.2.3.4 - - [20/Nov/2026:09:14:03 +0100] "GET / HTTP/1.1" 200 5', ("combined", None, None)),
    (b"a;b;c\n1;2;3\n", ("csv", ";", None)),
    (b'{"class_uid": 3002, "time": 1}\n', ("ocsf", None, None)),
]


@pytest.mark.parametrize(("head", "expected"), FORMS)
def test_formats_are_told_apart(head: bytes, expected: tuple[str, str | None, str | None]) -> None:
    assert form_of(head) == expected


def test_a_delimiter_is_told_in_spite_of_a_bad_row() -> None:
    assert sniffed(LOG) == ";"


def test_an_unknown_file_gets_a_description_that_reads_it(tmp_path: Path) -> None:
    """What is proposed, saved and corrected where it says so, reads the file."""
    folder = workspace(tmp_path)
    (folder / "export.csv").write_text(LOG, "utf-8")
    status, document = run_json("logs", "check", "export.csv", folder=folder)
    assert status == 0
    conforms(document, "log-check")
    assert (document["rows"], document["bad"], document["source"]) == (6 - 1, 2, None)
    assert {one["column"]: one["field"] for one in document["columns"]} == {
        "When": "time",
        "Account": "user",
        "Target": "app",
        "Result": "outcome",
        "Code": "code",
        "Message": "reason",
        "From": "ip",
        "Request": "ids",
    }
    assert document["lacking"]["user"] == 0
    assert any("time_zone" in one for one in document["remarks"])
    done = run("logs", "check", "export.csv", "--write", "id", folder=folder)
    assert (done.returncode, b"logs/id.toml is written" in done.stderr) == (0, True)
    status, again = run_json("logs", "check", "export.csv", folder=folder)
    assert (status, again["source"], again["proposal"]) == (0, "id", None)
    assert again["first"] == "2026-11-20T09:14:03Z"
    assert run("logs", "check", "export.csv", "--write", "id", folder=folder).returncode == 2


FAILING = [
    (("no.csv",), 3),
    (("empty.csv",), 3),
    (("export.csv", "--source", "nobody"), 2),
    (("export.csv", "--write", "../x"), 2),
    (("folder",), 3),
]


@pytest.mark.parametrize(("arguments", "status"), FAILING)
def test_checks_that_cannot_be(arguments: tuple[str, ...], status: int, tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "export.csv").write_text(LOG, "utf-8")
    (folder / "empty.csv").write_text("")
    (folder / "folder").mkdir()
    done = run("logs", "check", *arguments, folder=folder)
    assert done.returncode == status
    assert done.stderr
    assert b"Traceback" not in done.stderr


def test_the_zone_that_is_lacking_is_said_once(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "export.csv").write_text(LOG, "utf-8")
    unknown = run("logs", "check", "export.csv", folder=folder).stdout.decode()
    assert (unknown.count("read as UTC"), unknown.count("carry no zone")) == (1, 1)
    (folder / "logs").mkdir(exist_ok=True)
    assert run("logs", "check", "export.csv", "--write", "id", folder=folder).returncode == 0
    known = run("logs", "check", "export.csv", folder=folder).stdout.decode()
    assert known.count("carry no zone") == 1
    assert "Mind:" not in known


def test_escapes_in_a_log_never_reach_the_terminal(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "export.csv").write_text(LOG.replace("Crew Roster", "\x1b[31mCrew"), "utf-8")
    assert b"\x1b" not in run("logs", "check", "export.csv", folder=folder).stdout


@given(st.binary(max_size=400), st.sampled_from(["csv", "jsonl", "json", "ocsf", "syslog", "w3c", "combined"]))
def test_any_octets_give_records_or_bad_rows(data: bytes, form: str) -> None:
    try:
        found = rows(data, form)
    except Unreadable:
        return
    assert all(isinstance(one, Record | BadRow) and one.line >= 1 for one in found)
    assert [one.line for one in found] == sorted(one.line for one in found)


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
        return search_events(store.events(), Wanted(**wanted), load_workspace(folder))


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


STORES: list[tuple[str, Any, str]] = [
    ("damaged", lambda path: path.write_bytes(b"no store at all" * 500), "cannot be read"),
    ("another version", lambda path: sql(path, "UPDATE about SET value = '0'"), "version 0"),
    ("other tables", lambda path: sql(path, "DROP TABLE files"), "cannot be read"),
]


def sql(path: Path, statement: str) -> None:
    import duckdb

    with duckdb.connect(str(path)) as connection:
        connection.execute(statement)


@pytest.mark.parametrize(("name", "spoil", "words"), STORES, ids=[one[0] for one in STORES])
def test_stores_that_cannot_be_used(name: str, spoil: Any, words: str, loaded: Path) -> None:
    load(loaded)
    spoil(loaded / ".trace-lens/events.duckdb")
    done = run("logs", "search", folder=loaded)
    assert (done.returncode, words in done.stderr.decode(), b"Traceback" in done.stderr) == (3, True, False)
    assert b"load again" in done.stderr
    for writing in (True, False):
        with pytest.raises(StoreProblem, match=words), EventStore(loaded, writing=writing):
            pass
    (loaded / ".trace-lens/events.duckdb").unlink()
    assert load(loaded) == [("new", 3, 2)]


def test_two_at_once_is_said(loaded: Path) -> None:
    import duckdb

    load(loaded)
    with duckdb.connect(str(loaded / ".trace-lens/events.duckdb")):
        for words in (("load",), ("list",), ("search",), ("list", "--format", "json")):
            done = run_program("logs", *words, folder=loaded)
            assert (done.returncode, done.stdout, b"nother trace-lens" in done.stderr) == (3, b"", True)


def test_an_interruption_leaves_the_store_whole(loaded: Path) -> None:
    load(loaded)
    source = described()
    rows_ = records_of(io.BytesIO(LOG.encode()), "csv")
    events = [one for one in events_of(source, "x.csv", rows_, TimeReader(time_form(source))) if isinstance(one, Event)]

    def interrupted(store: EventStore) -> None:
        with store.transaction():
            assert store.add(events) == 3
            raise KeyboardInterrupt

    with EventStore(loaded, writing=True) as store, pytest.raises(KeyboardInterrupt):
        interrupted(store)
    assert len(search(loaded)) == 3


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


BULK = [
    ("local times", regular(2500), True),
    ("epoch milliseconds", regular(2500, "17951624{n:05d}"), True),
    ("with fractions", regular(2500, "2026-11-20T{h:02d}:{m:02d}:{s:02d}.125"), True),
    ("one bad row", regular(2500) + "x;y\n", False),
    ("one bad time", regular(2500).replace("2026-11-20 00:10:00", "never"), False),
    ("a value on two lines", regular(2500).replace("plain words", '"plain\nwords"', 1), False),
    ("a blank line", regular(2500) + "\n", False),
    ("white space of other kinds", regular(2500).replace("plain words", "\u00a0plain words\t"), True),
    ("the night when clocks change", regular(2500).replace("2026-11-20", "2026-10-25"), False),
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
    ("epoch milliseconds", lines(2500), True),
    ("in UTC", lines(2500, '"2026-11-20T{h:02d}:{m:02d}:{s:02d}Z"'), True),
    ("local", lines(2500, '"2026-11-20 {h:02d}:{m:02d}:{s:02d}"'), True),
    ("a fraction", lines(2500).replace('"service": 3', '"service": 3.0', 1), False),
    ("a truth value", lines(2500).replace('"service": 3', '"service": true', 1), False),
    ("no JSON", lines(2500) + "{\n", False),
    ("a blank line", lines(2500) + "\n", False),
    ("a dotted name", lines(2500).replace('"service"', '"error.code": "X-1", "service"', 1), False),
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
    whole = EventStore.add_file

    def watched(store: EventStore, *arguments: Any, **more: Any) -> Any:
        taken.append(False)
        read = whole(store, *arguments, **more)
        taken[-1] = True
        return read

    monkeypatch.setattr(EventStore, "add_file", watched)
    fast, found = load(loaded), search(loaded)
    assert taken == [at_once]
    (loaded / ".trace-lens/events.duckdb").unlink()
    monkeypatch.setattr(loading, "_WORTH_BULK", 10**9)
    assert load(loaded) == fast
    assert search(loaded) == found
    assert len(found) >= 2499
