"""A file that is no browser's export, rewritten by what it is: markup, JSON, a dump of heads, a table, settings."""

from __future__ import annotations

import csv
import io
import quopri
import re
from collections.abc import Collection, Iterator
from typing import Literal

from trace_lens.common.expressions import expression
from trace_lens.handover.redaction import markup
from trace_lens.handover.redaction.encodings import is_wrapped
from trace_lens.handover.redaction.places import PERSON, place_of
from trace_lens.handover.redaction.texts import Texts
from trace_lens.intake.pasted import unseen, without_dumps
from trace_lens.logs.formats.delimited import sniffed

_HEADER = re.compile(
    r"^(?P<mark>[ \t]*(?:[<>*|#]{1,3}[ \t]+)?)(?P<name>:?[A-Za-z][A-Za-z0-9_-]*)(?P<colon>[ \t]*:[ \t]*)"
    r"(?P<value>[^\r\n]*)$",
    re.MULTILINE,
)
_KNOWN = expression(
    r"(?i)(?:set-)?cookie2?|(?:proxy-)?authorization|host|location|referer|origin|user-agent|date|server|via|etag"
    r"|accept(?:-\w+)*|content-\w+(?:-\w+)*|cache-control|connection|pragma|expires|vary|age|last-modified|allow"
    r"|www-authenticate|transfer-encoding|upgrade(?:-\w+)*|access-control-\w+(?:-\w+)*|sec-\w+(?:-\w+)*|x-\w+(?:-\w+)*"
    r"|strict-transport-security|keep-alive|dnt|te|:\w+|forwarded|from|link|refresh|priority"
)
_OPTION = re.compile(
    r"(?P<head>(?<=\s)(?P<option>-H|--header|-b|--cookie|-u|--user|-d|--data(?:-\w+)?|-F|--form|-A|--user-agent|-e"
    r"|--referer)(?:[ \t]+|=)\$?)(?P<quote>[\"'])(?P<value>(?:\\.|(?!(?P=quote)).)*)(?P=quote)",
    re.DOTALL,
)
_PEM = re.compile(r"-----BEGIN [A-Z0-9 ]+-----.*?(?:-----END [A-Z0-9 ]+-----|\Z)", re.DOTALL)
_WRAPPED = re.compile(
    r"(?<![A-Za-z0-9+/_.%-])(?:[A-Za-z0-9+/_.%-]{20,}+=*+[ \t]*+\r?\n[>| \t]*+)++[A-Za-z0-9+/_.%-]*+={0,2}"
)
_FIELD_BEFORE = expression(r"(?P<name>\b[\w.-]{1,60})(?P<sign>=|:[ \t]*)$")
_QUOTED_PAIR = expression(r"(?P<name>\b[\w.-]{1,60})=\"(?P<value>(?:\\.|[^\"\\])*)\"")
_JSON_START = expression(r"[{\[](?=\s*[\"{\[}])")
_FIELDS = expression(r"^#Fields:[ \t]*(.*)$", re.MULTILINE)
_COMBINED = expression(r"^(?P<ip>\S+) (?P<ident>\S+) (?P<user>\S+) (?=\[\d)", re.MULTILINE)


