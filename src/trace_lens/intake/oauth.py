"""Messages of OpenID Connect and OAuth 2.0 inside a text: tokens, JSON documents, addresses, forms, headers.

A text is gone through once: JSON values first, then addresses and forms, then tokens that stand by themselves. What
stands inside another message (a token in a token response) is found too, and says within which. An opaque token is
never taken for a broken one: only where a parameter or member names it is it a token at all.
"""

from __future__ import annotations

import html
import json
import re
from bisect import bisect_left
from collections.abc import Iterator
from string import ascii_letters, digits
from typing import Any, NamedTuple
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
from trace_lens.intake.tokens_in_text import beginnings, is_whole, token_at
from trace_lens.oidc import documents, parameters
from trace_lens.oidc.jose import JoseDamaged, looks_encrypted, read_jws
from trace_lens.oidc.parameters import Parameters, read_parameters
from trace_lens.oidc.tokens import NoClaims, read_token

_PLAIN_HINTS = (
    b"eyJ",
    b"grant_type=",
    b"logout_token=",
    b"post_logout_redirect_uri=",
    b'name="code"',
    b"name='code'",
    *(sign + name for sign in (b"?", b"&", b"#") for name in (b"code=", b"state=")),
)
_MEMBERS = (
    b"access_token",
    b"id_token",
    b"client_id",
    b"jwks_uri",
    b"issuer",
    b"keys",
    b"kty",
    b"active",
    b"error",
    b"sub",
    b"refresh_token",
    b"request_uri",
)
_HINTS = (
    *((member, re.compile(member + rb"[\"']?\s*+[:=]")) for member in _MEMBERS),
    (b"code", re.compile(rb"(?m)^[^\S\n]*+code(?:\s*+[:=]|[^\S\t]*+\t)")),
    (b"earer", re.compile(rb"(?i)authorization\s*+:\s*+bearer\s|^\s*+bearer\s")),
    (b"EARER", re.compile(rb"(?i)authorization\s*+:\s*+bearer\s|^\s*+bearer\s")),
)
"""An expression is tried only where the sign before it stands in the text: looking for that is far quicker."""
_WHOLE = expression(r"eyJ[A-Za-z0-9_-]{8,}+(?:\.[A-Za-z0-9_-]*+){1,4}+=*+")
_SEVERAL = expression(r"[\w-][\s\"'`,;]++eyJ")
"""A token begins after the end of another: a header starts with an opened brace, in base64url."""
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
_TOKEN_MEMBERS = (
    "id_token",
    "access_token",
    "refresh_token",
    "logout_token",
    "id_token_hint",
    "request",
    "assertion",
    "client_assertion",
)
NAMED = "named"
"""The key under which a message's context keeps the parameter or member that it stood in."""
CARRIED = "carried"
"""How parameters travelled: query, fragment, form or listed."""
ADDRESS = "address"
"""Where parameters were sent."""
OPAQUE = "opaque"
"""Set where an access token has no form that anybody but its maker could read."""


_BEGINNINGS = (
    ('"jwks_uri"', documents.DISCOVERY),
    ('"keys"', documents.KEY_SET),
    ('"access_token"', documents.TOKEN_RESPONSE),
    ('"id_token"', documents.TOKEN_RESPONSE),
)


_DEEP = 4096
"""What a value costs that is nested too deep to be read, in characters."""
_BRACKET = expression(r"[{\[]\s*+[\"{\[\]}]")
_HOST = expression(r"(?mi)^[> \t]*+host:\s*+(\S++)")


class _Piece(NamedTuple):
    start: int
    end: int
    found: list[FoundMessage]


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
    pieces: list[_Piece] = []
    most = most_messages(len(text))
    for finder in (_json_values, _html_forms, _addresses, _request_lines, _forms, _lists, _tokens, _opaque):
        further: list[_Piece] = []
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


def _beside(taken: list[_Piece], further: list[_Piece]) -> list[_Piece]:
    """Pieces in order, with those of the further ones that overlap none of them and none before them."""
    if not taken or not further:
        return _apart(taken or further)
    kept: list[_Piece] = []
    position = 0
    for piece in sorted(further, key=lambda item: item.start):
        while position < len(taken) and taken[position].end <= piece.start:
            position += 1
        if position == len(taken) or taken[position].start >= piece.end:
            kept.append(piece)
    return sorted([*taken, *_apart(kept)], key=lambda member: member.start)


