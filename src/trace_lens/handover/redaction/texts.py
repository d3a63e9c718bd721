"""A text rewritten through all that it is wrapped in: JSON, markup, tokens, base64, DEFLATE, percent-encoding, forms.

Each form is taken apart, its parts are rewritten by where they stand, and it is put together as it was. What has no
form is words. Whatever is not known to be harmless gets a stand-in, so that nothing need be recognised as a secret to
be gone.
"""

from __future__ import annotations

import base64
import binascii
import re
import zlib
from collections.abc import Callable
from functools import lru_cache
from urllib.parse import quote, unquote, unquote_to_bytes, urlsplit

from trace_lens.common import limits
from trace_lens.common.secret_names import JWK_PUBLIC
from trace_lens.handover.redaction import json_text, markup
from trace_lens.handover.redaction.kept import STANDARDS
from trace_lens.handover.redaction.places import (
    CODE,
    COOKIE,
    KEPT,
    PASSWORD,
    PERSON,
    PERSONAL,
    SECRET,
    SECRETS,
    TOKEN,
    is_kept_header,
    place_of,
)
from trace_lens.handover.redaction.words import Words
from trace_lens.oidc.jose import from_base64url, to_base64url
from trace_lens.oidc.tokens import code_challenge, half_hashes
from trace_lens.pki.certificates import certificate_or_none
from trace_lens.saml.artifact import is_artifact

_DEEPEST = 12
_JWT = re.compile(r"[A-Za-z0-9_=-]{4,}(?:\.[A-Za-z0-9_=+/-]*){1,4}")
_PAIR = re.compile(r"[^\s=&<>\"'{}]{1,120}=[^\s&<>\"]*+(?:&[^\s=&<>\"'{}]{0,120}(?:=[^\s&<>\"]*+)?)*+")
_ADDRESS = re.compile(r"[A-Za-z][A-Za-z0-9+.-]{0,30}:(?://)?[^\s]+")
_SCHEMES = frozenset(
    [
        "http",
        "https",
        "ws",
        "wss",
        "ldap",
        "ldaps",
        "ftp",
        "sftp",
        "custom",
        "app",
        "android-app",
        "ms-app",
        "blob",
        "view-source",
    ]
)
_BASE64 = re.compile(r"[A-Za-z0-9+/_\-]+={0,2}")
_HOST = r"(?:[A-Za-z0-9_](?:[A-Za-z0-9_-]*[A-Za-z0-9])?\.)+[A-Za-z]{2,24}"
_MONTH = "Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec"
_MOMENT = (
    r"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?"
    rf"|\d{{1,2}}[ /-](?:{_MONTH})[ /-]\d{{4}}(?:[: ]\d\d:\d\d:\d\d)?(?: ?(?:GMT|UTC|[+-]\d{{4}}))?"
    r"|\d{1,2}:\d\d:\d\d(?:[.,]\d+)?|\d{1,2}[./]\d{1,2}[./]\d{4}"
)
_IN_WORDS = re.compile(
    rf"(?P<moment>\b(?:{_MOMENT})\b)"
    r"|(?P<pem>-----BEGIN [A-Z0-9 ]+-----.*?(?:-----END [A-Z0-9 ]+-----|\Z))"
    r"|(?P<url>\b[A-Za-z][A-Za-z0-9+.-]{1,30}://[^\s<>\"'`|\\^]+)"
    r"|(?P<jwt>\beyJ[A-Za-z0-9_-]{6,}\.[A-Za-z0-9_.=-]+)"
    r"|(?P<phone>(?<![\w.:/-])\+?\(?\d[\d ()/-]{6,}\d(?![\w.:-]))"
    rf"|(?P<mail>[^\s<>\"'(),;:=&|\[\]]+@{_HOST})"
    r"|(?P<v4>(?<![\w.])\d{1,3}(?:\.\d{1,3}){3}(?![\w.]))"
    r"|(?P<v6>(?<![\w:])(?:[0-9A-Fa-f]{0,4}:){2,7}[0-9A-Fa-f]{0,4}(?![\w:]))"
    r"|(?P<named>(?i:\b(?:password|passwd|passphrase|passcode|pwd|client_?secret|secret|api_?key|otp|pin))"
    r"(?:\"?\s{0,3}(?:=|:)\s{0,3}|\s+(?:is|was)\s+)(?P<secret>\"[^\"]*\"?|'[^']*'?|[^\s\"'&;,<>]+))"
    r"|(?P<bearer>(?i:\b(?:bearer|basic|dpop|negotiate|digest))\s+(?P<credential>[A-Za-z0-9._~+/=-]{6,}))"
    rf"|(?P<host>(?<![\w@.-]){_HOST}(?![\w@]))"
    r"|(?P<form>[\w.\-\[\]%]{1,80}=[^\s&<>\"']+(?:&[\w.\-\[\]%]{1,80}=[^\s&<>\"']*)+)"
    r"|(?P<pair>(?<![\w=])[\w.\-]{1,60}=(?=[^\s=])(?P<value>[^\s&<>\"',;]+))"
    r"|(?P<escaped>[^\s<>\"']*%[0-9A-Fa-f]{2}[^\s<>\"']*)"
    r"|(?P<blob>[A-Za-z0-9+/_-]{24,}={0,2})"
    r"|(?P<path>(?<![\w/])/[^\s<>\"'`|\\^,;()]+)"
    r"|(?P<word>[^\W_](?:[\w~'’-]*\w)?)",
    re.DOTALL,
)
_ENDS = ".,;:!?)]}'\""
_CERTIFIED = {"X509Certificate", "x5c"}
_NAMES_OF_ATTRIBUTES = frozenset(
    [
        "Name",
        "FriendlyName",
        "name",
        "id",
        "for",
        "class",
        "type",
        "rel",
        "method",
        "enctype",
        "autocomplete",
        "lang",
        "charset",
        "http-equiv",
        "property",
        "role",
        "Algorithm",
        "Format",
        "NameFormat",
        "Method",
        "Binding",
        "Version",
        "use",
        "target",
        "style",
        "xmlns",
        "ProtocolBinding",
        "protocolSupportEnumeration",
    ]
)


