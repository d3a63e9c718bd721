"""Records as events: one shape for what every system writes down of a sign-in.

What a description leaves out is taken from where the format itself keeps it (the header of syslog, date and time of the
extended format, the attributes of OCSF).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, BinaryIO

from trace_lens.common.expressions import expression
from trace_lens.common.secrets_in_text import without_secrets
from trace_lens.logs.event import FAILURE, FIELDS, OTHER, SUCCESS, Event
from trace_lens.logs.formats.records import records_of
from trace_lens.logs.formats.rows import BadRow, Record, bad_record, value_at
from trace_lens.logs.formats.times import NoTime, TimeForm, TimeReader
from trace_lens.logs.kept_ids import KeptIds
from trace_lens.workspace.log_sources import LogSource

OWN_FIELDS: dict[str, dict[str, str]] = {
    "syslog": {"time": "time", "app": "app-name", "reason": "message"},
    "pairs": {"time": "time"},
    "w3c": {"time": "date time", "user": "cs-username", "ip": "c-ip", "outcome": "sc-status", "code": "sc-status"},
    "combined": {
        "time": "time",
        "user": "user",
        "ip": "ip",
        "outcome": "status",
        "code": "status",
        "app": "vhost",
        "reason": "request",
    },
    "ocsf": {
        "time": "time",
        "user": "user.email_addr",
        "app": "service.name",
        "outcome": "status_id",
        "code": "status_code",
        "reason": "status_detail",
        "ip": "src_endpoint.ip",
    },
}
OWN_IDS = {"ocsf": ("session.uid", "metadata.correlation_uid", "metadata.uid")}
_OCSF_USER = ("user.email_addr", "user.name", "user.uid", "actor.user.email_addr", "actor.user.name")
_OCSF_OUTCOMES = {"1": SUCCESS, "2": FAILURE}


def rows_of(stream: BinaryIO, source: LogSource) -> Iterator[Record | BadRow]:
    """The records of a decompressed stream, read as a source is described. Raises Unreadable."""
    told = source.settings
    return records_of(stream, told.format, delimiter=told.delimiter, encoding=told.encoding, rows=told.rows)


def time_form(source: LogSource) -> TimeForm:
    """How a source writes its times."""
    told = source.settings
    return TimeForm(told.time_format, told.time_unit, source.zone, told.day_first)


def field_paths(source: LogSource) -> dict[str, str]:
    """The column or path of each field: as described, else the format's own.

    Without the time where that is written in several columns.
    """
    own = OWN_FIELDS.get(source.settings.format, {})
    told = {name: getattr(source.settings.fields, name) for name in FIELDS}
    return {name: path for name in FIELDS if isinstance(path := told[name] or own.get(name), str)}


def time_paths(source: LogSource) -> tuple[str, ...]:
    """The columns or paths that hold the time: as described, else the format's own; empty where nothing tells."""
    told = source.settings.fields.time or OWN_FIELDS.get(source.settings.format, {}).get("time") or ()
    return (told,) if isinstance(told, str) else tuple(told)


def time_at(values: Mapping[str, Any], paths: Sequence[str]) -> Any:
    """The time of a record as it is written: what stands in its column, or in several with a blank between."""
    if len(paths) == 1:
        return value_at(values, paths[0])
    parts = [text_of(value_at(values, path)) for path in paths]
    return " ".join(part for part in parts if part) if all(parts) else None


def events_of(
    source: LogSource, file: str, records: Iterator[Record | BadRow], reader: TimeReader, kept: KeptIds | None = None
) -> Iterator[Event | BadRow]:
    """The events of records, in their order; a record without a time that can be read is bad.

    Secrets in their reasons are hidden, and ids are as they are `kept`.
    """
    as_kept = (kept or KeptIds()).kept
    paths = field_paths(source)
    at = time_paths(source)
    ids = tuple(source.settings.fields.ids) or OWN_IDS.get(source.settings.format, ())
    words = {word.casefold(): SUCCESS for word in source.settings.outcomes.success}
    words |= {word.casefold(): FAILURE for word in source.settings.outcomes.failure}
    for record in records:
        if isinstance(record, BadRow):
            yield record
            continue
        try:
            moment = reader.read(time_at(record.values, at))
        except NoTime as error:
            yield bad_record(record, str(error))
            continue
        said = {name: text_of(value_at(record.values, path)) for name, path in paths.items() if name != "time"}
        if source.settings.format == "ocsf" and not source.settings.fields.user and said.get("user") is None:
            said["user"] = next((text for path in _OCSF_USER if (text := text_of(value_at(record.values, path)))), None)
        yield Event(
            source=source.id,
            file=file,
            line=record.line,
            time=moment,
            user=said.get("user"),
            app=said.get("app") or source.settings.app,
            outcome=outcome_of(said.get("outcome"), words, source.settings.format),
            code=said.get("code"),
            reason=without_secrets(reason) if (reason := said.get("reason")) else None,
            ip=client_address(address) if (address := said.get("ip")) else None,
            ids=tuple(as_kept(path, text) for path in ids if (text := text_of(value_at(record.values, path)))),
        )


_WITH_PORT = expression(r"(\d+\.\d+\.\d+\.\d+):\d+|\[([0-9A-Fa-f:.%]+)\](?::\d+)?")


def client_address(text: str) -> str:
    """The address of the client alone: of a list of forwarders the first, without brackets and port."""
    first = text.partition(",")[0].strip()
    match = _WITH_PORT.fullmatch(first)
    return (match[1] or match[2]) if match else first


def text_of(value: Any) -> str | None:
    """A value as text; None where it is empty or a dash."""
    if value is None or isinstance(value, dict | list):
        return None
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    text = str(value).strip()
    return None if text in ("", "-") else text


def outcome_of(word: str | None, words: Mapping[str, str], form: str) -> str:
    """`success`, `failure` or `other`: by the source's own words, else (a web server's status, OCSF) by rule."""
    if word is None:
        return OTHER
    told = words.get(word.casefold())
    if told:
        return told
    if form == "ocsf":
        return _OCSF_OUTCOMES.get(word, OTHER)
    if form in ("combined", "w3c") and not words and word.isdigit() and len(word) == 3:
        return SUCCESS if word < "400" else FAILURE
    return OTHER
