"""What was asked and answered, put down as a browser's export (HAR 1.2), so that it is read like any other capture.

The cookies of the requests are among it; whoever writes it to disk says for whom.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable
from datetime import UTC, datetime
from typing import Any

from trace_lens.common.tuples import NamedTuple
from trace_lens.common.version import __version__
from trace_lens.live.transport import Answer


class Passed(NamedTuple):
    """One request with its answer; `answer` is None where none came, and `problem` then says why."""

    method: str
    url: str
    sent: tuple[tuple[str, str], ...]
    body: bytes | None
    at: float
    answer: Answer | None
    problem: str | None = None


def as_har(passed: Iterable[Passed]) -> bytes:
    """The exchanges as HAR."""
    entries = [_entry(item) for item in passed]
    creator = {"name": "trace-lens", "version": __version__}
    return json.dumps({"log": {"version": "1.2", "creator": creator, "entries": entries}}, indent=1).encode()


def _entry(item: Passed) -> dict[str, Any]:
    answer = item.answer
    seconds = answer.answered - answer.asked if answer else 0.0
    request: dict[str, Any] = {
        "method": item.method,
        "url": item.url,
        "httpVersion": "HTTP/1.1",
        "headers": _fields(item.sent),
        "cookies": [],
        "queryString": [],
        "headersSize": -1,
        "bodySize": len(item.body or b""),
    }
    if item.body is not None:
        kind = next((value for name, value in item.sent if name.lower() == "content-type"), "")
        request["postData"] = {"mimeType": kind, "text": item.body.decode("utf-8", "replace")}
    return {
        "startedDateTime": datetime.fromtimestamp(item.at, UTC)
        .isoformat(timespec="milliseconds")
        .replace("+00:00", "Z"),
        "time": seconds * 1000,
        "request": request,
        "response": _response(item),
        "cache": {},
        "timings": {"send": 0, "wait": seconds * 1000, "receive": 0},
    }


def _response(item: Passed) -> dict[str, Any]:
    answer = item.answer
    if answer is None:
        return {
            "status": 0,
            "statusText": "",
            "httpVersion": "",
            "headers": [],
            "cookies": [],
            "content": {"size": 0, "mimeType": ""},
            "redirectURL": "",
            "headersSize": -1,
            "bodySize": -1,
            "_error": item.problem or "",
        }
    content: dict[str, Any] = {"size": len(answer.data), "mimeType": answer.header("content-type") or ""}
    try:
        content["text"] = answer.data.decode("utf-8")
    except UnicodeDecodeError:
        content |= {"text": base64.b64encode(answer.data).decode(), "encoding": "base64"}
    return {
        "status": answer.status,
        "statusText": "",
        "httpVersion": "HTTP/1.1",
        "headers": _fields(answer.headers),
        "cookies": [],
        "content": content,
        "redirectURL": answer.header("location") or "",
        "headersSize": -1,
        "bodySize": len(answer.data),
    }


def _fields(headers: Iterable[tuple[str, str]]) -> list[dict[str, str]]:
    return [{"name": name, "value": value} for name, value in headers]
