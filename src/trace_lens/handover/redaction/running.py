"""Running text: what has a form in it by that form, the rest word by word."""

from __future__ import annotations

import re
from collections.abc import Callable

from trace_lens.common.expressions import expression
from trace_lens.handover.redaction.encodings import is_wrapped, spread
from trace_lens.handover.redaction.places import PASSWORD, TOKEN
from trace_lens.handover.redaction.rewriting import Rewrites
from trace_lens.handover.redaction.words import Words

_HOST = r"(?:[A-Za-z0-9_](?:[A-Za-z0-9_-]*[A-Za-z0-9])?\.)+[A-Za-z]{2,24}"
_MONTH = "Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec"
_MOMENT = (
    r"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?"
    rf"|\d{{1,2}}[ /-](?:{_MONTH})[ /-]\d{{4}}(?:[: ]\d\d:\d\d:\d\d)?(?: ?(?:GMT|UTC|[+-]\d{{4}}))?"
    r"|\d{1,2}:\d\d:\d\d(?:[.,]\d+)?|\d{1,2}[./]\d{1,2}[./]\d{4}"
)
_IN_WORDS = expression(
    rf"(?P<moment>\b(?:{_MOMENT})\b)"
    r"|(?P<pem>-----BEGIN [A-Z0-9 ]+-----.*?(?:-----END [A-Z0-9 ]+-----|\Z))"
    r"|(?P<url>\b[A-Za-z][A-Za-z0-9+.-]{1,30}://[^\s<>\"'`|\\^]+)"
    r"|(?P<jwt>(?<![A-Za-z0-9_-])eyJ[A-Za-z0-9_-]{6,}+\.[A-Za-z0-9_.=-]++)"
    r"|(?P<phone>(?<![\w.:/-])(?:(?:\+\d|\(?0\d)[\d ()/-]{5,24}\d|\d{2,3}(?:[ -]\d{2,3}){3,8})(?![\w.:-]))"
    rf"|(?P<mail>(?<![^\s<>\"'(),;:=&|\[\]])[^\s<>\"'(),;:=&|\[\]@]{{1,200}}+@{_HOST})"
    r"|(?P<v4>(?<![\w.])\d{1,3}(?:\.\d{1,3}){3}(?![\w.]))"
    r"|(?P<v6>(?<![\w:])(?:[0-9A-Fa-f]{0,4}:){2,7}[0-9A-Fa-f]{0,4}(?![\w:]))"
    r"|(?P<named>(?i:\b(?:password|passwd|passphrase|passcode|pwd|client_?secret|secret|api_?key|otp|pin))"
    r"(?:\"?\s{0,3}(?:=|:)\s{0,3}|\s+(?:is|was)\s+)(?P<secret>\"[^\"]*\"?|'[^']*'?|[^\s\"'&;,<>]+))"
    r"|(?P<bearer>(?i:\b(?:bearer|basic|dpop|negotiate|digest))\s+(?P<credential>[A-Za-z0-9._~+/=-]{6,}))"
    rf"|(?P<host>(?<![\w@.-]){_HOST}(?![\w@]))"
    r"|(?P<form>(?<![\w=.\-\[\]%])[\w.\-\[\]%]{1,80}=[^\s&<>\"']++(?:&[\w.\-\[\]%]{1,80}=[^\s&<>\"']*+)++)"
    r"|(?P<pair>(?<![\w=])[\w.\-]{1,60}=(?=[^\s=])"
    r"(?P<value>(?:[A-Za-z0-9+/_%-]{40,}+\r?\n[>| \t]*+)++[A-Za-z0-9+/_%-]*+={0,2}"
    r"|[^\s&<>\"',;]+))"
    r"|(?P<wrapped>(?<![A-Za-z0-9+/_-])(?:[A-Za-z0-9+/_-]{40,}+\r?\n[>| \t]*+)++[A-Za-z0-9+/_-]*+={0,2})"
    r"|(?P<escaped>(?<![^\s<>\"'])(?:[^\s<>\"'%]++|%(?![0-9A-Fa-f]{2}))*+%[0-9A-Fa-f]{2}[^\s<>\"']*+)"
    r"|(?P<blob>[A-Za-z0-9+/_-]{24,}+={0,2})"
    r"|(?P<path>(?<![\w/])/[^\s<>\"'`|\\^,;()]+)"
    r"|(?P<word>[^\W_](?:[\w~'’-]*\w)?)",
    re.DOTALL,
)
_ENDS = ".,;:!?)]}'\""
_SAID_OF_SECRETS = frozenset(
    {"is", "was", "not", "wrong", "expired", "invalid", "incorrect", "missing", "required", "has", "must", "the", "a"}
)
_DOTS = 2
"""A token that somebody signed has so many dots."""
_SHORTEST_NUMBER = 7
"""Digits of the shortest number that one can call."""


