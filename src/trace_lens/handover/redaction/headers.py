"""Header fields, cookies, credentials and the parts of a form, each by its name."""

from __future__ import annotations

import base64
import binascii
import re
from urllib.parse import unquote

from trace_lens.common.expressions import expression
from trace_lens.handover.redaction.places import COOKIE, PASSWORD, SECRET, TOKEN, is_kept_header
from trace_lens.handover.redaction.rewriting import Rewrites
from trace_lens.handover.redaction.words import Words

_FILE_NAME = expression(r'(filename\*?=")([^"]*)"')
_PART = expression(
    r"(?P<head>Content-Disposition:[^\r\n]{0,1000}+\r?\n(?:[^\r\n]{1,1000}+\r?\n){0,20}+\r?\n)(?P<value>.*?)(?=\r?\n--|\Z)",
    re.DOTALL | re.IGNORECASE,
)
_NAME_OF_PART = expression(r'[; ]name="([^"]*+)"')
_CLEARED = {"", "deleted", "-", "null", "none"}
_PRODUCT = expression(r"(?P<product>[A-Za-z]+/[\d.]+)|[^\s]+")


class Headers:
    """Rewrites what stands in heads of requests and answers."""

    def __init__(self, words: Words, rewrites: Rewrites) -> None:
        self._words, self._rewrites = words, rewrites

    def credential(self, scheme: str, value: str, depth: int = 0) -> str:
        """What follows a scheme in Authorization (RFC 9110 §11.6.2)."""
        if scheme.casefold() == "basic":
            made = self._basic(value)
            if made is not None:
                return made
        return self._rewrites.token(value, "", depth) or self._words.secret(value, TOKEN)

    def _basic(self, value: str) -> str | None:
        """User and password (RFC 7617 §2): the user as wherever else, the password gone."""
        try:
            plain = base64.b64decode(value, validate=True).decode()
        except (binascii.Error, ValueError):
            return None
        user, colon, password = plain.partition(":")
        if not colon:
            return None
        kept = unquote(user) in self._words.kept.values
        made = user if kept else self._words.person(user)
        secret = self._words.secret(password, PASSWORD)
        return self._words.note(TOKEN, value, base64.b64encode(f"{made}:{secret}".encode()).decode())

    def multipart(self, text: str) -> str:
        """A form of several parts (RFC 7578): the value of each by its name, what is a file word by word."""

        def replaced(match: re.Match[str]) -> str:
            head = _FILE_NAME.sub(lambda named: f'{named[1]}{self._rewrites.under(named[2], "person")}"', match["head"])
            name = _NAME_OF_PART.search(match["head"])
            return head + self._rewrites.under(match["value"], name[1] if name else "")

        return _PART.sub(replaced, text)

    def header(self, name: str, value: str) -> str:
        """The value of a header field."""
        small = name.strip().casefold().lstrip(":")
        if is_kept_header(small):
            return value
        if small in ("cookie", "cookie2"):
            return "; ".join(self.cookie(pair) for pair in value.split("; "))
        if small == "set-cookie":
            return "\n".join(self._set_cookie(line) for line in value.split("\n"))
        if small in ("authorization", "proxy-authorization", "x-authorization"):
            scheme, blank, credential = value.partition(" ")
            return f"{scheme} {self.credential(scheme, credential)}" if blank else self._words.secret(value, TOKEN)
        if small in ("host", "authority", "x-forwarded-host"):
            host, colon, port = value.partition(":")
            return f"{self._words.host(host)}{colon}{port}"
        if small == "user-agent":
            return _PRODUCT.sub(lambda match: match[0] if match["product"] else self._rewrites.words(match[0]), value)
        if small in ("etag", "if-none-match", "x-csrf-token", "x-xsrf-token", "x-api-key", "x-auth-token"):
            return self._words.secret(value, SECRET)
        return self._rewrites.under(value, small)

    def cookie(self, pair: str) -> str:
        """A cookie's name and value: the name stays, the value goes, equal ones alike."""
        name, equals, value = pair.partition("=")
        if not equals:
            return self._words.secret(pair, COOKIE)
        return f"{self._rewrites.key(name)}={self.cookie_value(value)}"

    def cookie_value(self, value: str) -> str:
        """The value of a cookie."""
        bare = value.strip('"')
        return value.replace(bare, self._words.secret(bare, COOKIE)) if bare and bare not in _CLEARED else value

    def _set_cookie(self, line: str) -> str:
        first, *attributes = line.split(";")
        made = [self.cookie(first)]
        for attribute in attributes:
            name, equals, value = attribute.partition("=")
            small = name.strip().casefold()
            if small == "domain":
                dot = "." if value.startswith(".") else ""
                value = dot + self._words.host(value.lstrip("."))
            elif small == "path":
                value = self._rewrites.path_and_more(value, 0)
            elif equals and small not in ("expires", "max-age", "samesite", "priority", "version"):
                value = self._rewrites.words(value)
            made.append(f"{name}{equals}{value}")
        return ";".join(made)