class Texts:
    """Rewrites texts by one key; the same text under the same name always gives the same."""

    def __init__(self, words: Words) -> None:
        self._words = words
        self._made: dict[str, str] = {}
        """Values that were made from others by a hash, each with the same hash of the other's stand-in."""
        self.stand_ins: dict[bytes, bytes] = {}
        """The stand-ins of octets (signatures, digests, ciphertexts), each with what it is for."""
        self.kept_certificates = 0
        self._remembered = lru_cache(maxsize=50_000)(self._under)

    def hashes_follow(self, values: dict[str, str]) -> None:
        """Make the hashes of these values (each with the name it goes by) those of their stand-ins, wherever they are.

        Sources: RFC 7636 §4.2 (challenge), OpenID Connect Core §3.1.3.6, §3.3.2.11 (half hashes), RFC 9449 §4.2 (ath).
        """
        for value, name in values.items():
            stand_in = self.under(value, name)
            hashes = zip(
                (*half_hashes(value), code_challenge(value)),
                (*half_hashes(stand_in), code_challenge(stand_in)),
                strict=True,
            )
            self._made.update(hashes)

    def under(self, text: str, name: str = "", depth: int = 0) -> str:
        """A text that stands under a name."""
        if not text or text.isspace():
            return text
        if len(text) < _REMEMBERED:
            return self._remembered(text, name, depth)
        return self._under(text, name, depth)

    def _under(self, text: str, name: str, depth: int) -> str:
        bare = text.strip()
        place = place_of(name)
        if bare in self._made:
            return text.replace(bare, self._words.note("hash", bare, self._made[bare]))
        if place == KEPT:
            return text
        kept = self._words.kept
        if (place not in SECRETS or place == CODE) and bare in kept.values and not kept.people & {bare.casefold()}:
            return text
        if depth > _DEEPEST:
            return self._words.secret(text, "deep")
        lead = text[: len(text) - len(text.lstrip())]
        trail = text[len(text.rstrip()) :]
        return lead + self._of_form(bare, name, place, depth) + trail

    def _of_form(self, text: str, name: str, place: str, depth: int) -> str:
        for form in (self._json, self._markup, self._token, self._artifact):
            made = form(text, name, depth)
            if made is not None:
                return made
        if name.casefold() in ("signature", "signaturevalue") and _SIGNATURE.fullmatch(text):
            return self._base64_octets(text.replace(" ", "+"), "signature").replace("+", " " if " " in text else "+")
        if place in SECRETS:
            made = self.in_base64(text, name, depth) if place == TOKEN else None
            return made if made is not None else self._words.secret(text, place)
        if place == PERSONAL:
            return self._words.note("person", text, _EVERY_RUN.sub(lambda match: self._whole_run(match[0]), text))
        for form in (self._escaped, self._address, self._form, self.in_base64):
            made = form(text, name, depth)
            if made is not None:
                return made
        if place == PERSON:
            return self._words.person(text)
        return self.words(text, depth)

    def _whole_run(self, run: str) -> str:
        substitutes = self._words.substitutes
        return substitutes.number(run) if run.isdigit() else substitutes.word(run)

    # forms

    def _json(self, text: str, name: str, depth: int) -> str | None:
        if text[0] not in '{["' or (text[0] == '"' and (text[-1:] != '"' or len(text) < 2)):
            return None
        if text[0] != '"' and not re.match(r'[{\[]\s*+(?:["{\[\]}\-\d]|true|false|null|\Z)', text):
            return None
        return self.in_json(text, name, depth)

    def in_json(
        self,
        text: str,
        name: str = "",
        depth: int = 0,
        people: frozenset[str] = frozenset(),
        others: frozenset[str] = frozenset(),
    ) -> str:
        """JSON, as far as it goes.

        `people` are paths (names with a dot between) under which people stand, `others` those of something else.
        """

        def visit(member: json_text.Member) -> str:
            path = ".".join((*member.above, member.name)) if people or others else ""
            if path in people and not member.is_key:
                return self._words.person(member.text)
            if path in others and not member.is_key and not member.is_number:
                return self.under(member.text, "", depth + 1)
            return self._member(member, depth + 1)

        return json_text.rewritten(text, visit, name)

    def _member(self, member: json_text.Member, depth: int) -> str:
        if member.is_key:
            return self.key(member.text)
        name = json_text.named_by(member)
        if "kty" in member.beside:
            return member.text if member.name in JWK_PUBLIC else self._of_key(member)
        if member.is_number:
            return self.number(member.text, name)
        if member.name in ("name", "key") and "value" in member.beside:
            return self.key(member.text)
        if member.name == "x5c" or name in _CERTIFIED:
            return member.text
        return self.under(member.text, name, depth)

    def _of_key(self, member: json_text.Member) -> str:
        return member.text if member.is_number else self._words.secret(member.text, "private-key")

    def number(self, text: str, name: str) -> str:
        """A number in JSON: kept where it counts something, is short or may be a moment."""
        place = place_of(name)
        if place == KEPT or not text.isdigit():
            return text
        if place in (PERSON, PERSONAL) or place in SECRETS:
            return self._words.note(place, text, self._words.substitutes.number(text))
        if _COUNTS.search(name) or self._words.kept.keeps_word(text) or text in self._words.kept.values:
            return text
        return self._words.note("id", text, self._words.substitutes.number(text))

    def key(self, text: str) -> str:
        """The name of a parameter, member, header or cookie: kept, but where it tells of somebody or is an id."""
        if text in self._words.kept.values or not text:
            return text
        if "://" in text:
            return self.under(text)
        runs = _EVERY_RUN.findall(text)
        kept = self._words.kept
        if "@" in text:
            return self._words.person(text)
        telling = [
            run
            for run in runs
            if run.casefold() in kept.people
            or (any(map(str.isdigit, run)) and len(run) > 5 and not kept.keeps_word(run))
        ]
        if not telling:
            return text
        made = _EVERY_RUN.sub(lambda match: self._whole_run(match[0]) if match[0] in telling else match[0], text)
        return self._words.note("id", text, made)

    def _markup(self, text: str, name: str, depth: int) -> str | None:
        return self.in_markup(text, depth) if markup.looks_like(text) else None

    def in_markup(self, text: str, depth: int = 0) -> str:
        """XML or HTML, as far as it goes."""
        return markup.rewritten(text, lambda piece: self._piece(piece, depth + 1))

    def _piece(self, piece: markup.Piece, depth: int) -> str:
        if piece.is_comment:
            return self._comment(piece.text, depth)
        if piece.attribute is not None:
            return self._attribute(piece, depth)
        element = piece.element
        if element in ("X509Certificate", "BinarySecurityToken") or element in _KEY_PARTS:
            return self._certificate(piece.text) if element in _CERTIFICATES else piece.text
        if element in ("SignatureValue", "DigestValue", "CipherValue"):
            return self._base64_octets(piece.text, "signature" if element != "CipherValue" else "encrypted")
        if element in ("Artifact", "MessageHandle", "AssertionHandle"):
            return self._artifact(piece.text.strip(), "", depth) or self._words.secret(piece.text, CODE)
        return self.under(piece.text, self._name_of(piece), depth)

    def _name_of(self, piece: markup.Piece) -> str:
        """The name that the text of an element goes by."""
        if piece.element == "AttributeValue":
            return self._attribute_name(piece)
        if piece.element in ("title", "h1", "h2", "option", "label", "button", "a", "p", "span", "div", "td", "th"):
            return ""
        if "ContactPerson" in piece.above:
            return "contact"
        return piece.element

    def _attribute_name(self, piece: markup.Piece) -> str:
        return self._current_attribute if piece.above and piece.above[-1] == "Attribute" else "value"

    _current_attribute = ""

    def _attribute(self, piece: markup.Piece, depth: int) -> str:
        name = piece.attribute or ""
        bare = name.rpartition(":")[2]
        if piece.element == "Attribute" and bare in ("Name", "FriendlyName", "AttributeName"):
            self._current_attribute = piece.attributes.get("FriendlyName") or piece.text
            return self.under(piece.text, "", depth) if "://" in piece.text else self.key(piece.text)
        if name.startswith("xmlns") or bare in _NAMES_OF_ATTRIBUTES:
            return (
                self.under(piece.text, "", depth) if "://" in piece.text and "@" in piece.text else self._named(piece)
            )
        if bare.startswith("on") and piece.element.islower():
            return self.words(piece.text, depth)
        if bare == "value":
            beside = piece.attributes
            return self.under(piece.text, beside.get("name") or beside.get("id") or beside.get("Name") or "", depth)
        if bare == "content":
            return self.under(piece.text, piece.attributes.get("name", ""), depth)
        if bare in ("title", "alt", "placeholder"):
            return self.words(piece.text, depth)
        return self.under(piece.text, "" if bare in ("href", "src", "action") else bare, depth)

    def _named(self, piece: markup.Piece) -> str:
        return self.key(piece.text) if (piece.attribute or "") in ("id", "name", "for", "class") else piece.text

    def _comment(self, text: str, depth: int) -> str:
        """Nobody knows what stands in a comment: nothing of it stays but its length and its signs."""
        return self._words.note("comment", text, self._words.substitutes.secret(text)) if text.strip() else text

    def _certificate(self, text: str) -> str:
        try:
            der = base64.b64decode("".join(text.split()), validate=True)
        except (binascii.Error, ValueError):
            return self._base64_octets(text, TOKEN)
        if certificate_or_none(der) is None:
            return self._base64_octets(text, TOKEN)
        self.kept_certificates += 1
        return text

    def _base64_octets(self, text: str, kind: str) -> str:
        """Octets in base64 with as many others in their place; what is no base64 is a secret as it stands."""
        bare = "".join(text.split())
        try:
            octets = base64.b64decode(bare, validate=True)
        except (binascii.Error, ValueError):
            return self._words.secret(text, kind)
        return self._words.note(kind, text, _spread(base64.b64encode(self._octets(octets)).decode(), text))

    def _octets(self, octets: bytes) -> bytes:
        made = self._words.substitutes.octets(octets)
        self.stand_ins[made] = octets
        return made

    def _token(self, text: str, name: str, depth: int) -> str | None:
        """A JWS or JWE in its compact form (RFC 7515 §7.1, RFC 7516 §7.1), cut off or not."""
        if text.count(".") > 4 or not text.startswith(("ey", "e3", "ew", "IHsi", "CnsK")) or not _JWT.fullmatch(text):
            return None
        parts = text.split(".")
        header = self._json_part(parts[0], depth)
        if header is None:
            return None
        if len(parts) == 5:
            rest = [part and self._octets_part(part, "encrypted") for part in parts[1:]]
        else:
            payload = self._json_part(parts[1], depth) if parts[1] else parts[1]
            rest = [payload if payload is not None else self._octets_part(parts[1], TOKEN)]
            rest += [part and self._octets_part(part, "signature") for part in parts[2:]]
        return self._words.note(TOKEN, text, ".".join([header, *rest]))

    def _json_part(self, part: str, depth: int) -> str | None:
        try:
            octets, lenient = from_base64url(part if len(part.rstrip("=")) % 4 != 1 else part[:-1])
            plain = octets.decode("utf-8", "strict" if len(part) % 4 != 1 else "ignore")
        except (ValueError, UnicodeDecodeError):
            return None
        if plain.lstrip()[:1] != "{":
            return None
        made = self.in_json(plain, "", depth + 1)
        if made == plain:
            return part
        return _as_written(made.encode("utf-8", "surrogatepass"), part, lenient=lenient)

    def _octets_part(self, part: str, kind: str) -> str:
        try:
            octets, lenient = from_base64url(part)
        except ValueError:
            return self._words.secret(part, kind)
        return self._words.note(kind, part, _as_written(self._octets(octets), part, lenient=lenient))

    def _artifact(self, text: str, name: str, depth: int) -> str | None:
        """An artifact (SAML 2.0 Bindings §3.6.4): the issuer that it names stays, its handle goes."""
        if len(text) != _ARTIFACT or not _BASE64.fullmatch(text):
            return None
        octets = base64.b64decode(text.replace("-", "+").replace("_", "/"))
        if not is_artifact(octets):
            return None
        made = octets[:24] + self._words.substitutes.octets(octets[24:])
        return self._words.note(CODE, text, base64.b64encode(made).decode())

    def _escaped(self, text: str, name: str, depth: int) -> str | None:
        """A text that is percent-encoded as a whole (RFC 3986 §2.1)."""
        if "%" not in text or not re.fullmatch(r"(?:[^\s%]|%[0-9A-Fa-f]{2})+", text):
            return None
        if _ADDRESS.fullmatch(text) or text[0] in "/?#" or ("=" in text and not re.match(r"[\w.-]*%", text)):
            return None
        return self.encoded(text, name, depth)

    def encoded(self, text: str, name: str, depth: int, *, plus: bool = False) -> str:
        """What a percent-encoded text stands for, rewritten and encoded in its manner."""
        raw = text.replace("+", " ") if plus and not _LOST_PLUS.fullmatch(text) else text
        if "%" not in raw and raw == text:
            return self.under(text, name, depth + 1)
        octets = unquote_to_bytes(raw)
        plain = octets.decode("utf-8", "surrogateescape")
        made = self.under(plain, name, depth + 1)
        return text if made == plain else _percent(made, text, plus=raw != text)

    def _form(self, text: str, name: str, depth: int) -> str | None:
        """application/x-www-form-urlencoded, or a query."""
        if "=" not in text or not _PAIR.fullmatch(text) or _BASE64.fullmatch(text):
            return None
        return self.query(text, depth)

    def query(self, text: str, depth: int = 0) -> str:
        """Pairs of name and value."""
        made = []
        for pair in text.split("&"):
            name, equals, value = pair.partition("=")
            plain = unquote(name.strip())
            if not equals:
                made.append(self.encoded(pair, "", depth, plus=True))
            else:
                made.append(f"{self._key_in_form(name)}={self.encoded(value, plain, depth, plus=True)}")
        return "&".join(made)

    def _key_in_form(self, name: str) -> str:
        plain = unquote(name)
        made = self.key(plain)
        return name if made == plain else quote(made, safe="[]")

    def _address(self, text: str, name: str, depth: int) -> str | None:
        """An address: its scheme and the settings' hosts stay, whoever stands before the host goes."""
        if text[0] == "/" and text[1:2] != "/" and not re.search(r"\s", text):
            return self._path_and_more(text, depth)
        scheme, colon, rest = text.partition(":")
        if not colon or re.search(r"\s", text) or not re.fullmatch(r"[A-Za-z][A-Za-z0-9+.-]*", scheme):
            return None
        if scheme.casefold() == "urn":
            return self._urn(text, depth)
        if scheme.casefold() == "mailto":
            return f"{scheme}:{self.under(rest, 'email', depth + 1)}"
        if scheme.casefold() == "data":
            return f"{scheme}:{self._words.secret(rest, 'data')}"
        if not rest.startswith("//"):
            return None
        if self._nearly_kept(text) or rest[2:].partition("/")[0].casefold() in STANDARDS:
            return text
        base = self._recorded_start(text)
        if base:
            return base + self._path_and_more(text[len(base) :], depth)
        return f"{scheme}://{self._after_scheme(rest[2:], depth)}"

    def _recorded_start(self, text: str) -> str:
        """The longest address on record that it begins with and goes on from: what was added at the end shows."""
        starts = (value for value in self._words.kept.values if "://" in value and text.startswith(value))
        return max((value for value in starts if urlsplit(value).path.strip("/")), key=len, default="")

    def _nearly_kept(self, text: str) -> bool:
        """Whether it is one on record but for a slip: that is no secret, and it is what breaks."""
        if "@" in text or "?" in text or "#" in text or self._words.kept.people & set(_small_runs(text)):
            return False
        return _nearest(text, self._words.kept.values)

    def _after_scheme(self, text: str, depth: int) -> str:
        match = re.match(r"[^/?#]*", text)
        authority = match[0] if match else ""
        rest = text[len(authority) :]
        user, at, host = authority.rpartition("@")
        if at:
            login, colon, password = user.partition(":")
            made = self._words.person(unquote(login)) if login else ""
            user = quote(made, safe="") + colon + (self._words.secret(password, PASSWORD) if password else "")
        port = re.search(r":\d*$", host)
        name = host[: port.start()] if port and not host.endswith("]") else host
        return f"{user}{at}{self._words.host(name)}{host[len(name) :]}{self._path_and_more(rest, depth)}"

    def _path_and_more(self, text: str, depth: int) -> str:
        head, hash_sign, fragment = text.partition("#")
        path, mark, query = head.partition("?")
        made = "/".join(self._segment(segment, depth) for segment in path.split("/"))
        made += mark + (self.query(query, depth) if query else "")
        if hash_sign:
            made += "#" + (self.query(fragment, depth) if "=" in fragment else self._segment_path(fragment, depth))
        return made

    def _segment_path(self, text: str, depth: int) -> str:
        return "/".join(self._segment(segment, depth) for segment in text.split("/"))

    def _segment(self, segment: str, depth: int) -> str:
        name, *parameters = segment.split(";")
        made = [self.encoded(name, "", depth) if "%" in name else self._of_segment(name, depth)]
        for parameter in parameters:
            key, equals, value = parameter.partition("=")
            made.append(f"{key}={self.encoded(value, key, depth)}" if equals else self._of_segment(parameter, depth))
        return ";".join(made)

    def _of_segment(self, text: str, depth: int) -> str:
        if not text:
            return text
        token = self._token(text, "", depth) or (self.in_base64(text, "", depth) if len(text) > 60 else None)
        return token if token is not None else self.words(text, depth)

    def _urn(self, text: str, depth: int) -> str:
        if text.casefold().startswith(("urn:oasis:", "urn:ietf:", "urn:mace:", "urn:oid:", "urn:federation:")):
            return text
        return "urn:" + self.words(text[4:], depth)

    def in_base64(self, text: str, name: str = "", depth: int = 0) -> str | None:
        """base64 (RFC 4648 §4, §5) of something that has a form of its own, wrapped into lines or not."""
        bare = "".join(text.split())
        if len(bare) < 12 or not _BASE64.fullmatch(bare) or len(text) > 2 * len(bare):
            return None
        padded = bare.rstrip("=").replace("-", "+").replace("_", "/")
        cut = padded[:-1] if len(padded) % 4 == 1 else padded
        try:
            octets = base64.b64decode(cut + "=" * (-len(cut) % 4))
        except (binascii.Error, ValueError):
            return None
        made = self._of_octets(octets, name, depth)
        if made is None:
            return None
        return text if made == octets else _spread(_like(made, bare), text)

    def _of_octets(self, octets: bytes, name: str, depth: int) -> bytes | None:
        """Octets that are a text with a form, or that unfold to one (RFC 1951); None where they are neither."""
        if octets[:2] == b"\x30\x82":
            return octets if certificate_or_none(octets) else self._octets(octets)
        try:
            plain = octets.decode("utf-8")
        except UnicodeDecodeError:
            return self._deflated(octets, name, depth) or self._cut_text(octets, depth)
        if not plain.isprintable() and not re.fullmatch(r"[^\x00-\x08\x0b\x0c\x0e-\x1f\x7f]*", plain):
            return None
        bare = plain.strip()
        has_form = bare[:1] in '<{["' or "://" in bare or "=" in bare or "@" in bare or " " in bare or "%" in bare
        if re.fullmatch(r"[^\s:]+:[^\s]*", bare) and not has_form:
            user, _, password = plain.partition(":")
            return f"{self.under(user, '', depth + 1)}:{self._words.secret(password, PASSWORD)}".encode()
        if not has_form and not (bare.isascii() and bare.isprintable() and len(bare) >= 9):
            return None
        return self.under(plain, name, depth + 1).encode("utf-8", "surrogatepass")

    def _cut_text(self, octets: bytes, depth: int) -> bytes | None:
        """Markup or JSON that ends within a character, as a paste that is cut off does."""
        if octets[:1] not in (b"<", b"{"):
            return None
        return self.under(octets.decode("utf-8", "surrogateescape"), "", depth + 1).encode("utf-8", "surrogateescape")

    def _deflated(self, octets: bytes, name: str, depth: int) -> bytes | None:
        window = 31 if octets[:2] == b"\x1f\x8b" else 15 if octets[:1] == b"\x78" else -15
        inflater = zlib.decompressobj(window)
        try:
            plain = inflater.decompress(octets, limits.INFLATED_BYTES)
        except zlib.error:
            return None
        if len(plain) < 8 or inflater.unconsumed_tail:
            return None
        made = self._of_octets(plain, name, depth + 1)
        if made is None or made == plain:
            return None if made is None else octets
        packer = zlib.compressobj(9, zlib.DEFLATED, window)
        packed = packer.compress(made)
        return packed + (packer.flush() if inflater.eof else packer.flush(zlib.Z_SYNC_FLUSH))

    # words

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
            return text[:start] + self.credential(text.split()[0], match["credential"], depth)
        if match["pair"]:
            start = match.start("value") - match.start()
            value, ending = _ended(text[start:])
            name = text[: start - 1]
            return f"{self.key(name)}={self.encoded(value, name, depth + 1)}{ending}"
        bare, ending = _ended(text) if kind in ("url", "path", "escaped", "form") else (text, "")
        simple: dict[str, Callable[[str], str]] = {
            "moment": str,
            "phone": self._phone,
            "mail": self._words.person,
            "v4": self._words.address,
            "v6": self._v6,
            "host": self._words.host,
            "word": self._words.token,
            "pem": self.pem,
        }
        if kind in simple:
            return simple[kind](text)
        if kind == "jwt":
            bare = text.rstrip(".") if text.count(".") > _DOTS else text
            return (self._token(bare, "", depth) or self._words.secret(bare, TOKEN)) + text[len(bare) :]
        if kind == "blob":
            return self.in_base64(text, "", depth) or self._words.token(text)
        if kind == "escaped":
            return self.encoded(bare, "", depth + 1) + ending
        if kind == "form":
            return self.query(bare, depth + 1) + ending
        return (self._address(bare, "", depth + 1) or self._words.token(bare)) + ending

    def _phone(self, text: str) -> str:
        digits = sum(map(str.isdigit, text))
        if digits < 7 or self._words.kept.keeps_word(text):
            return text
        return self._words.note("number", text, re.sub(r"\d+", lambda match: self._whole_run(match[0]), text))

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

    def credential(self, scheme: str, value: str, depth: int = 0) -> str:
        """What follows a scheme in Authorization (RFC 9110 §11.6.2)."""
        if scheme.casefold() == "basic":
            made = self._basic(value)
            if made is not None:
                return made
        return self._token(value, "", depth) or self._words.secret(value, TOKEN)

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

    def wrapped(self, text: str, name: str) -> str:
        """base64 over several lines, each perhaps with the mark of a quotation before it."""
        bare = re.sub(r"[\s>|]+", "", text)
        made = self.under(bare, name)
        return text if made == bare else _spread(made, text)

    def is_on_record(self, text: str) -> bool:
        """Whether settings on record hold this very text."""
        return text.strip() in self._words.kept.values

    def host(self, text: str) -> str:
        """A host by itself."""
        return self._words.host(text)

    def secret(self, text: str, kind: str) -> str:
        """A secret, whole."""
        return self._words.secret(text, kind)

    def multipart(self, text: str) -> str:
        """A form of several parts (RFC 7578): the value of each by its name, what is a file word by word."""

        def replaced(match: re.Match[str]) -> str:
            return match["head"] + self.under(match["value"], match["name"] or "")

        return _PART.sub(replaced, text)

    # headers

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
            return _PRODUCT.sub(lambda match: match[0] if match["product"] else self.words(match[0]), value)
        if small in ("etag", "if-none-match", "x-csrf-token", "x-xsrf-token", "x-api-key", "x-auth-token"):
            return self._words.secret(value, SECRET)
        return self.under(value, small)

    def cookie(self, pair: str) -> str:
        """A cookie's name and value: the name stays, the value goes, equal ones alike."""
        name, equals, value = pair.partition("=")
        if not equals:
            return self._words.secret(pair, COOKIE)
        return f"{self.key(name)}={self.cookie_value(value)}"

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
                value = self._path_and_more(value, 0)
            elif equals and small not in ("expires", "max-age", "samesite", "priority", "version"):
                value = self.words(value)
            made.append(f"{name}{equals}{value}")
        return ";".join(made)


