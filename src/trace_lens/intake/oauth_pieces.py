"""Messages of OAuth 2.0 by their parts: a token by what it is, parameters by what they say."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.limits import Refused
from trace_lens.common.locations import NOWHERE, Location
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.tokens_in_text import is_whole, token_at
from trace_lens.oidc import parameters
from trace_lens.oidc.jose import JoseDamaged, looks_encrypted, read_jws
from trace_lens.oidc.parameters import Parameters
from trace_lens.oidc.tokens import NoClaims, read_token

WHOLE = expression(r"eyJ[A-Za-z0-9_-]{8,}+(?:\.[A-Za-z0-9_-]*+){1,4}+=*+")


SEVERAL = expression(r"[\w-][\s\"'`,;]++eyJ")
"""A token begins after the end of another: a header starts with an opened brace, in base64url."""


NAMED = "named"
"""The key under which a message's context keeps the parameter or member that it stood in."""


CARRIED = "carried"
"""How parameters travelled: query, fragment, form or listed."""


ADDRESS = "address"
"""Where parameters were sent."""


OPAQUE = "opaque"
"""Set where an access token has no form that anybody but its maker could read."""


TOKEN_MEMBERS = (
    "id_token",
    "access_token",
    "refresh_token",
    "logout_token",
    "id_token_hint",
    "request",
    "assertion",
    "client_assertion",
)


class Piece(NamedTuple):
    start: int
    end: int
    found: list[FoundMessage]


def damaged(found: FoundMessage) -> bool:
    """Whether what was found is a token that is not there to its end."""
    return found.data[:3] == b"eyJ" and not is_whole(found.data.decode("utf-8", "replace"))


def whole_token(text: str) -> list[FoundMessage]:
    """A text that is one token, however it was wrapped, quoted or prefixed."""
    bare = re.sub(r"^\s*+(?:Authorization:\s*+)?Bearer\s++", "", text, flags=re.IGNORECASE)
    compact = re.sub(r"[\s\"'`>|,;“”‘’]++", "", bare)
    other = "+" in compact or "/" in compact
    if other and compact.startswith("eyJ"):
        compact = compact.replace("+", "-").replace("/", "_")
    if len(compact) > limits.TOKEN_CHARACTERS and compact.startswith("eyJ") and compact.count(".") in (2, 4):
        raise Refused(f"it is a token of {len(compact):,} characters; at most {limits.TOKEN_CHARACTERS:,} are read")
    if not WHOLE.fullmatch(compact) or text.count(".") > 4 or SEVERAL.search(text.strip()):
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
    token = found_token(compact, NOWHERE, ())
    return [token._replace(repairs=tuple(repairs))] if token else []


def member_at(path: str) -> Location:
    """The place of a member of a JSON document; that of the document itself where the path is empty."""
    return Location(field=f"member {path}") if path else NOWHERE


def found_token(text: str, where: Location, layers: tuple[str, ...], named: str = "") -> FoundMessage | None:
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


_OF_THE_TOKEN = ("aud", "exp", "iat", "nbf", "jti")


def _answer_in_token(found: Parameters) -> Parameters | None:
    """The answer of an authorization endpoint that came as a signed token in the parameter `response`, as parameters;
    None where there is none that can be read (JWT Secured Authorization Response Mode §2.1, §2.3). Its signature is not
    looked at here.
    """
    text = found.get("response") or ""
    if not WHOLE.fullmatch(text) or looks_encrypted(text):
        return None
    try:
        claims = read_token(read_jws(text)).claims
    except (JoseDamaged, NoClaims):
        return None
    if not {"code", "error", "access_token", "id_token"} & claims.keys():
        return None
    own = tuple((name, str(value)) for name, value in claims.items() if name not in _OF_THE_TOKEN)
    return found._replace(pairs=(*(pair for pair in found.pairs if pair[0] != "response"), *own))


def of_parameters(found: Parameters, where: Location, layers: tuple[str, ...] = ()) -> Iterator[FoundMessage]:
    """The message that parameters are, and the tokens among them."""
    found = _answer_in_token(found) or found
    kind = parameters.kind_of(found)
    if kind is None:
        return
    context = {CARRIED: found.carried, **({ADDRESS: found.address} if found.address else {})}
    layer = {"query": "address", "fragment": "fragment", "form": "form", "listed": "form"}[found.carried]
    own = layers or (layer,)
    tokens = [
        token._replace(context={**token.context, **context}, within=0)
        for name, value in found.pairs
        if name in TOKEN_MEMBERS and WHOLE.fullmatch(value)
        if (token := found_token(value, where.then(Location(field=f"parameter {name}")), own, name))
    ]
    if kind == parameters.LOGOUT_TOKEN_POST:
        yield from (token._replace(within=None) for token in tokens)
        return
    data = json.dumps(found.pairs, ensure_ascii=False).encode("utf-8", "surrogatepass")
    yield FoundMessage(kind=kind, data=data, layers=own, repairs=(), where=where, context=context)
    yield from tokens


def parameters_of(found: FoundMessage) -> Parameters:
    """The parameters of a message that travelled as such."""
    pairs = tuple((str(name), str(value)) for name, value in json.loads(found.data))
    return Parameters(pairs, found.context.get(CARRIED, "form"), found.context.get(ADDRESS))