class RunningText:
    """Rewrites running text."""

    def __init__(self, words: Words, rewrites: Rewrites) -> None:
        self._words, self._rewrites = words, rewrites

    def words(self, text: str, depth: int = 0) -> str:
        """Running text: what has a form in it by that form, the rest word by word."""
        return _IN_WORDS.sub(lambda match: self._found(match, depth), text)

    def _found(self, match: re.Match[str], depth: int) -> str:
        kind, text = match.lastgroup or "", match[0]
        if match["named"]:
            start = match.start("secret") - match.start()
            secret = match["secret"].strip("\"'")
            if secret.casefold() in _SAID_OF_SECRETS:
                return text
            return text[:start] + text[start:].replace(secret, self._words.secret(secret, PASSWORD)) if secret else text
        if match["bearer"]:
            start = match.start("credential") - match.start()
            return text[:start] + self._rewrites.credential(text.split()[0], match["credential"], depth)
        if match["pair"]:
            start = match.start("value") - match.start()
            value, ending = _ended(text[start:])
            name = text[: start - 1]
            if "\n" in value:
                return f"{self._rewrites.key(name)}={self._wrapped(value, name, depth)}{ending}"
            return f"{self._rewrites.key(name)}={self._rewrites.encoded(value, name, depth + 1)}{ending}"
        bare, ending = _ended(text) if kind in ("url", "path", "escaped", "form") else (text, "")
        simple: dict[str, Callable[[str], str]] = {
            "moment": str,
            "phone": self._phone,
            "mail": self._words.person,
            "v4": self._words.address,
            "v6": self._v6,
            "host": self._words.host_in_words,
            "word": self._words.token,
            "pem": self.pem,
        }
        if kind in simple:
            return simple[kind](text)
        if kind == "wrapped":
            return self._wrapped(text, "", depth)
        if kind == "jwt":
            bare = text.rstrip(".") if text.count(".") > _DOTS else text
            return (self._rewrites.token(bare, "", depth) or self._words.secret(bare, TOKEN)) + text[len(bare) :]
        if kind == "blob":
            return self._rewrites.in_base64(text, "", depth) or self._words.token(text)
        if kind == "escaped":
            return self._rewrites.encoded(bare, "", depth + 1) + ending
        if kind == "form":
            return self._rewrites.query(bare, depth + 1) + ending
        return (self._rewrites.address(bare, "", depth + 1) or self._words.token(bare)) + ending

    def _wrapped(self, text: str, name: str, depth: int) -> str:
        """A value over several lines, where they are those of one; else line by line."""
        if is_wrapped(text):
            bare = re.sub(r"[\s>|]+", "", text)
            made = self._rewrites.under(bare, name, depth + 1)
            return text if made == bare else spread(made, text)
        return "\n".join(self._rewrites.under(line, name, depth + 1) for line in text.split("\n"))

    def _phone(self, text: str) -> str:
        digits = sum(map(str.isdigit, text))
        if digits < _SHORTEST_NUMBER or (text.isdigit() and self._words.kept.keeps_word(text)):
            return text
        return self._words.note("number", text, re.sub(r"\d+", lambda match: self._words.whole_run(match[0]), text))

    def _v6(self, text: str) -> str:
        return self._words.address(text) if text.count(":") > 1 and re.search(r"[0-9A-Fa-f]", text) else text

    def pem(self, text: str) -> str:
        """A certificate stays, as does a public key; of anything else in PEM nothing does."""
        if re.match(r"-----BEGIN (?:X509 |TRUSTED )?(?:CERTIFICATE|PUBLIC KEY|RSA PUBLIC KEY)-----", text):
            return text
        first, _, rest = text.partition("\n")
        body, dashes, end = rest.partition("-----END")
        lines = [self._words.substitutes.secret(line) for line in body.split("\n")]
        return self._words.note("private-key", text, f"{first}\n" + "\n".join(lines) + dashes + end)


def _ended(text: str) -> tuple[str, str]:
    """A text without the marks that end the sentence it stands in, and these."""
    bare = text.rstrip(_ENDS)
    return bare, text[len(bare) :]
