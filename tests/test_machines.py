"""What people's machines do to files: line ends, byte order marks, UTF-16, other separators, odd paths, plain terminals."""

from __future__ import annotations

import base64
import codecs
import json
import unicodedata
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest

from kit import (
    ACS,
    APP,
    ISSUER,
    TERN,
    certificate,
    idp_metadata,
    merged,
    pem,
    posted,
    response,
    run,
    run_json,
    toml,
    workspace,
)
from trace_lens.common.masking import escaped, visible

Change = Callable[[str], bytes]
CHANGES: dict[str, Change] = {
    "as it is": str.encode,
    "Windows line ends": lambda text: text.replace("\n", "\r\n").encode(),
    "old line ends of the Macintosh": lambda text: text.replace("\n", "\r").encode(),
    "a byte order mark": lambda text: codecs.BOM_UTF8 + text.encode(),
    "UTF-16, little end first": lambda text: codecs.BOM_UTF16_LE + text.encode("utf-16-le"),
    "UTF-16, big end first": lambda text: codecs.BOM_UTF16_BE + text.encode("utf-16-be"),
    "a mark and Windows line ends": lambda text: codecs.BOM_UTF8 + text.replace("\n", "\r\n").encode(),
    "blank lines around": lambda text: f"\n\n{text}\n\n".encode(),
}
HOSTILE = "\x1b[31mred\x1b]0;title\x07\u202egpj.exe\u200b\u2066x\x9b1m\r\n"


def _wrapped(data: bytes) -> str:
    coded = base64.b64encode(data).decode()
    return "\n".join(coded[start : start + 76] for start in range(0, len(coded), 76))


def _export() -> str:
    body = "SAMLResponse=" + quote(base64.b64encode(response()))
    entry = {
        "startedDateTime": "2026-11-20T08:14:03Z",
        "time": 1,
        "request": {
            "method": "POST",
            "url": ACS,
            "headers": [],
            "postData": {"mimeType": "application/x-www-form-urlencoded", "text": body},
        },
        "response": {"status": 302, "headers": [], "content": {}, "redirectURL": "/home"},
    }
    return json.dumps({"log": {"version": "1.2", "entries": [entry]}}, indent=1)


CAPTURES: dict[str, Callable[[], str]] = {
    "a form field": lambda: posted(response()).decode(),
    "base64 in lines": lambda: _wrapped(response()),
    "an export": _export,
    "a dump of heads": lambda: (
        f"POST {ACS.partition('.example')[2]} HTTP/1.1\nHost: roster.northmere.example\n"
        f"Content-Type: application/x-www-form-urlencoded\n\n{posted(response()).decode()}\n\nHTTP/1.1 302 Found\nLocation: /home\n"
    ),
}


@pytest.mark.parametrize("how", CHANGES)
@pytest.mark.parametrize("name", CAPTURES)
def test_captures(name: str, how: str, tmp_path: Path) -> None:
    """The same diagnosis, whatever the machine did to the file."""
    folder = workspace(tmp_path)
    for file, change in (("plain", CHANGES["as it is"]), ("changed", CHANGES[how])):
        (folder / file).write_bytes(change(CAPTURES[name]()))
    found = [run_json("diagnose", file, folder=folder) for file in ("plain", "changed")]
    (status, plain), (other, changed) = found
    keys = ("outcome", "first_break", "app", "subject", "next_breaks")
    assert [[one[key] for key in keys] for one in changed["attempts"]] == [
        [one[key] for key in keys] for one in plain["attempts"]
    ]
    assert (status, other) == (0, 0)


