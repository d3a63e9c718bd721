"""Requests in the form of shell commands and log lines, as panels and servers write them: read, never run.

Understood are the command-line form (`curl`, in POSIX quoting and in that of the Windows command line), the PowerShell
form (`Invoke-WebRequest`), the script form (`fetch`), and lines of the combined log format of web servers.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.intake.effort import most_messages
from trace_lens.intake.exchanges import Capture, Exchange, Header
from trace_lens.intake.line_numbers import LineNumbers
from trace_lens.intake.shell_words import shell_words

_CURL = expression(r"(?m)^[^\S\n]*+(?:\$ |> )?curl(?:\.exe)?\s")
_POWERSHELL = expression(r"(?im)^[^\S\n]*+Invoke-(?:WebRequest|RestMethod)\b")
_FETCH = expression(r"(?m)^[^\S\n]*+(?:await\s++)?fetch\(\s*+[\"']")
_COMBINED = expression(
    r"^(?:(?P<vhost>[\w.-]+(?::\d+)?) )?(?P<ip>[0-9A-Fa-f.:]+) \S+ (?P<user>\S+) \[(?P<at>[^\]]+)\] "
    r"\"(?P<method>[A-Z]+) (?P<target>\S+)(?: HTTP/[\d.]+)?\" (?P<status>\d{3}) \S+"
    r"(?: \"(?P<referrer>[^\"]*)\" \"[^\"]*\")?"
)
_LOGGED_AT = expression(r"(\d\d?)/([A-Za-z]{3})/(\d{4}):(\d\d):(\d\d):(\d\d) (?:Z|([+-])(\d\d):?(\d\d))", re.ASCII)
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_BODY_OPTIONS = ("-d", "--data", "--data-raw", "--data-binary", "--data-ascii", "--data-urlencode")
_WITH_VALUE = {
    "-o",
    "--output",
    "-A",
    "--user-agent",
    "-u",
    "--user",
    "-x",
    "--proxy",
    "--max-time",
    "-m",
    "--connect-timeout",
    "--cacert",
    "-E",
    "--cert",
    "--key",
    "--resolve",
    "-w",
    "--write-out",
}


def read_commands(data: bytes) -> Capture | None:
    """The exchanges that a text of commands or log lines stands for; None where it is no such text."""
    text = data[: limits.SOURCE_BYTES].decode("utf-8-sig", "replace")
    for form, reader in ((_CURL, _curl), (_POWERSHELL, _powershell), (_FETCH, _fetch)):
        starts = [match.start() for match in form.finditer(text)]
        if starts and not text[: starts[0]].strip():
            capture = _of_commands(text, starts, reader)
            if capture:
                return capture
    return _of_log(text)


def _of_commands(text: str, starts: list[int], reader: Callable[[str], Exchange | None]) -> Capture | None:
    """The requests of the commands that begin at `starts`; None where no command is one."""
    most = most_messages(len(text), limits.BYTES_OF_COMMAND)
    beyond = f"only the first {most:,} commands were read" if len(starts) > most else None
    starts = starts[:most]
    pieces = [text[start:end] for start, end in zip(starts, [*starts[1:], len(text)], strict=True)]
    numbers = LineNumbers(text)
    exchanges = tuple(
        made._replace(number=number, place=f"line {numbers.at(start)}")
        for number, (start, piece) in enumerate(zip(starts, pieces, strict=True), 1)
        if (made := reader(piece.strip()))
    )
    notes = ("it holds requests only, no responses",)
    return Capture("header-dump", exchanges, notes=notes, beyond=beyond) if exchanges else None


def _of_log(text: str) -> Capture | None:
    """The requests of the lines of a web server's log; None where fewer than half of the lines are such."""
    lines = text.splitlines()
    logged = [(number, match) for number, line in enumerate(lines, 1) if (match := _COMBINED.match(line.strip()))]
    if not logged or len(logged) * 2 < len([line for line in lines if line.strip()]):
        return None
    most = limits.LOGGED_LINES
    beyond = f"only its first {most:,} requests were read; `trace-lens logs load` reads logs of any length"
    exchanges = tuple(_logged(number, *entry) for number, entry in enumerate(logged[:most], 1))
    notes = ("these are lines of a web server's log: no header fields and no bodies",)
    return Capture("header-dump", exchanges, notes=notes, beyond=beyond if len(logged) > most else None)


def _made(method: str, url: str, headers: list[Header], body: str | None) -> Exchange | None:
    if not re.match(r"https?://", url):
        return None
    octets = body.encode("utf-8", "surrogatepass") if body else None
    return Exchange(
        number=1,
        place="line 1",
        method=method.upper(),
        url=url,
        status=0,
        at=None,
        seconds=None,
        sent=tuple(headers),
        received=(),
        body=octets,
    )


