"""Keeps the recordings: noise stripped, compressed, with the workspace's documents and keys beside them.

python keep.py RECORDINGS KEYS ../../tests/recorded [NAME]

With NAME the documents and keys go into a folder of their own (`workspace-NAME`), laid over the workspace for these
recordings: so some can be recorded with new keys, and the others stay.
"""

from __future__ import annotations

import gzip
import json
import shutil
import sys
from pathlib import Path

NOISE = {
    "user-agent",
    "accept",
    "accept-encoding",
    "accept-language",
    "priority",
    "upgrade-insecure-requests",
    "dnt",
    "cache-control",
    "pragma",
    "connection",
    "keep-alive",
    "vary",
    "etag",
    "transfer-encoding",
    "content-length",
    "te",
    "sec-ch-ua",
    "sec-ch-ua-mobile",
    "sec-ch-ua-platform",
    "sec-fetch-user",
    "expires",
    "x-powered-by",
    "last-modified",
}
STATIC = ("text/javascript", "application/javascript", "text/css", "image/")


def stripped(entry: dict) -> dict:
    request, response = entry["request"], entry["response"]
    content = response.get("content", {})
    kind = (content.get("mimeType") or "").lower()
    kept = {
        "startedDateTime": entry["startedDateTime"],
        "time": round(entry.get("time", 0), 1),
        "request": {
            "method": request["method"],
            "url": request["url"],
            "headers": fields(request),
            **(
                {
                    "postData": {
                        "mimeType": request["postData"].get("mimeType", ""),
                        "text": request["postData"].get("text", ""),
                    }
                }
                if request.get("postData")
                else {}
            ),
        },
        "response": {
            "status": response["status"],
            "headers": fields(response),
            "redirectURL": response.get("redirectURL", ""),
            "content": {
                "size": content.get("size", 0),
                "mimeType": content.get("mimeType", ""),
                **(
                    {}
                    if kind.startswith(STATIC)
                    else {name: content[name] for name in ("text", "encoding") if name in content}
                ),
            },
        },
    }
    for holder, into in ((response, kept["response"]), (entry, kept)):
        into.update(
            {name: value for name, value in holder.items() if name in ("_failureText", "_error", "_resourceType")}
        )
    return kept


def fields(side: dict) -> list[dict]:
    return [{"name": one["name"], "value": one["value"]} for one in side["headers"] if one["name"].lower() not in NOISE]


def main() -> None:
    recordings, keys, to = (Path(one) for one in sys.argv[1:4])
    name_of_keys = sys.argv[4] if len(sys.argv) > 4 else ""
    (to / "captures").mkdir(parents=True, exist_ok=True)
    index = json.loads((recordings / "index.json").read_text())
    old = to / "expected.json"
    before = json.loads(old.read_text()) if old.exists() else {}
    for name in index:
        document = json.loads((recordings / f"{name}.har").read_text())["log"]
        kept = {
            "log": {
                "version": "1.2",
                "creator": {"name": "a browser", "version": "1"},
                "entries": [stripped(one) for one in document["entries"]],
            }
        }
        text = json.dumps(kept, separators=(",", ":"), ensure_ascii=False)
        (to / "captures" / f"{name}.har.gz").write_bytes(gzip.compress(text.encode(), 9, mtime=0))
    workspace = to / f"workspace-{name_of_keys}" if name_of_keys else to / "workspace"
    for folder in ("certs", "keys", "metadata", "discovery"):
        (workspace / folder).mkdir(parents=True, exist_ok=True)
    if name_of_keys:
        index = {name: {**one, "keys": name_of_keys} for name, one in index.items()}
    for name in ("skerry-saml", "skerry-old", "harbourkey"):
        shutil.copy(keys / f"{name}.pem", workspace / "certs" / f"{name}.pem")
    for name in ("berths", "galley"):
        shutil.copy(keys / f"{name}.key", workspace / "keys" / f"{name}.key")
    for file in (recordings / "documents").iterdir():
        shutil.copy(file, workspace / ("metadata" if file.suffix == ".xml" else "discovery") / file.name)
    expected = {**before, **index}
    old.write_text(json.dumps(expected, indent=1, ensure_ascii=False) + "\n")
    print(f"{len(expected)} recordings, {sum(one.stat().st_size for one in (to / 'captures').iterdir()):,} bytes")


main()