_REMEMBERED = 400
_ARTIFACT = 60
"""Characters of an artifact's 44 octets in base64."""
_DOTS = 2
"""A token that somebody signed has so many dots."""
_SIGNATURE = re.compile(r"[A-Za-z0-9+/= \r\n]{40,}")
_PART = re.compile(
    r"(?P<head>Content-Disposition:[^\r\n]*?(?:\bname=\"(?P<name>[^\"]*)\")?[^\r\n]*\r?\n(?:[^\r\n]+\r?\n)*\r?\n)"
    r"(?P<value>.*?)(?=\r?\n--|\Z)",
    re.DOTALL | re.IGNORECASE,
)
_EVERY_RUN = re.compile(r"[^\W_]+")
_COUNTS = re.compile(r"(?i)size|length|count|age|expir|time|seconds|port|line|column|total|width|height|_at$|version")
_CLEARED = {"", "deleted", "-", "null", "none"}
_SAID_OF_SECRETS = frozenset(
    [
        "is",
        "was",
        "not",
        "wrong",
        "expired",
        "invalid",
        "incorrect",
        "missing",
        "required",
        "has",
        "must",
        "the",
        "a",
        "your",
    ]
)
_LOST_PLUS = re.compile(r"[A-Za-z0-9+/=\s]{60,}")
_PRODUCT = re.compile(r"(?P<product>[A-Za-z]+/[\d.]+)|[^\s]+")
_KEY_PARTS = frozenset(
    ["Modulus", "Exponent", "PublicKey", "P", "Q", "G", "Y", "KeySize", "X509Certificate", "BinarySecurityToken"]
)
_CERTIFICATES = ("X509Certificate", "BinarySecurityToken")


