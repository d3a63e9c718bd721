"""LDIF content records (RFC 2849): people and groups of a directory export. Change records and URLs are refused."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterator

from trace_lens.common.expressions import expression
from trace_lens.common.octets import as_utf8
from trace_lens.common.personal import person
from trace_lens.common.sentences import Person
from trace_lens.workspace.account_rows import AccountRow, ListError

Record = dict[str, list[str]]
_FIRST_RDN = expression(r"^[^=,+]+=((?:\\.|[^,+])*)")
_LOCKED = "pwdaccountlockedtime"


def read_people(data: bytes, attribute: str | None = None) -> list[AccountRow]:
    """Accounts; `attribute` names the one that holds the account's name, else `uid`. Raises ListError."""
    wanted = (attribute or "uid").lower()
    rows = []
    for line, record in records(data):
        name = _first(record, wanted)
        if not name:
            continue
        active = (_first(record, "active") or "true").lower() not in ("false", "no", "0") and _LOCKED not in record
        login = _first(record, "uid")
        rows.append(
            AccountRow(
                user=Person(name),
                line=line,
                email=person(_first(record, "mail")),
                login=person(login if login != name else None),
                id=person(_first(record, "entryuuid") or _first(record, "employeenumber")),
                active=active,
                groups=tuple(first_rdn(group) for group in record.get("memberof", ())),
            )
        )
    return rows


def read_groups(data: bytes) -> Iterator[tuple[tuple[str, ...], list[str]]]:
    """Each group's names (cn and distinguished name) with every name of its members. Raises ListError."""
    for _, record in records(data):
        named = [*record.get("member", ()), *record.get("uniquemember", ())]
        if not named and "memberuid" not in record:
            continue
        inside = [spelling for item in named for spelling in (item, first_rdn(item))]
        yield tuple(filter(None, (_first(record, "cn"), _first(record, "dn")))), [*inside, *record.get("memberuid", ())]


def first_rdn(name: str) -> str:
    """The value of the first part of a distinguished name (RFC 4514): `cn=grp-deck,ou=groups` → `grp-deck`."""
    match = _FIRST_RDN.match(name)
    return re.sub(r"\\(.)", r"\1", match[1]).strip() if match else name


def records(data: bytes) -> Iterator[tuple[int, Record]]:
    """Every record, attribute names in lower case and without options, with the line that it begins on."""
    record: Record = {}
    begin = 1
    for number, line in _unfolded(data):
        if not line:
            if set(record) - {"version"}:
                yield begin, record
            record = {}
            continue
        name, colon, value = line.partition(":")
        if not colon:
            raise ListError(f"{line[:40]!r} is no attribute of the form name: value", number)
        key = name.strip().split(";")[0].lower()
        if not set(record) - {"version"} and key != "version":
            begin = number
        if key == "changetype" and value.strip().lower() != "add":
            raise ListError("it holds changes, not the directory's content", number)
        record.setdefault(key, []).append(_value(value, number))
    if set(record) - {"version"}:
        yield begin, record


def _unfolded(data: bytes) -> Iterator[tuple[int, str]]:
    """Lines with their continuations joined (RFC 2849 §2 note 2), comments left out, and the number of each."""
    try:
        text = as_utf8(data).decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("cp1252", "replace")
    whole, begin = "", 0
    for number, line in enumerate(text.splitlines(), 1):
        if line.startswith(" ") and begin:
            whole += line[1:]
            continue
        if begin and not whole.startswith("#"):
            yield begin, whole
        whole, begin = line, number
    if begin and not whole.startswith("#"):
        yield begin, whole


def _value(text: str, line: int) -> str:
    if text.startswith("<"):
        raise ListError("a value is to be read from a URL, which is not done", line)
    if not text.startswith(":"):
        return text.strip(" ")
    try:
        return base64.b64decode(text[1:].strip(), validate=True).decode("utf-8", "replace")
    except (binascii.Error, ValueError):
        raise ListError("a value after :: is not base64", line) from None


def _first(record: Record, name: str) -> str | None:
    found = record.get(name, ())
    return next((value.strip() for value in found if value.strip()), None)