@pytest.mark.parametrize("how", [name for name in CHANGES if "Macintosh" not in name])
def test_settings_lists_and_certificates(how: str, tmp_path: Path) -> None:
    """TOML, CSV of three kinds, metadata, PEM: each as that machine writes it."""
    change = CHANGES[how]
    changed: dict[str, Any] = {
        "application": {"metadata": None},
        "account": {"list": "accounts.csv"},
        "provider_setup": {"assigned": "assigned.csv"},
    }
    folder = workspace(
        tmp_path,
        {"account": changed["account"], "provider_setup": changed["provider_setup"]},
        {"accounts.csv": "", "assigned.csv": "", "changes.csv": "", "id.xml": ""},
    )
    written = {
        "apps/crew-roster.toml": toml(
            merged(APP, {"account": changed["account"], "provider_setup": changed["provider_setup"]})
        ),
        "providers/northmere-id.toml": f'name = "Northmere ID"\nentity_id = "{ISSUER}"\nmetadata = "id.xml"\n',
        "accounts.csv": f"user;email\n{TERN};{TERN}\n",
        "assigned.csv": f"user\n{TERN}\n",
        "changes.csv": "at,app,what\n2026-11-01,crew-roster,x\n",
        "certs/id.pem": pem(certificate("id")),
    }
    for name, text in written.items():
        (folder / name).write_bytes(change(text))
    (folder / "id.xml").write_text(idp_metadata())
    (folder / "m.txt").write_bytes(posted(response()))
    status, told = run_json("diagnose", "m.txt", folder=folder)
    (attempt,) = told["attempts"]
    assert (status, attempt["outcome"], attempt["unchecked"]) == (0, "sound", []) or attempt["first_break"] is None
    assert {one["stage"]: one["status"] for one in attempt["stages"]}["identified"] == "ok"


@pytest.mark.parametrize("how", [name for name in CHANGES if "blank" not in name and "Macintosh" not in name])
@pytest.mark.parametrize("form", ["csv", "jsonl", "syslog", "w3c", "combined"])
def test_logs(form: str, how: str, tmp_path: Path) -> None:
    texts = {
        "csv": "time;user\n1795161600,250;m.tern\n1795161601,5;a.fulmar\n",
        "jsonl": '{"time": "2026-11-20T08:14:01Z", "user": "m.tern"}\n{"time": 1795162442, "user": "a.fulmar"}\n',
        "syslog": '<34>1 2026-11-20T08:14:01Z gate app 1 - [x user="m.tern"] -\n<34>1 2026-11-20T08:14:02Z gate app 1 - [x user="a.fulmar"] -\n',
        "w3c": "#Fields: date time user\n2026-11-20 08:14:01 m.tern\n2026-11-20 08:14:02 a.fulmar\n",
        "combined": '192.0.2.1 - m.tern [20/Nov/2026:08:14:01 +0000] "GET / HTTP/1.1" 200 1\n192.0.2.1 - a.fulmar [20/Nov/2026:08:14:02 +0000] "GET / HTTP/1.1" 200 1\n',
    }
    time = {"csv": 'time = "time"\n', "jsonl": 'time = "time"\n'}.get(form, "")
    described = f'role = "provider"\nprovider = "northmere-id"\nformat = "{form}"\nfiles = ["logs/a.log"]\n[fields]\nuser = "user"\n{time}'
    folder = workspace(tmp_path, files={"logs/a.toml": described})
    (folder / "logs/a.log").write_bytes(CHANGES[how](texts[form]))
    status, loaded = run_json("logs", "load", folder=folder)
    assert (status, [(one["rows"], one["bad"]) for one in loaded["files"]]) == (0, [(2, 0)])
    _, told = run_json("logs", "search", folder=folder)
    assert [one["user"] for one in told["events"]] == ["m.tern", "a.fulmar"]
    assert [one["line"] for one in told["events"]] == {"csv": [2, 3], "w3c": [2, 3]}.get(form, [1, 2])