def _small_runs(text: str) -> list[str]:
    return [run.casefold() for run in _EVERY_RUN.findall(text)]


@lru_cache(maxsize=10_000)
def _nearest(text: str, values: frozenset[str]) -> bool:
    """Whether an address differs from one of some by a slip only."""
    from trace_lens.common.difference import kind

    slips = ("whitespace", "percent-encoding", "case", "lookalike", "trailing-slash", "scheme", "port", "edit")
    return any(
        abs(len(value) - len(text)) <= _SLIP and "://" in value and kind(value, text) in slips for value in values
    )


_SLIP = 8


def _ended(text: str) -> tuple[str, str]:
    """A text without the marks that end the sentence it stands in, and these."""
    bare = text.rstrip(_ENDS)
    return bare, text[len(bare) :]


def _like(octets: bytes, bare: str) -> str:
    """Octets in the alphabet, and with or without the padding, of a text in base64."""
    made = base64.b64encode(octets).decode()
    if ("-" in bare or "_" in bare) or (len(bare) % 4 and "+" not in bare and "/" not in bare):
        made = made.replace("+", "-").replace("/", "_") if "-" in bare or "_" in bare else made
    if not bare.endswith("=") and len(bare) % 4:
        made = made.rstrip("=")
    return made[:-1] if len(bare.rstrip("=")) % 4 == 1 and len(made) > 1 else made