def _apart(pieces: list[_Piece]) -> list[_Piece]:
    """The pieces in order, without those that begin before the one that was kept before them ends."""
    kept: list[_Piece] = []
    for piece in sorted(pieces, key=lambda item: item.start):
        if not kept or kept[-1].end <= piece.start:
            kept.append(piece)
    return kept


def damaged(found: FoundMessage) -> bool:
    """Whether what was found is a token that is not there to its end."""
    return found.data[:3] == b"eyJ" and not is_whole(found.data.decode("utf-8", "replace"))


def _without_cut_copies(pieces: list[_Piece]) -> list[_Piece]:
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


def whole_token(text: str) -> list[FoundMessage]:
    """A text that is one token, however it was wrapped, quoted or prefixed."""
    bare = re.sub(r"^\s*+(?:Authorization:\s*+)?Bearer\s++", "", text, flags=re.IGNORECASE)
    compact = re.sub(r"[\s\"'`>|,;“”‘’]++", "", bare)
    other = "+" in compact or "/" in compact
    if other and compact.startswith("eyJ"):
        compact = compact.replace("+", "-").replace("/", "_")
    if len(compact) > limits.TOKEN_CHARACTERS and compact.startswith("eyJ") and compact.count(".") in (2, 4):
        raise Refused(f"it is a token of {len(compact):,} characters; at most {limits.TOKEN_CHARACTERS:,} are read")
    if not _WHOLE.fullmatch(compact) or text.count(".") > 4 or _SEVERAL.search(text.strip()):
        return []
    repairs = []
    if "\n" in text.strip():
        repairs.append("line wraps")
    if re.search(r"[\"'`>|“”‘’]", text):
        repairs.append("stray quotes or punctuation around it")
    if re.search(r"\S[ \t]++\S", bare.strip()) and "\n" not in bare.strip():
        repairs.append("blanks between the characters")
    if other:
        repairs.append("the standard alphabet of base64")
    if compact.endswith("="):
        compact = compact.rstrip("=")
        repairs.append("padding at the end")
    if not is_whole(compact) and "\n" in text.strip():
        begin = text.find("eyJ")
        within = token_at(text, begin) if begin >= 0 else None
        if within and is_whole(within.text):
            compact, repairs = within.text, [*within.repairs]
    token = _token(compact, NOWHERE, ())
    return [token._replace(repairs=tuple(repairs))] if token else []


def _member(path: str) -> Location:
    """The place of a member of a JSON document; that of the document itself where the path is empty."""
    return Location(field=f"member {path}") if path else NOWHERE


def _token(text: str, where: Location, layers: tuple[str, ...], named: str = "") -> FoundMessage | None:
    """A token by what it is: its kind from its own claims, `jwt` where it cannot be read."""
    context = {NAMED: named} if named else {}
    if looks_encrypted(text):
        return FoundMessage(kind="jwe", data=text.encode(), layers=layers, repairs=(), where=where, context=context)
    try:
        kind = read_token(read_jws(text)).kind
    except JoseDamaged:
        kind = named.replace("_", "-") if named in ("id_token", "access_token", "logout_token") else "jwt"
    except NoClaims:
        kind = "jwt"
    return FoundMessage(kind=kind, data=text.encode(), layers=layers, repairs=(), where=where, context=context)


def _json_values(text: str) -> Iterator[_Piece]:
    """JSON objects and lists that stand in the text; a whole text that begins as JSON and breaks off is kept too."""
    decoder = json.JSONDecoder()
    effort = Effort(text)
    position = 0
    while (start := _next_bracket(text, position)) >= 0:
        try:
            value, end = decoder.raw_decode(text, start)
        except (ValueError, RecursionError) as error:
            effort.spend(error.pos - start if isinstance(error, json.JSONDecodeError) else _DEEP)
            if start == len(text) - len(text.lstrip()) and (cut := _broken_document(text[start:])):
                yield _Piece(start, len(text), [cut])
                return
            position = start + 1
            continue
        found = list(_in_json(value, text[start:end]))
        if found:
            yield _Piece(start, end, found)
        position = end


