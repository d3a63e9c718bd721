"""A description proposed for a log file that none is on record for: format, columns by name and by content, time form.

Every guess is drawn from a sample, and what was guessed is said; the user reads the proposal before it is saved.
"""

from __future__ import annotations

import ipaddress
import json
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from trace_lens.common.octets import as_utf8
from trace_lens.common.secrets_in_text import without_secrets
from trace_lens.common.toml import fill, inline_item
from trace_lens.logs.event import FAILURE, SUCCESS
from trace_lens.logs.formats.events import OWN_FIELDS
from trace_lens.logs.formats.records import OCSF_AUTHENTICATION, Record, sniffed
from trace_lens.logs.formats.times import NoTime, TimeForm, TimeReader
from trace_lens.logs.kept_ids import is_secret_column

_NAMES: dict[str, str] = {
    "time": r"time|date|when|stamp|(?:^|_)at$|created|occurred",
    "user": r"user|account|login|principal|who|e-?mail|subject|upn|person",
    "app": r"app|target|service|resource|client|relying|audience|system",
    "outcome": r"result|outcome|status|success|decision",
    "code": r"code|errno|error.?(?:no|number)",
    "reason": r"reason|message|detail|descr|note|text|failure",
    "ip": r"(?:^|[^a-z])ip(?:$|[^a-z])|address|^from$|source|remote|peer",
}
_IDS = re.compile(
    r"request|correlation|session|trace|transaction|(?:^|[_.\-])s?ids?(?:\.\d+)?$|uuid|guid", re.IGNORECASE
)
_GOOD = re.compile(r"^(?:succe|ok$|grant|allow|accept|pass|true$|yes$|permit|complete)", re.IGNORECASE)
_POOR = re.compile(
    r"^(?:fail|den|err|inval|reject|block|lock|false$|no$|refus|unauth|timeout|expired|abort)", re.IGNORECASE
)
_EMAIL = re.compile(r"(?<![^@\s])[^@\s]++@(?=[^@\s]+?\.[^@\s])[^@\s]++")
_LOGIN = re.compile(r"[A-Za-z][\w.\-]{1,40}(?:\\[\w.\-]+)?")
_GUID = re.compile(
    r"\{?[0-9A-Fa-f]{8}-(?:[0-9A-Fa-f]{4}-){3}[0-9A-Fa-f]{12}\}?|_?[0-9A-Fa-f]{16,64}"
    r"|[\w-]{20,}|(?=[\w-]*\d)[\w-]{12,}"
)
_CODE = re.compile(r"[A-Z]{0,6}[-_]?\d{2,7}|0x[0-9A-Fa-f]+")
_MOST_WORDS = 12


class Column(NamedTuple):
    """One column of a sample: how many rows fill it, how many values it has, and the most common of them."""

    name: str
    filled: int
    distinct: int
    examples: tuple[str, ...]
    values: tuple[str, ...]


class Proposal(NamedTuple):
    """What was made out: format, the column of each field, the form of the times, words of outcomes, and remarks."""

    form: str
    delimiter: str | None
    rows: str | None
    fields: dict[str, str]
    ids: tuple[str, ...]
    time: str
    zoneless: bool
    success: tuple[str, ...]
    failure: tuple[str, ...]
    remarks: tuple[str, ...]


def form_of(head: bytes) -> tuple[str, str | None, str | None]:
    """Format, delimiter and path of the rows, by the beginning of a decompressed file (some thousand octets)."""
    if head[:4] == b"PAR1":
        return "parquet", None, None
    text = as_utf8(head).decode("utf-8-sig", "replace")
    bare = text.lstrip()
    lines = [line for line in text.splitlines() if line.strip()]
    if bare[:1] in ("{", "["):
        return _json_form(bare, lines)
    if any(line.lower().startswith("#fields:") for line in lines[:20]):
        return "w3c", None, None
    if lines and re.match(r"(?:\d+ )?<\d{1,3}>\d ", lines[0]):
        return "syslog", None, None
    if lines and re.match(r"(?:\S+ )?\S+ \S+ \S+ \[[^\]]+\] \"[A-Z]+ \S+", lines[0]):
        return "combined", None, None
    return "csv", sniffed("\n".join(lines[:21]) + "\n"), None


