"""Messages of OpenID Connect and OAuth 2.0 inside a text: tokens, JSON documents, addresses, forms, headers.

A text is gone through once: JSON values first, then addresses and forms, then tokens that stand by themselves. What
stands inside another message (a token in a token response) is found too, and says within which. An opaque token is
never taken for a broken one: only where a parameter or member names it is it a token at all.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Iterator
from string import ascii_letters, digits
from urllib.parse import unquote

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.limits import Refused
from trace_lens.common.locations import NOWHERE, Location
from trace_lens.intake.effort import Effort, most_messages
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.layers import LENGTH
from trace_lens.intake.line_numbers import LineNumbers
from trace_lens.intake.markup import attributes, tags
from trace_lens.intake.oauth_json import MEMBERS, json_values
from trace_lens.intake.oauth_pieces import (
    NAMED,
    OPAQUE,
    TOKEN_MEMBERS,
    Piece,
    damaged,
    found_token,
    of_parameters,
    whole_token,
)
from trace_lens.intake.tokens_in_text import beginnings, is_whole, token_at
from trace_lens.oidc import parameters
from trace_lens.oidc.parameters import Parameters, read_parameters

_PLAIN_HINTS = (
    b"eyJ",
    b"grant_type=",
    b"logout_token=",
    b"post_logout_redirect_uri=",
    b'name="code"',
    b"name='code'",
    *(sign + name for sign in (b"?", b"&", b"#") for name in (b"code=", b"state=")),
)
_HINTS = (
    *((member, expression(member + rb"[\"']?\s*+[:=]")) for member in MEMBERS),
    (b"code", expression(rb"(?m)^[^\S\n]*+code(?:\s*+[:=]|[^\S\t]*+\t)")),
    (b"earer", expression(rb"(?i)authorization\s*+:\s*+bearer\s|^\s*+bearer\s")),
    (b"EARER", expression(rb"(?i)authorization\s*+:\s*+bearer\s|^\s*+bearer\s")),
)
"""An expression is tried only where the sign before it stands in the text: looking for that is far quicker."""
_BEARER = expression(
    r"^[> \t]*+(?:authorization[ \t]*+:[ \t]*+)?+bearer[ \t]++(?!eyJ)([\w.~+/-]{16,}+=*+)[ \t\r]*+$",
    re.IGNORECASE | re.MULTILINE,
)
_IN_SCHEME = ascii_letters + digits + "+.-"
_LONGEST_SCHEME = 41
_ADDRESS = expression(r"://?[^\s\"'<>`\\]++")
_REQUEST_LINE = expression(r"(?m)^[ \t]*+(?:GET|POST)[ \t]++(/\S*+)")
_FORM = expression(r"(?<![?&#\w.%=-])[A-Za-z_][\w.\-]*+=[^\s&\"'<>]*+(?:&[A-Za-z_][\w.\-]*+=[^\s&\"'<>]*+)*+")
_LISTED = expression(r"(?m)^[ \t]*+\"?(\w++)\"?(?:[ \t]*+[:=]| *+\t)[ \t]*+\"?(.++)$")


_HOST = expression(r"(?mi)^[> \t]*+host:\s*+(\S++)")


def hints_at_oidc(data: bytes) -> bool:
    """Whether it is worth looking: a cheap test that keeps other texts quick."""
    head = data[: limits.SOURCE_BYTES]
    return any(sign in head for sign in _PLAIN_HINTS) or any(
        sign in head and expression.search(head) is not None for sign, expression in _HINTS
    )


def oidc_in(data: bytes, told: list[str] | None = None) -> list[FoundMessage]:
    """Every message of OpenID Connect or OAuth 2.0 in a text, in order.

    What is not looked at because of a limit is told to `told`; without it, Refused is raised.
    """
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("utf-8", "replace")
    whole = whole_token(text)
    if whole:
        return whole
    pieces: list[Piece] = []
    most = most_messages(len(text))
    for finder in (_json, _html_forms, _addresses, _request_lines, _forms, _lists, _tokens, _opaque):
        further: list[Piece] = []
        try:
            for piece in finder(text):
                if piece.found:
                    further.append(piece)
                if len(further) > most:
                    raise Refused(f"it holds more than {most:,} messages; only the first of them were read")
        except Refused as limit:
            if told is None:
                raise
            told.append(str(limit))
        pieces = _beside(pieces, further)
    pieces = _without_cut_copies(pieces)
    found: list[FoundMessage] = []
    numbers = LineNumbers(text)
    for piece in pieces:
        base = len(found)
        line = numbers.at(piece.start)
        for message in piece.found:
            at = Location(line=line) if len(pieces) > 1 or line > 1 else NOWHERE
            place = at.then(message.where)
            within = None if message.within is None else message.within + base
            found.append(message._replace(where=place, within=within))
    return found


def _json(text: str) -> Iterator[Piece]:
    return json_values(text, _in_value)


def _in_value(text: str) -> list[FoundMessage]:
    data = text.encode("utf-8", "surrogatepass")
    return oidc_in(data) if hints_at_oidc(data) else []


def _beside(taken: list[Piece], further: list[Piece]) -> list[Piece]:
    """Pieces in order, with those of the further ones that overlap none of them and none before them."""
    if not taken or not further:
        return _apart(taken or further)
    kept: list[Piece] = []
    position = 0
    for piece in sorted(further, key=lambda item: item.start):
        while position < len(taken) and taken[position].end <= piece.start:
            position += 1
        if position == len(taken) or taken[position].start >= piece.end:
            kept.append(piece)
    return sorted([*taken, *_apart(kept)], key=lambda member: member.start)


def _apart(pieces: list[Piece]) -> list[Piece]:
    """The pieces in order, without those that begin before the one that was kept before them ends."""
    kept: list[Piece] = []
    for piece in sorted(pieces, key=lambda item: item.start):
        if not kept or kept[-1].end <= piece.start:
            kept.append(piece)
    return kept


def _without_cut_copies(pieces: list[Piece]) -> list[Piece]:
    """The pieces without a token that is only the beginning of another one in the same text: a paste that was cut, and
    then repeated whole.
    """
    texts = sorted({piece.found[0].data for piece in pieces if len(piece.found) == 1})
    if len(texts) < 2:
        return pieces
    kept = []
    for piece in pieces:
        data = piece.found[0].data
        if len(piece.found) > 1 or len(data) <= 40 or not _begins_another(data, texts) or not damaged(piece.found[0]):
            kept.append(piece)
    return kept


def _begins_another(data: bytes, texts: list[bytes]) -> bool:
    """Whether a longer one of some sorted texts begins as this one does, its last two characters left aside."""
    beginning = data[:-2]
    first = bisect_left(texts, beginning)
    near = texts[first : first + limits.COMPARED_PARTS]
    return any(len(other) > len(data) and other.startswith(beginning) for other in near)


def _html_forms(text: str) -> Iterator[Piece]:
    """The hidden fields of a page that posts itself (Form Post Response Mode)."""
    fields: list[tuple[str, str]] = []
    spans: list[int] = []
    for start, end in tags(text, "input"):
        told = attributes(text[start:end])
        if told.get("name"):
            fields.append((told["name"], told.get("value", "")))
            spans += [start, end]
    if fields:
        forms = (attributes(text[start:end]) for start, end in tags(text, "form"))
        action = next((form["action"] for form in forms if form.get("action")), None)
        found = Parameters(tuple(fields), "form", action)
        yield Piece(min(spans), max(spans), list(of_parameters(found, NOWHERE, ("html-form",))))


def _addresses(text: str) -> Iterator[Piece]:
    behind = 0
    for match in _ADDRESS.finditer(text):
        before = text[max(behind, match.start() - _LONGEST_SCHEME) : match.start()]
        scheme = before[len(before.rstrip(_IN_SCHEME)) :].lstrip(digits + "+.-")
        if scheme:
            start = match.start() - len(scheme)
            yield Piece(start, match.end(), list(_in_address(text[start : match.end()].rstrip(".,;)"))))
            behind = match.end()


def _request_lines(text: str) -> Iterator[Piece]:
    """The first line of an HTTP request, its host from the header below it."""
    for match in _REQUEST_LINE.finditer(text):
        host = _HOST.search(text, match.end(), match.end() + 2000)
        address = f"https://{host[1]}{match[1]}" if host else match[1]
        yield Piece(match.start(1), match.end(1), list(_in_address(address)))


def _in_address(address: str) -> Iterator[FoundMessage]:
    if "&amp;" in address:
        from html import unescape

        address = unescape(address)
    plain, hash_, fragment = address.partition("#")
    base, _, query = plain.partition("?")
    for carried, text in (("query", query), ("fragment", fragment if hash_ else "")):
        if "=" in text:
            found = read_parameters(text, carried, base)
            if parameters.kind_of(found) is None and "%3D" in text:
                found = read_parameters(unquote(text), carried, base)
            for parameter in of_parameters(found, NOWHERE):
                yield parameter._replace(context={**parameter.context, LENGTH: str(len(address))})


def _forms(text: str) -> Iterator[Piece]:
    """Bodies of forms: names and values joined by ampersands."""
    for match in _FORM.finditer(text):
        found = read_parameters(match[0], "form")
        if parameters.kind_of(found) and (len(found.pairs) > 1 or found.get("logout_token")):
            yield Piece(match.start(), match.end(), list(of_parameters(found, NOWHERE)))


def _lists(text: str) -> Iterator[Piece]:
    """Parameters as a network panel lists them, one a line."""
    lines = [match for match in _LISTED.finditer(text) if match[1] in parameters.KNOWN]
    group: list[re.Match[str]] = []
    for match in [*lines, None]:
        if match and (not group or match.start() - group[-1].end() <= 2):
            group.append(match)
            continue
        if len(group) > 1:
            found = parameters.listed((match[1], _listed_value(match[2])) for match in group)
            yield Piece(group[0].start(), group[-1].end(), list(of_parameters(found, NOWHERE)))
        group = [match] if match else []


def _listed_value(text: str) -> str:
    """A value without the comma, the quote and the blanks that may end its line."""
    return text.rstrip(" \t\r").removesuffix(",").removesuffix('"')


def _tokens(text: str) -> Iterator[Piece]:
    """Tokens that stand by themselves: in a header, a cookie, a log line, a ticket."""
    behind = 0
    effort = Effort(text)
    broken = 0
    for start in beginnings(text):
        if start < behind:
            continue
        read = token_at(text, start, effort)
        behind = read.end
        before = text[max(0, start - 40) : start]
        named = re.search(r"(?<![\w.\-])([\w.\-]++)[\"']?\s*+[=:]\s*+[\"']?$", before)
        name = named[1] if named and named[1] in TOKEN_MEMBERS else ""
        token = found_token(read.text, Location(field=named[1]) if named else NOWHERE, (), name)
        broken += token is not None and token.kind == "jwt" and not is_whole(read.text)
        if broken > limits.BARREN_PARTS:
            raise Refused(
                f"more than {limits.BARREN_PARTS:,} tokens in it are cut or damaged; later ones were not read"
            )
        if token and token.data.count(b".") >= 1:
            yield Piece(start, max(read.end, start + 1), [token._replace(repairs=read.repairs)])


def _opaque(text: str) -> Iterator[Piece]:
    """Access tokens that are no JWT, as a header carries them (RFC 6750 §2.1)."""
    for match in _BEARER.finditer(text):
        context = {NAMED: "access_token", OPAQUE: "yes"}
        token = FoundMessage(
            kind="access-token",
            data=match[1].encode(),
            layers=(),
            repairs=(),
            where=Location(field="Authorization"),
            context=context,
        )
        yield Piece(match.start(1), match.end(1), [token])