def _next_bracket(text: str, position: int) -> int:
    match = _BRACKET.search(text, position)
    return match.start() if match else -1


def _broken_document(text: str) -> FoundMessage | None:
    """A document that plainly begins as one of those known, and cannot be read as JSON."""
    for member, kind in _BEGINNINGS:
        if member in text[:20_000]:
            return FoundMessage(kind, text.encode("utf-8", "surrogatepass"))
    return None


def _in_json(value: Any, text: str, path: str = "", depth: int = 0) -> Iterator[FoundMessage]:
    """The document that a JSON value is, and what stands in it, at any depth."""
    if depth > limits.JSON_DEPTH:
        return
    if isinstance(value, dict):
        joined = _json_token(value, path)
        if joined:
            yield joined
            return
        kind = documents.kind_of(value)
        if kind:
            raw = text if not path else json.dumps(value, ensure_ascii=False)
            yield FoundMessage(
                kind=kind,
                data=raw.encode("utf-8", "surrogatepass"),
                layers=("json",) if path else (),
                repairs=(),
                where=_member(path),
            )
            yield from _members(value, path)
            return
        if kind is None and len(value) >= 2 and parameters.kind_of(params := _as_parameters(value)):
            yield from _of_parameters(params, _member(path))
            return
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        here = f"{path}/{key}"
        if isinstance(inner, str) and len(inner) >= 20:
            yield from _in_text_value(inner, str(key), here)
        elif isinstance(inner, dict | list):
            yield from _in_json(inner, text, here, depth + 1)


def _in_text_value(inner: str, key: str, path: str) -> Iterator[FoundMessage]:
    if _WHOLE.fullmatch(inner):
        token = _token(inner, _member(path), ("json",), key)
        if token:
            yield token
        return
    for base, message in enumerate(
        oidc_in(inner.encode("utf-8", "surrogatepass")) if hints_at_oidc(inner.encode()) else ()
    ):
        yield message._replace(
            where=_member(path).then(message.where),
            within=None if base == 0 else message.within,
        )


def _json_token(value: dict[str, Any], path: str) -> FoundMessage | None:
    """A JWS or JWE in JSON form (RFC 7515 §7.2, RFC 7516 §7.2)."""
    place = _member(path)
    if "ciphertext" in value and "protected" in value:
        return FoundMessage(kind="jwe", data=json.dumps(value).encode(), layers=(), repairs=(), where=place)
    if "payload" in value and ("signature" in value or "signatures" in value):
        return _token(json.dumps(value), place, ())
    return None


def _members(value: dict[str, Any], path: str) -> Iterator[FoundMessage]:
    """The tokens that a document carries."""
    for name in _TOKEN_MEMBERS:
        inner = value.get(name)
        if isinstance(inner, str) and _WHOLE.fullmatch(inner):
            token = _token(inner, _member(f"{path}/{name}"), ("json",), name)
            if token:
                yield token._replace(within=0)


def _as_parameters(value: dict[str, Any]) -> Parameters:
    pairs = [
        (str(key), str(item))
        for key, item in value.items()
        if isinstance(item, str | int) and not isinstance(item, bool)
    ]
    return parameters.listed(pairs)


def _html_forms(text: str) -> Iterator[_Piece]:
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
        yield _Piece(min(spans), max(spans), list(_of_parameters(found, NOWHERE, ("html-form",))))


def _addresses(text: str) -> Iterator[_Piece]:
    behind = 0
    for match in _ADDRESS.finditer(text):
        before = text[max(behind, match.start() - _LONGEST_SCHEME) : match.start()]
        scheme = before[len(before.rstrip(_IN_SCHEME)) :].lstrip(digits + "+.-")
        if scheme:
            start = match.start() - len(scheme)
            yield _Piece(start, match.end(), list(_in_address(text[start : match.end()].rstrip(".,;)"))))
            behind = match.end()