def _json_form(bare: str, lines: Sequence[str]) -> tuple[str, str | None, str | None]:
    if bare[:1] == "[":
        return (
            (
                "ocsf"
                if f'"class_uid": {OCSF_AUTHENTICATION}' in bare or f'"class_uid":{OCSF_AUTHENTICATION}' in bare
                else "json"
            ),
            None,
            None,
        )
    read = [_object_in(line) for line in lines[:2]]
    first = read[0] if read else None
    if first is not None and ((len(read) == 2 and read[1] is not None) or not _holds_rows(first)):
        return ("ocsf" if first.get("class_uid") == OCSF_AUTHENTICATION else "jsonl"), None, None
    return "json", None, _array_in(bare)


def _object_in(line: str) -> dict[str, Any] | None:
    try:
        value = json.loads(line)
    except ValueError:
        return None
    return value if isinstance(value, dict) else None


def _holds_rows(value: Mapping[str, Any]) -> bool:
    """Whether a list of tables stands somewhere in a table."""
    for item in value.values():
        if isinstance(item, list) and item and isinstance(item[0], dict):
            return True
        if isinstance(item, dict) and _holds_rows(item):
            return True
    return False


def _array_in(text: str) -> str | None:
    """The path of the first array of objects in a JSON text that may be cut off."""
    path: list[str] = []
    for match in re.finditer(r'"((?:[^"\\]|\\.)*)"\s*:\s*(\{|\[\s*\{?)|(\})', text):
        if match[3]:
            if path:
                path.pop()
        elif match[2] == "{":
            path.append(match[1])
        elif match[2].endswith("{"):
            return ".".join([*path, match[1]])
    return None


def columns_of(records: Sequence[Record]) -> list[Column]:
    """The columns of a sample, tables within tables by their dotted paths, in the order in which they come."""
    found: dict[str, list[str]] = {}
    for record in records:
        for name, value in _flat(record.values):
            found.setdefault(name, []).append(value)
    made = []
    for name, values in found.items():
        filled = [value for value in values if value.strip() not in ("", "-")]
        common = Counter(filled).most_common(3)
        examples = tuple(dict.fromkeys(_shown(name, value) for value, _ in common))
        made.append(
            Column(name=name, filled=len(filled), distinct=len(set(filled)), examples=examples, values=tuple(filled))
        )
    return made


def _shown(column: str, value: str) -> str:
    """A value as an example of its column, what is secret hidden."""
    return "[secret]" if is_secret_column(column) else without_secrets(value)


def _flat(values: Mapping[str, Any], path: str = "") -> list[tuple[str, str]]:
    flat: list[tuple[str, str]] = []
    for name, value in values.items():
        here = f"{path}.{name}" if path else str(name)
        if isinstance(value, Mapping):
            flat += _flat(value, here)
        elif isinstance(value, list):
            flat += [
                (f"{here}.{n}", str(item)) for n, item in enumerate(value[:3]) if not isinstance(item, dict | list)
            ]
        elif value is not None:
            flat.append((here, str(value).lower() if isinstance(value, bool) else str(value)))
    return flat


def propose(form: str, delimiter: str | None, rows: str | None, records: Sequence[Record]) -> Proposal:
    """What a sample of records seems to hold."""
    columns = columns_of(records)
    own = OWN_FIELDS.get(form, {})
    fields: dict[str, str] = {}
    taken: set[str] = set()
    for field in ("time", "ip", "user", "outcome", "code", "app", "reason"):
        left = [(n, column) for n, column in enumerate(columns) if column.name not in taken]
        best = max(((_fit(field, column, len(records)), -n, column) for n, column in left), default=None)
        if best and best[0] >= 1.0:
            fields[field] = best[2].name
            taken.add(best[2].name)
    for name, path in own.items():
        if any(column.name == path for column in columns):
            fields[name] = path
    ids = tuple(
        column.name
        for column in columns
        if column.name not in fields.values() and _IDS.search(column.name) and _share(column.values, _GUID) > 0.7
    )
    said, zoneless = _time_form(next((column for column in columns if column.name == fields.get("time")), None))
    words = next((column for column in columns if column.name == fields.get("outcome")), None)
    listed = sorted(set(words.values)) if words else []
    remarks = _remarks(fields, zoneless, [] if form in ("w3c", "combined", "ocsf") else listed)
    return Proposal(
        form,
        delimiter if form == "csv" else None,
        rows,
        fields,
        ids,
        said,
        zoneless,
        tuple(word for word in listed if _outcome(word) == SUCCESS),
        tuple(word for word in listed if _outcome(word) == FAILURE),
        tuple(remarks),
    )


def _outcome(word: str) -> str | None:
    return SUCCESS if _GOOD.match(word) else FAILURE if _POOR.match(word) else None