def _spread(made: str, like: str) -> str:
    """A text with line ends and blanks where another one had them; what is longer goes into its last line."""
    if not any(map(str.isspace, like)):
        return made
    out, place = [], 0
    for piece in re.findall(r"\s+(?:[>|]+[ \t]*)*|[^\s]+", like):
        if piece[0].isspace():
            out.append(piece)
        else:
            out.append(made[place : place + len(piece)])
            place += len(piece)
    rest = made[place:]
    text = "".join(out)
    stem = text.rstrip()
    return stem + rest + text[len(stem) :]


def _as_written(octets: bytes, part: str, *, lenient: bool) -> str:
    made = to_base64url(octets)
    if lenient:
        made = made.replace("-", "+").replace("_", "/") if "+" in part or "/" in part else made
        made += "=" * (-len(made) % 4) if part.endswith("=") else ""
    return made


def _percent(plain: str, like: str, *, plus: bool) -> str:
    """A text percent-encoded in the manner of another: the same signs left bare, digits in the same case."""
    bare = set(re.sub(r"%[0-9A-Fa-f]{2}", "", like)) - ({"+"} if plus else set())
    made = quote(plain.encode("utf-8", "surrogateescape"), safe="".join(sign for sign in bare if sign.isascii()))
    coded = {code.upper() for code in re.findall(r"%[0-9A-Fa-f]{2}", like)}
    for sign in "-._~":
        if quote_of(sign) in coded and sign not in bare:
            made = made.replace(sign, quote_of(sign))
    if plus:
        made = made.replace("%20", "+")
    if re.search(r"%[0-9a-f]?[a-f]", like) and not re.search(r"%[0-9A-F]?[A-F]", like):
        made = re.sub(r"%[0-9A-F]{2}", lambda match: match[0].lower(), made)
    return made


def quote_of(sign: str) -> str:
    """A sign, percent-encoded."""
    return f"%{ord(sign):02X}"