def _request_lines(text: str) -> Iterator[_Piece]:
    """The first line of an HTTP request, its host from the header below it."""
    for match in _REQUEST_LINE.finditer(text):
        host = _HOST.search(text, match.end(), match.end() + 2000)
        address = f"https://{host[1]}{match[1]}" if host else match[1]
        yield _Piece(match.start(1), match.end(1), list(_in_address(address)))


def _in_address(address: str) -> Iterator[FoundMessage]:
    address = html.unescape(address) if "&amp;" in address else address
    plain, hash_, fragment = address.partition("#")
    base, _, query = plain.partition("?")
    for carried, text in (("query", query), ("fragment", fragment if hash_ else "")):
        if "=" in text:
            found = read_parameters(text, carried, base)
            if parameters.kind_of(found) is None and "%3D" in text:
                found = read_parameters(unquote(text), carried, base)
            for parameter in _of_parameters(found, NOWHERE):
                yield parameter._replace(context={**parameter.context, LENGTH: str(len(address))})


def _forms(text: str) -> Iterator[_Piece]:
    """Bodies of forms: names and values joined by ampersands."""
    for match in _FORM.finditer(text):
        found = read_parameters(match[0], "form")
        if parameters.kind_of(found) and (len(found.pairs) > 1 or found.get("logout_token")):
            yield _Piece(match.start(), match.end(), list(_of_parameters(found, NOWHERE)))


def _lists(text: str) -> Iterator[_Piece]:
    """Parameters as a network panel lists them, one a line."""
    lines = [match for match in _LISTED.finditer(text) if match[1] in parameters.KNOWN]
    group: list[re.Match[str]] = []
    for match in [*lines, None]:
        if match and (not group or match.start() - group[-1].end() <= 2):
            group.append(match)
            continue
        if len(group) > 1:
            found = parameters.listed((match[1], _listed_value(match[2])) for match in group)
            yield _Piece(group[0].start(), group[-1].end(), list(_of_parameters(found, NOWHERE)))
        group = [match] if match else []


def _listed_value(text: str) -> str:
    """A value without the comma, the quote and the blanks that may end its line."""
    return text.rstrip(" \t\r").removesuffix(",").removesuffix('"')


def _of_parameters(found: Parameters, where: Location, layers: tuple[str, ...] = ()) -> Iterator[FoundMessage]:
    """The message that parameters are, and the tokens among them."""
    kind = parameters.kind_of(found)
    if kind is None:
        return
    context = {CARRIED: found.carried, **({ADDRESS: found.address} if found.address else {})}
    layer = {"query": "address", "fragment": "fragment", "form": "form", "listed": "form"}[found.carried]
    own = layers or (layer,)
    tokens = [
        token._replace(context={**token.context, **context}, within=0)
        for name, value in found.pairs
        if name in _TOKEN_MEMBERS and _WHOLE.fullmatch(value)
        if (token := _token(value, where.then(Location(field=f"parameter {name}")), own, name))
    ]
    if kind == parameters.LOGOUT_TOKEN_POST:
        yield from (token._replace(within=None) for token in tokens)
        return
    data = json.dumps(found.pairs, ensure_ascii=False).encode("utf-8", "surrogatepass")
    yield FoundMessage(kind=kind, data=data, layers=own, repairs=(), where=where, context=context)
    yield from tokens


def _tokens(text: str) -> Iterator[_Piece]:
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
        name = named[1] if named and named[1] in _TOKEN_MEMBERS else ""
        token = _token(read.text, Location(field=named[1]) if named else NOWHERE, (), name)
        broken += token is not None and token.kind == "jwt" and not is_whole(read.text)
        if broken > limits.BARREN_PARTS:
            raise Refused(
                f"more than {limits.BARREN_PARTS:,} tokens in it are cut or damaged; later ones were not read"
            )
        if token and token.data.count(b".") >= 1:
            yield _Piece(start, max(read.end, start + 1), [token._replace(repairs=read.repairs)])


def _opaque(text: str) -> Iterator[_Piece]:
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
        yield _Piece(match.start(1), match.end(1), [token])


def parameters_of(found: FoundMessage) -> Parameters:
    """The parameters of a message that travelled as such."""
    pairs = tuple((str(name), str(value)) for name, value in json.loads(found.data))
    return Parameters(pairs, found.context.get(CARRIED, "form"), found.context.get(ADDRESS))
