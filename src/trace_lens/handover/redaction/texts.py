"""A text rewritten through all that it is wrapped in: JSON, markup, tokens, base64, DEFLATE, percent-encoding, forms.

Each form is taken apart, its parts are rewritten by where they stand, and it is put together as it was. What has no
form is words. Whatever is not known to be harmless gets a stand-in, so that nothing need be recognised as a secret to
be gone.
"""

from __future__ import annotations

import base64
import binascii
import codecs
import re
import zlib
from collections import Counter
from html import unescape
from urllib.parse import quote, unquote, unquote_to_bytes

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.secret_names import JWK_PUBLIC
from trace_lens.handover.redaction import json_text, markup
from trace_lens.handover.redaction.encodings import like, percent, spread
from trace_lens.handover.redaction.headers import Headers
from trace_lens.handover.redaction.kept import RUN, trade_words
from trace_lens.handover.redaction.markup_texts import MarkupTexts
from trace_lens.handover.redaction.places import CODE, KEPT, PASSWORD, PERSON, PERSONAL, SECRETS, TOKEN, place_of
from trace_lens.handover.redaction.running import RunningText
from trace_lens.handover.redaction.tokens import Tokens
from trace_lens.handover.redaction.web_addresses import WebAddresses
from trace_lens.handover.redaction.words import Words
from trace_lens.oidc.tokens import code_challenge, half_hashes
from trace_lens.pki.certificates import certificate_or_none

_DEEPEST = 12
"""So many layers are gone through; what lies deeper is a secret as a whole."""
_PAIR = expression(r"[^\s=&<>\"'{}]{1,120}=[^\s&<>\"]*+(?:&[^\s=&<>\"'{}]{0,120}(?:=[^\s&<>\"]*+)?)*+")
_BASE64 = expression(r"[A-Za-z0-9+/_\-]+={0,2}")
_WITH_SCHEME = expression(r"[A-Za-z][A-Za-z0-9+.-]{0,30}:(?://)?[^\s]+")
_LONGEST_REMEMBERED = 400
_MOST_REMEMBERED = 16_384
_SHORTEST_MARKUP = 24
_SIGNATURE = expression(r"[A-Za-z0-9+/= \r\n]{40,}")
_COUNTS = expression(r"(?i)size|length|count|age|expir|time|seconds|port|line|column|total|width|height|_at$|version")
"""Names under which a number counts something."""
_LOST_PLUS = expression(r"[A-Za-z0-9+/=\s]{60,}")
"""A value in which a plus sign is one, and no blank."""