@pytest.mark.parametrize("name", ["two words", "fähre ⛴", "-dash", "a\nb", "glob[1]*", "x..", "\udcff"])
def test_paths(name: str, tmp_path: Path) -> None:
    folder = workspace(tmp_path / name)
    (folder / f"{name}.txt").write_bytes(posted(response()))
    for source in (str(folder / f"{name}.txt"), str(folder)):
        done = run("diagnose", "--", source, folder=folder)
        assert b"SOUND" in done.stdout, done.stderr
        assert b"\nb.txt" not in done.stdout
    assert run("logs", "list", "--workspace", str(folder)).returncode == 0


def test_a_terminal_without_unicode(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "m.txt").write_bytes(posted(response()))
    for told in (
        {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"},
        {"PYTHONIOENCODING": "ascii"},
        {"LANG": "C"},
    ):
        for command in (("diagnose", "m.txt"), ("decode", "m.txt"), ("explain",), ("sides", "crew-roster", "m.txt")):
            done = run(*command, folder=folder, **told)
            assert b"Traceback" not in done.stderr
            assert done.stdout
        assert json.loads(run("diagnose", "m.txt", "--format", "json", folder=folder, **told).stdout)["attempts"]


def _is_harmless(text: str) -> bool:
    return all(char == "\n" or unicodedata.category(char) not in ("Cc", "Cf", "Zl", "Zp") for char in text)


def test_nothing_reaches_a_terminal_raw(tmp_path: Path) -> None:
    """Names of claims, files, settings, users and error texts with escapes and marks of direction in them."""
    safe = HOSTILE.replace("\r\n", "")
    named = safe.replace("\x1b", "").replace("\x9b", "").replace("\x07", "")
    attributes = f'<saml:Attribute Name="{named}"><saml:AttributeValue>{named}</saml:AttributeValue></saml:Attribute>'
    folder = workspace(
        tmp_path,
        {"name": safe, "claims": [{"name": safe, "need": "must"}]},
        {
            "logs/x.toml": 'role = "provider"\nprovider = "northmere-id"\nformat = "csv"\nfiles = ["x.csv"]\n[fields]\ntime = "t"\nuser = "u"\nreason = "r"\n'
        },
    )
    (folder / "x.csv").write_text(f't,u,r\n2026-11-20T08:14:01Z,"{HOSTILE}","{HOSTILE}"\nx,"{HOSTILE}",y\n')
    (folder / f"{safe.replace('/', '')}.txt").write_bytes(posted(response(name_id=named, attributes=attributes)))
    (folder / "broken.txt").write_text(f"GET /{safe} HTTP/1.1\nHost: {safe}\n\n")
    (folder / "token.txt").write_text(
        f"https://a.example/?error={quote(HOSTILE)}&error_description={quote(HOSTILE)}&state=x"
    )
    commands = (
        ("diagnose", "."),
        ("diagnose", ".", "-v"),
        ("decode", "."),
        ("certs", "."),
        ("apps", "list"),
        ("apps", "show", "crew-roster"),
        ("apps", "check"),
        ("sides", "crew-roster"),
        ("logs", "load"),
        ("logs", "search"),
        ("logs", "list"),
        ("logs", "check", "x.csv"),
        ("timeline", "."),
        ("explain", safe),
        (safe,),
        ("diagnose", ".", "--app", safe),
        ("diagnose", safe),
        ("diagnose", ".", "--at", safe),
    )
    for command in commands:
        for more in ((), ("--format", "json")):
            done = run(*command, *more, folder=folder)
            for text in (done.stdout, done.stderr):
                assert _is_harmless(text.decode()), (
                    command,
                    more,
                    [char for char in text.decode() if not _is_harmless(char)],
                )


def test_escaping_keeps_the_value() -> None:
    assert json.loads(escaped(json.dumps(HOSTILE + "\U000e0001é", ensure_ascii=False))) == HOSTILE + "\U000e0001é"
    assert _is_harmless(escaped(json.dumps(HOSTILE + "\U000e0001é", ensure_ascii=False)))
    assert _is_harmless(visible(HOSTILE))