class FileCopy:
    """Rewrites whole files.

    `people` are the columns that descriptions of logs say hold people, `others` those that hold something else.
    """

    def __init__(self, texts: Texts, people: Collection[str] = (), others: Collection[str] = ()) -> None:
        self._texts = texts
        self._people = frozenset(people)
        self._others = frozenset(others) - self._people

    def of(self, data: bytes, name: str, form: str = "") -> bytes:
        """A file's copy, in the same encoding. `form` is the format of a log, where it is one."""
        encoding, mark = _encoding_of(data)
        text = data[len(mark) :].decode(encoding, "surrogateescape")
        return mark + self.text(text, name, form).encode(encoding, "surrogateescape")

    def text(self, text: str, name: str, form: str = "") -> str:
        """A file's text."""
        if form == "csv":
            return self.table(text)
        if form == "w3c":
            return self._extended_log(text)
        if form in ("jsonl", "ocsf", "syslog", "combined", "pairs") or name.endswith((".jsonl", ".ndjson", ".log")):
            return "".join(map(self.line, text.splitlines(keepends=True)))
        if name.endswith(".toml"):
            return self.settings(text)
        if name.endswith((".ldif", ".ldf")):
            return self._directory(text)
        if "=3D" in text and _SOFT_BREAK.search(text):
            plain = quopri.decodestring(text.encode("utf-8", "surrogateescape")).decode("utf-8", "surrogateescape")
            return quopri.encodestring(self.dump(plain).encode("utf-8", "surrogateescape")).decode("ascii", "replace")
        text = without_dumps(text)
        plainer = next(unseen(text.encode("utf-8", "surrogateescape")), None)
        text = plainer.data.decode("utf-8", "surrogateescape") if plainer else text
        head = text.lstrip("\ufeff \t\r\n")[:1]
        if head in "<{[" or _one_word(text):
            return self._texts.under(text)
        return self.dump(text)

    # running text

    def dump(self, text: str) -> str:
        """Heads of requests and answers, commands, a mail: each header field and option by its name."""
        made, position = [], 0
        for start, end, replaced in self._in_dump(text):
            made += [self._rest(text[position:start]), replaced]
            position = end
        return "".join([*made, self._rest(text[position:])])

    def _in_dump(self, text: str) -> Iterator[tuple[int, int, str]]:
        position = 0
        ahead: dict[re.Pattern[str], re.Match[str] | None] = dict.fromkeys((_PEM, _HEADER, _OPTION, _WRAPPED))
        while position < len(text):
            for form, match in list(ahead.items()):
                if match is None or match.start() < position:
                    found = form.search(text, position)
                    if found is None:
                        del ahead[form]
                    else:
                        ahead[form] = found
            there = [match for match in ahead.values() if match is not None]
            if not there:
                return
            match = min(there, key=lambda item: (item.start(), not self._fits(item), -item.end()))
            made = self._of_match(match, text)
            if made is not None:
                yield match.start(), match.end(), made
            if made is not None:
                position = max(match.end(), position + 1)
            else:
                line = text.find("\n", match.start())
                position = line + 1 if line >= 0 else len(text)

    def _fits(self, match: re.Match[str]) -> bool:
        return match.re is not _HEADER or _KNOWN.fullmatch(match["name"]) is not None

    def _of_match(self, match: re.Match[str], text: str) -> str | None:
        if match.re is _PEM:
            return self._texts.pem(match[0])
        if match.re is _HEADER:
            if not _KNOWN.fullmatch(match["name"]):
                return None
            return f"{match['mark']}{match['name']}{match['colon']}{self._texts.header(match['name'], match['value'])}"
        if match.re is _OPTION:
            return f"{match['head']}{match['quote']}{self._of_option(match['option'], match['value'])}{match['quote']}"
        if not is_wrapped(match[0]):
            return None
        before = _FIELD_BEFORE.search(text[max(0, match.start() - 80) : match.start()])
        return self._texts.wrapped(match[0], before["name"] if before else "")

    def _of_option(self, option: str, value: str) -> str:
        if option in ("-H", "--header"):
            name, colon, rest = value.partition(":")
            blank = rest[: len(rest) - len(rest.lstrip())]
            return f"{name}{colon}{blank}{self._texts.header(name, rest.lstrip())}"
        if option in ("-b", "--cookie"):
            return self._texts.header("cookie", value)
        if option in ("-u", "--user"):
            user, colon, password = value.partition(":")
            return f"{self._texts.under(user, 'client_id')}{colon}{self._texts.under(password, 'password')}"
        if option in ("-A", "--user-agent", "-e", "--referer"):
            return self._texts.header("user-agent" if option in ("-A", "--user-agent") else "referer", value)
        return self._texts.under(value, "")

    def _rest(self, text: str) -> str:
        """What stands between: JSON and markup in it as such, the rest as words."""
        made, position, failed = [], 0, 0
        for match in _JSON_START.finditer(text):
            if match.start() < position:
                continue
            end = _end_of_json(text, match.start())
            if end is None:
                failed += 1
                if failed > _MOST_TRIES:
                    break
                continue
            made += [self._words(text[position : match.start()]), self._texts.in_json(text[match.start() : end])]
            position = end
        return "".join([*made, self._words(text[position:])])

    def _words(self, text: str) -> str:
        if markup.looks_like(text):
            return self._texts.in_markup(text)
        if "&lt;" in text:
            return self._texts.in_escaped_markup(text)
        made, position = [], 0
        for match in _QUOTED_PAIR.finditer(text):
            made.append(self._texts.words(text[position : match.start()]))
            name = match["name"]
            name = "user" if name in self._people else "" if name in self._others else name
            made.append(f'{match["name"]}="{self._texts.under(match["value"], name)}"')
            position = match.end()
        return "".join([*made, self._texts.words(text[position:])])

    def line(self, text: str) -> str:
        """A line of a log."""
        if text.lstrip()[:1] == "{":
            return self._texts.in_json(text, people=self._people, others=self._others)
        user = _COMBINED.match(text)
        if user and place_of(user["user"]) is not None:
            lead = self._texts.words(f"{user['ip']} ") + self._texts.under(user["ident"], "user")
            return f"{lead} {self._texts.under(user['user'], 'user')} {self._rest(text[user.end() :])}"
        return self._rest(text)

    # tables

    def table(self, text: str) -> str:
        """Comma-separated values (RFC 4180): each cell by the name of its column."""
        sign = sniffed(text[:65536])
        rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=sign))
        if not rows:
            return text
        header = [cell.strip() for cell in rows[0]]
        ending = "\r\n" if "\r\n" in text[:65536] else "\n"
        target = io.StringIO(newline="")
        all_quoted = text.lstrip("\ufeff")[:1] == '"'
        quoting: Literal[0, 1] = csv.QUOTE_ALL if all_quoted else csv.QUOTE_MINIMAL
        writer = csv.writer(target, delimiter=sign, lineterminator=ending, quoting=quoting)
        for number, row in enumerate(rows):
            if number == 0:
                writer.writerow([self._texts.key(cell) for cell in row])
            else:
                writer.writerow(
                    [self._cell(cell, header[at] if at < len(header) else "") for at, cell in enumerate(row)]
                )
        return target.getvalue()

    def _cell(self, text: str, column: str) -> str:
        if column in self._people:
            return self._texts.under(text, "user")
        if column in self._others or _ERROR_CODE.fullmatch(column):
            return self._texts.under(text, "error")
        if ";" in text and place_of(column) == PERSON:
            return ";".join(self._texts.under(part, column) for part in text.split(";"))
        if ";" in text and "://" not in text:
            return ";".join(self._texts.under(part, "group") for part in text.split(";"))
        return self._texts.under(text, column)

    def _extended_log(self, text: str) -> str:
        """The extended log format: fields by the line that names them, parted by blanks."""
        names: list[str] = []
        made = []
        for line in text.splitlines(keepends=True):
            fields = _FIELDS.match(line)
            if fields:
                names = fields[1].split()
            if line.startswith("#") or not names:
                made.append(line if line.startswith("#") else self.line(line))
                continue
            body = line.rstrip("\r\n")
            cells = body.split(" ")
            done = [
                self._of_field(cell, names[at] if at < len(names) else "") if cell not in ("", "-") else cell
                for at, cell in enumerate(cells)
            ]
            made.append(" ".join(done) + line[len(body) :])
        return "".join(made)

    def _of_field(self, cell: str, name: str) -> str:
        if name in self._people or "username" in name:
            return self._texts.under(cell, "user")
        if "query" in name:
            return self._texts.query(cell)
        if "cookie" in name.casefold():
            return self._texts.header("cookie", cell.replace("+", " ")).replace(" ", "+")
        return self._texts.under(cell, "")

    # settings and directories

    def settings(self, text: str) -> str:
        """TOML: every text by its key; comments word by word."""
        made = []
        for line in text.splitlines(keepends=True):
            made.append(self._setting(line))
        return "".join(made)

    def _setting(self, line: str) -> str:
        key = re.match(r"\s*([\w.\"-]+)\s*=", line)
        name = key[1].strip('"').rpartition(".")[2] if key else ""

        def replaced(match: re.Match[str]) -> str:
            piece = match[0]
            if piece.startswith("#"):
                return self._texts.words(piece)
            value = piece[1:-1]
            if name in _OF_PEOPLE:
                made = self._texts.under(value, "owner" if name == "owner" else "")
            else:
                made = value if self._texts.is_on_record(value) else self._texts.under(value, name)
            return piece if made == value else f"{piece[0]}{made}{piece[-1]}"

        return _TOML_PIECE.sub(replaced, line)

    def _directory(self, text: str) -> str:
        """LDIF (RFC 2849): each value by its attribute."""

        def replaced(match: re.Match[str]) -> str:
            name = match["name"]
            value = self._texts.under(match["value"], "" if name in ("objectClass", "changetype") else name)
            return f"{name}{match['sign']}{value}"

        return _LDIF.sub(replaced, text)


