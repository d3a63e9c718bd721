"""A browser's export (HAR 1.2) copied in a stream: one entry at a time, the largest body at once and no more."""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from typing import BinaryIO

from trace_lens.handover.redaction import json_text
from trace_lens.handover.redaction.json_text import Member
from trace_lens.handover.redaction.places import KEPT, place_of
from trace_lens.handover.redaction.texts import Texts
from trace_lens.intake.har_exchange import is_static_media

_PIECE = 1 << 20
_KEPT = frozenset(
    [
        "mimeType",
        "httpVersion",
        "method",
        "statusText",
        "version",
        "startedDateTime",
        "_resourceType",
        "_fromCache",
        "_priority",
        "encoding",
        "pageref",
        "id",
        "_type",
        "type",
        "opcode",
        "sameSite",
        "expires",
        "connection",
        "_connectionId",
        "compression",
    ]
)
_KEPT_UNDER = frozenset({"creator", "browser"})
_LEFT_OUT = "left out of this copy"


class ExportCopy:
    """Rewrites the entries of an export, and what stands around them."""

    def __init__(self, texts: Texts) -> None:
        self._texts = texts

    def write(self, source: BinaryIO, target: BinaryIO) -> None:
        """Copy an export, piece by piece."""
        for piece in self._pieces(source):
            target.write(piece.encode("utf-8", "surrogatepass"))

    def _pieces(self, source: BinaryIO) -> Iterator[str]:
        """What is written: the entries whole, all else token by token."""
        names: list[str] = []
        kinds: list[str] = []
        name, waiting = "", False
        entry: list[str] = []
        depth_of_entry = 0
        for token in tokens_of(source):
            if entry:
                entry.append(token)
                if token in "{[":
                    depth_of_entry += 1
                elif token in "}]":
                    depth_of_entry -= 1
                    if depth_of_entry == 0:
                        yield self.entry("".join(entry))
                        entry = []
                        waiting = False
                continue
            if token == "{" and kinds[-1:] == ["["] and names[-1:] == ["entries"] and len(kinds) == _ENTRIES:
                entry, depth_of_entry = [token], 1
                continue
            if token in "{[":
                kinds.append(token)
                names.append(name)
                waiting = token == "{"
            elif token in "}]":
                if kinds:
                    kinds.pop()
                    name = names.pop()
                waiting = False
            elif token == ",":
                waiting = kinds[-1:] == ["{"]
            elif token == ":":
                waiting = False
            elif token[0] == '"' and waiting:
                name = json_text.string(token) or ""
            elif not token.isspace():
                token = json_text.rewritten(token, self._visit, name, tuple(names))
            yield token
        if entry:
            yield self.entry("".join(entry))

    def entry(self, text: str) -> str:
        """One entry, or what there is of it."""
        return json_text.rewritten(text, self._visit)

    def _visit(self, member: Member) -> str:
        text, name, above = member.text, member.name, member.above
        texts = self._texts
        if member.is_key:
            return texts.key(text)
        if name in _KEPT or not _KEPT_UNDER.isdisjoint(above):
            return text
        if member.is_number:
            return text if place_of(name) == KEPT or len(above) <= _OWN_DEPTH else texts.number(text, name)
        pair = member.beside.get("name", "")
        if name == "name" and ("value" in member.beside or "cookies" in above or "headers" in above):
            return texts.key(text)
        if name == "value" and "headers" in above:
            return texts.header(pair, text)
        if "cookies" in above:
            return self._of_cookie(name, text)
        if name == "text" and above[-1:] == ("content",):
            return self._body(member)
        if name == "text" and above[-1:] == ("postData",):
            return self._sent(member)
        if name == "serverIPAddress":
            return texts.words(text)
        return texts.under(text, "" if name in ("text", "data", "url", "title") else json_text.named_by(member))

    def _of_cookie(self, name: str, text: str) -> str:
        if name == "value":
            return self._texts.cookie_value(text)
        if name == "domain":
            dot = "." if text.startswith(".") else ""
            return dot + self._texts.host(text.lstrip("."))
        return self._texts.under(text, "")

    def _body(self, member: Member) -> str:
        """The body of an answer: a script, a style, an image or a font holds nothing that anybody needs."""
        media = member.beside.get("mimeType", "")
        if is_static_media(media):
            return _LEFT_OUT if member.text else ""
        if member.beside.get("encoding") == "base64":
            return self._texts.in_base64(member.text) or self._texts.secret(member.text, "body")
        return self._texts.under(member.text, "")

    def _sent(self, member: Member) -> str:
        media = member.beside.get("mimeType", "")
        if media.startswith("application/x-www-form-urlencoded"):
            return self._texts.query(member.text)
        if media.startswith("multipart/"):
            return self._texts.multipart(member.text)
        return self._texts.under(member.text, "")


_ENTRIES = 3
"""So many braces and brackets are open where an entry begins: the document, its log, the entries."""
_OWN_DEPTH = 8


def tokens_of(source: BinaryIO) -> Iterator[str]:
    """The tokens of JSON in a stream, each whole, whatever its size."""
    decoder = codecs.getincrementaldecoder("utf-8-sig")("replace")
    waiting, size = "", _PIECE
    while True:
        data = source.read(size)
        text = waiting + decoder.decode(data, not data)
        tokens = json_text.tokens(text)
        if not data:
            yield from tokens
            return
        waiting = tokens.pop() if tokens else ""
        if waiting[:1] != '"' and tokens and len(waiting) > _PIECE:
            yield waiting
            waiting = ""
        size = max(_PIECE, len(waiting))
        yield from tokens