def _curl(piece: str) -> Exchange | None:
    words = _words(piece)
    method, url, headers, body = "", "", [], []
    position = 1
    while position < len(words):
        word = words[position]
        value = words[position + 1] if position + 1 < len(words) else ""
        step = 2
        if word in ("-X", "--request"):
            method = value
        elif word in ("-H", "--header"):
            name, _, told = value.partition(":")
            headers.append((name.strip(), told.strip()))
        elif word in ("-b", "--cookie"):
            headers.append(("Cookie", value))
        elif word in ("-e", "--referer"):
            headers.append(("Referer", value))
        elif word in _BODY_OPTIONS:
            body.append(value)
        elif word == "--url":
            url = value
        elif word in _WITH_VALUE:
            pass
        else:
            step = 1
            if not word.startswith("-") and not url:
                url = word
        position += step
    return _made(method or ("POST" if body else "GET"), url, headers, "&".join(body) or None)


def _words(piece: str) -> list[str]:
    """The words of a command: POSIX quoting with $'…' strings, or the Windows one with carets."""
    if "^" in piece and re.search(r"\^[^\S\n]*+$|\^\"|\^%", piece, re.MULTILINE):
        piece = re.sub(r"\^\r?\n\s*+", " ", piece)
        piece = re.sub(r"\^(.)", r"\1", piece)
    piece = re.sub(r"\\\r?\n\s*+", " ", piece)
    line = piece.splitlines()[0] if piece.count("\n") and "'" not in piece else piece
    try:
        return shell_words(line)
    except ValueError:
        return piece.split()


def _powershell(piece: str) -> Exchange | None:
    def told(name: str) -> str:
        match = re.search(rf"(?i)-{name}\s++(?:\"((?:[^\"`]++|`.|\"\")*+)\"|'([^']*+)'|(\w++))", piece)
        value = next((group for group in match.groups() if group is not None), "") if match else ""
        return re.sub(r"`(.)", r"\1", value)

    table = re.search(r"(?i)-Headers\s++@\{", piece)
    end = piece.find("}", table.end()) if table else -1
    listed = piece[table.end() : end] if table and end >= 0 else ""
    pairs = re.findall(r"[\"']([^\"'=]++)[\"']\s*+=\s*+[\"']((?:[^\"'`]++|`.)*+)[\"']", listed)
    headers = [(name, re.sub(r"`(.)", r"\1", value)) for name, value in pairs if not name.startswith(":")]
    cookies = re.findall(r"Net\.Cookie\(\s*+\"([^\"]++)\",\s*+\"([^\"]*+)\"", piece)
    if cookies:
        headers.append(("Cookie", "; ".join(f"{name}={value}" for name, value in cookies)))
    body = told("Body")
    return _made(told("Method") or ("POST" if body else "GET"), told("Uri"), headers, body or None)


def _fetch(piece: str) -> Exchange | None:
    match = re.match(r"(?:await\s++)?fetch\(\s*+(\"(?:[^\"\\]++|\\.)*+\"|'[^']*+')\s*+(,\s*+(?=\{))?", piece)
    if match is None:
        return None
    try:
        url = json.loads(match[1]) if match[1][0] == '"' else match[1][1:-1]
    except ValueError:
        return None
    try:
        told = json.JSONDecoder().raw_decode(piece, match.end())[0] if match[2] else {}
    except (ValueError, RecursionError):
        told = {}
    listed = told.get("headers")
    headers = [(str(name), str(value)) for name, value in listed.items()] if isinstance(listed, dict) else []
    if told.get("referrer"):
        headers.append(("Referer", str(told["referrer"])))
    body = told.get("body")
    return _made(str(told.get("method") or "GET"), url, headers, body if isinstance(body, str) else None)


def _logged(number: int, line: int, match: re.Match[str]) -> Exchange:
    target = match["target"]
    if match["vhost"] and target.startswith("/"):
        target = f"https://{match['vhost'].removesuffix(':443')}{target}"
    sent = (("Referer", match["referrer"]),) if match["referrer"] not in (None, "-", "") else ()
    moment = _moment(match["at"])
    return Exchange(
        number=number,
        place=f"line {line}",
        method=match["method"],
        url=target,
        status=int(match["status"]),
        at=moment,
        seconds=None,
        sent=sent,
        received=(),
    )


def _moment(text: str) -> datetime | None:
    """The moment of a log line, as `20/Nov/2026:08:00:00 +0100`, in UTC; strptime takes five times as long."""
    match = _LOGGED_AT.fullmatch(text)
    if match is None or match[2].capitalize() not in _MONTHS:
        return None
    month = _MONTHS.index(match[2].capitalize()) + 1
    away = timedelta(hours=int(match[8] or 0), minutes=int(match[9] or 0))
    try:
        moment = datetime(int(match[3]), month, int(match[1]), int(match[4]), int(match[5]), int(match[6]), tzinfo=UTC)
        return moment + away if match[7] == "-" else moment - away
    except (ValueError, OverflowError):
        return None