_ERROR_CODE = expression(r"(?i)(?:\w+[ _.-])?code")
"""A column of a log that is called so holds codes of what went wrong, no authorization codes."""
_MOST_TRIES = 50
"""So many beginnings of JSON that are none are tried in one text."""
_SOFT_BREAK = expression(r"\S=\r?\n\S")
"""Where a line goes on in the next one, in quoted-printable (RFC 2045 §6.7)."""
_OF_PEOPLE = ("owner", "reason")
"""Keys of settings whose values are about people."""
_TOML_PIECE = expression(r"\"(?:\\.|[^\"\\])*\"|'[^']*'|#[^\n]*")
_LDIF = expression(r"^(?P<name>[A-Za-z][\w;.-]*)(?P<sign>::?[ ]?)(?P<value>[^\r\n]*(?:\r?\n [^\r\n]*)*)", re.MULTILINE)


def _one_word(text: str) -> bool:
    """Whether a text is one value by itself, be it wrapped into lines: a token, base64, an address, a form."""
    bare = text.strip()
    return (
        bool(bare)
        and not re.search(r"[ \t]", bare)
        and ("\n" not in bare or re.fullmatch(r"[A-Za-z0-9+/_\-\r\n]+={0,2}", bare) is not None)
    )


def _end_of_json(text: str, start: int) -> int | None:
    """Where a JSON value that begins at a place ends; None where none does."""
    import json

    try:
        return json.JSONDecoder(strict=False).raw_decode(text, start)[1]
    except (ValueError, RecursionError):
        return None


def _encoding_of(data: bytes) -> tuple[str, bytes]:
    """The encoding of a text, and its mark at the beginning."""
    for mark, encoding in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(mark):
            return encoding, mark
    return "utf-8", b""