class Texts:
    """Rewrites texts by one key; the same text under the same name always gives the same."""

    def __init__(self, words: Words) -> None:
        self._words = words
        self._made: dict[str, str] = {}
        """Values that were made from others by a hash, each with the same hash of the other's stand-in."""
        self._tokens = Tokens(words, self)
        self._markup_texts = MarkupTexts(words, self, self._tokens)
        self._addresses = WebAddresses(words, self)
        self._running = RunningText(words, self)
        self._headers = Headers(words, self)
        self._remembered: dict[tuple[str, str, int], tuple[str, tuple[tuple[str, int], ...]]] = {}

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
        if len(text) >= _LONGEST_REMEMBERED:
            return self._under(text, name, depth)
        known = self._remembered.get((text, name, depth))
        if known is None:
            before = Counter(self._words.counts)
            made = self._under(text, name, depth)
            if len(self._remembered) >= _MOST_REMEMBERED:
                self._remembered.clear()
            self._remembered[text, name, depth] = made, tuple((self._words.counts - before).items())
            return made
        self._words.counts.update(dict(known[1]))
        return known[0]

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
        for form in (self._json, self._markup, self.token, self._tokens.artifact):
            made = form(text, name, depth)
            if made is not None:
                return made
        if name.casefold() in ("signature", "signaturevalue") and _SIGNATURE.fullmatch(text):
            return self._tokens.octets_in_base64(text.replace(" ", "+"), "signature").replace(
                "+", " " if " " in text else "+"
            )
        if place in SECRETS:
            made = self.in_base64(text, name, depth) if place == TOKEN else None
            return made if made is not None else self._words.secret(text, place)
        if place == PERSONAL:
            return self._words.note("person", text, RUN.sub(lambda match: self._words.whole_run(match[0]), text))
        if "&lt;" in text:
            return self.in_escaped_markup(text, depth)
        for form in (self._escaped, self.address, self._form, self.in_base64):
            made = form(text, name, depth)
            if made is not None:
                return made
        if place == PERSON:
            return self._words.person(text)
        return self.words(text, depth)

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
        if member.name == "x5c" or name == "X509Certificate":
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
        if text in self._words.kept.values or not text or text.casefold() in trade_words():
            return text
        if "://" in text or text.startswith("urn:"):
            return self.under(text)
        runs = RUN.findall(text)
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
        made = RUN.sub(lambda match: self._words.whole_run(match[0]) if match[0] in telling else match[0], text)
        return self._words.note("id", text, made)

    def _markup(self, text: str, name: str, depth: int) -> str | None:
        return self._markup_texts.in_markup(text, depth) if markup.looks_like(text) else None

    def in_escaped_markup(self, text: str, depth: int = 0) -> str:
        """Markup whose signs are written as references, as one document within another has them."""
        return markup.escaped(self.under(unescape(text), "", depth + 1), "&gt;" if "&gt;" in text else "")

    def _escaped(self, text: str, name: str, depth: int) -> str | None:
        """A text that is percent-encoded as a whole (RFC 3986 §2.1)."""
        if "%" not in text or not re.fullmatch(r"(?:[^\s%]|%[0-9A-Fa-f]{2})+", text):
            return None
        if _WITH_SCHEME.fullmatch(text) or text[0] in "/?#" or ("=" in text and not re.match(r"[\w.-]*%", text)):
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
        return text if made == plain else percent(made, text, plus=raw != text)

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
        return text if made == octets else spread(like(made, bare), text)

    def _of_octets(self, octets: bytes, name: str, depth: int) -> bytes | None:
        """Octets that are a text with a form, or that unfold to one (RFC 1951); None where they are neither."""
        if octets[:2] == b"\x30\x82":
            return octets if certificate_or_none(octets) else self._tokens.octets(octets)
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
        if octets[:1] not in (b"<", b"{") or len(octets) < _SHORTEST_MARKUP:
            return None
        try:
            codecs.getincrementaldecoder("utf-8")().decode(octets)
        except UnicodeDecodeError:
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

    # what others ask for

    def wrapped(self, text: str, name: str) -> str:
        """base64 over several lines, each perhaps with the mark of a quotation before it."""
        bare = re.sub(r"[\s>|]+", "", text)
        made = self.under(bare, name)
        return text if made == bare else spread(made, text)

    def is_on_record(self, text: str) -> bool:
        """Whether settings on record hold this very text."""
        return text.strip() in self._words.kept.values

    def host(self, text: str) -> str:
        """A host by itself."""
        return self._words.host(text)

    def secret(self, text: str, kind: str) -> str:
        """A secret, whole."""
        return self._words.secret(text, kind)

    @property
    def stand_ins(self) -> dict[bytes, bytes]:
        """The octets that stand in for others (signatures, digests, ciphertexts), each with those it stands for."""
        return self._tokens.stand_ins

    def words(self, text: str, depth: int = 0) -> str:
        """Running text."""
        return self._running.words(text, depth)

    def pem(self, text: str) -> str:
        """What stands in PEM (RFC 7468)."""
        return self._running.pem(text)

    def in_markup(self, text: str) -> str:
        """XML or HTML, as far as it goes."""
        return self._markup_texts.in_markup(text)

    def token(self, text: str, name: str, depth: int) -> str | None:
        """A token in its compact form; None where it is none."""
        return self._tokens.token(text, name, depth)

    def address(self, text: str, name: str, depth: int) -> str | None:
        """An address, or the path of one; None where it is none."""
        return self._addresses.address(text, name, depth)

    def path_and_more(self, text: str, depth: int) -> str:
        """A path with what may follow it."""
        return self._addresses.path_and_more(text, depth)

    def credential(self, scheme: str, value: str, depth: int = 0) -> str:
        """What follows a scheme in Authorization."""
        return self._headers.credential(scheme, value, depth)

    def header(self, name: str, value: str) -> str:
        """The value of a header field."""
        return self._headers.header(name, value)

    def cookie_value(self, value: str) -> str:
        """The value of a cookie."""
        return self._headers.cookie_value(value)

    def multipart(self, text: str) -> str:
        """A form of several parts."""
        return self._headers.multipart(text)
