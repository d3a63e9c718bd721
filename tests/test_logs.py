"""Logs read: times in every form, records of every format, and what a check of a file says of it."""

from __future__ import annotations

import gzip
import io
import json
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from kit import run, run_json, workspace
from strict_schemas import conforms
from trace_lens.logs.event import Event
from trace_lens.logs.formats.delimited import sniffed
from trace_lens.logs.formats.events import events_of, time_form
from trace_lens.logs.formats.records import records_of, unpacked
from trace_lens.logs.formats.rows import BadRow, Record, Unreadable, value_at
from trace_lens.logs.formats.times import NoTime, TimeForm, TimeReader, is_descending
from trace_lens.logs.recognising.forms import form_of
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


PAIRS = [
    (
        'time=2026-11-20T08:14:03Z level=info msg="sign-in \\"ok\\"" user=m.tern app=Crew Roster, ip=192.0.2.4',
        {
            "time": "2026-11-20T08:14:03Z",
            "msg": 'sign-in "ok"',
            "user": "m.tern",
            "app": "Crew Roster",
            "ip": "192.0.2.4",
        },
    ),
    (
        "2026-11-20 08:14:03,118 ERROR [http-4] a.Login - user=m.tern result=not let in request=_rq1",
        {
            "time": "2026-11-20 08:14:03,118",
            "level": "ERROR",
            "user": "m.tern",
            "result": "not let in",
            "request": "_rq1",
        },
    ),
    ("2026-11-20 08:14:03 INFO Server started", {"time": "2026-11-20 08:14:03", "message": "INFO Server started"}),
    ("[2026-11-20T08:14:03+01:00] url=https://a.example/?b=c&d=e x=", {"url": "https://a.example/?b=c&d=e", "x": None}),
]


@pytest.mark.parametrize("text, expected", PAIRS)
def test_lines_of_pairs(text: str, expected: dict[str, str | None]) -> None:
    (found,) = rows(text + "\n", "pairs")
    assert isinstance(found, Record)
    assert {name: found.values[name] for name in expected} == expected


def test_what_goes_on_below_a_line_of_pairs_is_told() -> None:
    first, second, third = rows("2026-11-20 08:14:03 a=b c=d\n  at somewhere\n\n2026-11-20 08:14:04 e=f\n", "pairs")
    assert [type(one) for one in (first, second, third)] == [Record, BadRow, Record]


HEADLESS = [
    ("2026-11-20T08:14:03Z,m.tern,ok\n2026-11-20T08:14:04Z,a.fulmar,no\n", ["column 1", "column 2", "column 3"], 2),
    ("20.11.2026 09:14;m.tern\n20.11.2026 09:15;a.fulmar\n", ["column 1", "column 2"], 2),
    ("when,who\n2026-11-20T08:14:03Z,m.tern\n", ["when", "who"], 1),
    ("Sign-ins of 2026-11-20 08:00\n\nwhen,who,how\n2026-11-20T08:14:03Z,m.tern,ok\n", ["when", "who", "how"], 1),
]


@pytest.mark.parametrize("text, names, count", HEADLESS)
def test_a_table_without_a_header_loses_no_row(text: str, names: list[str], count: int) -> None:
    found = [one for one in rows(text, "csv") if isinstance(one, Record)]
    assert len(found) == count
    assert list(found[0].values) == names


def test_a_log_of_pairs_from_end_to_end(tmp_path: Path) -> None:
    """Recognised, described, loaded, found, and copied without anybody's name."""
    folder = workspace(tmp_path)
    lines = "".join(
        f'2026-11-20T08:{n:02d}:03Z {"ERROR" if n % 9 == 0 else "INFO"} user=m.tern@northmere.example app="Crew Roster" '
        f"result={'denied' if n % 9 == 0 else 'success'} request=_rq{n}\n"
        for n in range(60)
    )
    (folder / "logs").mkdir(exist_ok=True)
    (folder / "logs/roster.log").write_text(lines, "utf-8")
    status, checked = run_json("logs", "check", "logs/roster.log", "--write", "roster", folder=folder)
    assert (status, checked["format"], checked["bad"], checked["rows"]) == (0, "pairs", 0, 60)
    assert run_json("logs", "load", folder=folder)[0] == 0
    _, found = run_json("logs", "search", "--user", "m.tern@northmere.example", "--outcome", "failure", folder=folder)
    assert [event["line"] for event in found["events"]] == [1, 10, 19, 28, 37, 46, 55]
    done = run("redact", "logs/roster.log", "--output", "../copy", folder=folder)
    assert done.returncode == 0, done.stderr.decode()
    (copy,) = (tmp_path.parent / "copy").rglob("*.log")
    assert "m.tern" not in copy.read_text("utf-8")


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
    import duckdb

    lines, file = "\n".join(json.dumps(row, default=str) for row in found), "rows.parquet"
    with tempfile.TemporaryDirectory() as folder, duckdb.connect() as connection:
        Path(folder, "rows.json").write_text(lines)
        connection.execute(
            f"COPY (SELECT * FROM read_json('{folder}/rows.json')) TO '{folder}/{file}' (FORMAT parquet)"
        )
        return Path(folder, file).read_bytes()


def test_parquet(tmp_path: Path) -> None:
    whole = AT.replace(tzinfo=None)
    data = parquet(
        {"when": whole, "user": "m.tern", "result": "granted", "n": 1},
        {"when": whole, "user": None, "result": "denied", "n": 2},
    )
    assert told(rows(data, "parquet")) == [
        (1, {"when": whole, "user": "m.tern", "result": "granted", "n": 1}),
        (2, {"when": whole, "user": None, "result": "denied", "n": 2}),
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
    (b'time=1 level=info msg="a b"\ntime=2 level=info msg=c\n', ("pairs", None, None)),
    (b"2026-11-20 08:14:03 INFO x - a=b c=d\n2026-11-20 08:14:04 INFO x - a=b c=e\n", ("pairs", None, None)),
    (b"url,name\nhttps://a.example/?b=c&d=e,x\n", ("csv", ",", None)),
    (b'{"class_uid": 3002, "time": 1}\n', ("ocsf", None, None)),
]


@pytest.mark.parametrize(("head", "expected"), FORMS)
def test_formats_are_told_apart(head: bytes, expected: tuple[str, str | None, str | None]) -> None:
    assert form_of(head)[:3] == expected


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


@given(st.binary(max_size=400), st.sampled_from(["csv", "jsonl", "json", "ocsf", "syslog", "w3c", "combined", "pairs"]))
def test_any_octets_give_records_or_bad_rows(data: bytes, form: str) -> None:
    try:
        found = rows(data, form)
    except Unreadable:
        return
    assert all(isinstance(one, Record | BadRow) and one.line >= 1 for one in found)
    assert [one.line for one in found] == sorted(one.line for one in found)