def _share(values: Sequence[str], pattern: re.Pattern[str]) -> float:
    return sum(pattern.fullmatch(value.strip()) is not None for value in values) / len(values) if values else 0.0


def _fit(field: str, column: Column, rows: int) -> float:
    """How well a column fits a field: by its name (up to 1) and by its content (up to 1.5)."""
    if not column.filled:
        return 0.0
    called = column.name if field == "user" else column.name.rpartition(".")[2]
    name = 1.0 if re.search(_NAMES[field], called, re.IGNORECASE) else 0.0
    values = column.values[:200]
    few = column.distinct <= _MOST_WORDS and (column.distinct <= 3 or column.distinct <= rows // 3)
    content = {
        "time": lambda: 1.5 * sum(_is_time(value) for value in values) / len(values),
        "ip": lambda: 1.5 * sum(_is_ip(value) for value in values) / len(values),
        "user": lambda: max(1.2 * _share(values, _EMAIL), 0.4 * _share(values, _LOGIN)),
        "outcome": lambda: 1.2 if few and any(_outcome(value) for value in set(values)) else 0.0,
        "code": lambda: 0.8 * _share(values, _CODE),
        "app": lambda: 0.4 if column.distinct <= max(3, rows // 4) and not few else 0.2 if few else 0.0,
        "reason": lambda: 0.6 if sum(" " in value for value in values) > len(values) / 2 else 0.0,
    }[field]()
    if field in ("time", "ip") and content < 0.75:
        return 0.0
    if field == "outcome" and content == 0.0 and not few:
        return 0.0
    if field in ("app", "reason", "code") and name == 0.0:
        return content if content >= 1.0 else 0.0
    return name + content


def _is_time(text: str) -> bool:
    try:
        moment = TimeReader(TimeForm()).read(text)
    except NoTime:
        return False
    return 1990 < moment.year < 2100


def _is_ip(text: str) -> bool:
    try:
        ipaddress.ip_address(text.strip().split("%")[0])
    except ValueError:
        return False
    return True


def _time_form(column: Column | None) -> tuple[str, bool]:
    """How the times are written, in words, and whether they carry no zone."""
    if column is None:
        return "no column of times was made out", False
    text = column.values[0].strip()
    if re.fullmatch(r"\d{9,20}(?:\.\d+)?", text):
        digits = len(text.partition(".")[0])
        unit = (
            "seconds"
            if digits <= 11
            else "milliseconds"
            if digits <= 14
            else "microseconds"
            if digits <= 17
            else "nanoseconds"
        )
        return f"{unit} since 1970", False
    reader = TimeReader(TimeForm())
    for value in column.values[:50]:
        try:
            reader.read(value)
        except NoTime:
            continue
    return f"as {text}", reader.zoneless > 0


def _remarks(fields: Mapping[str, str], zoneless: bool, words: Sequence[str]) -> list[str]:
    found = []
    if "time" not in fields:
        found.append("no column of times was made out; [fields] time must be told")
    if zoneless:
        found.append("the times carry no zone: set time_zone, or they are read as UTC")
    unknown = [word for word in words if _outcome(word) is None][:6]
    if unknown:
        found.append(f"these words of the outcome were not understood: {', '.join(unknown)}")
    if "user" not in fields:
        found.append("no column of users was made out")
    return found


def as_toml(proposal: Proposal, name: str, files: str) -> str:
    """The proposal as a description, ready to be saved and corrected."""
    import tomlkit

    made = tomlkit.document()
    made.append("name", inline_item(name))
    made.append("role", tomlkit.item("provider").comment("provider, application or gateway: please check"))
    made.add(tomlkit.comment('provider = "…"    # or app = "…"; neither where the log covers several applications'))
    made.append("files", inline_item([files]))
    made.append("format", inline_item(proposal.form))
    if proposal.delimiter and proposal.delimiter != ",":
        made.append("delimiter", inline_item(proposal.delimiter))
    if proposal.rows:
        made.append("rows", inline_item(proposal.rows))
    if proposal.zoneless:
        made.add(tomlkit.comment('time_zone = "Europe/Oslo"    # the times carry none'))
    ids = {"ids": list(proposal.ids)} if proposal.ids else {}
    outcomes = {"success": list(proposal.success), "failure": list(proposal.failure)}
    fill(made, {"fields": {**proposal.fields, **ids}, **({"outcomes": outcomes} if any(outcomes.values()) else {})})
    return made.as_string()
