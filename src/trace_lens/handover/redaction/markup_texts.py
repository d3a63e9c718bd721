"""What stands in XML and HTML, by where it stands: names of persons, secrets, ids, addresses, words."""

from __future__ import annotations

from trace_lens.handover.redaction import markup
from trace_lens.handover.redaction.places import CODE
from trace_lens.handover.redaction.rewriting import Rewrites
from trace_lens.handover.redaction.tokens import Tokens
from trace_lens.handover.redaction.words import Words

_PROVING = ("SignatureValue", "DigestValue", "CipherValue")
_HANDLES = ("Artifact", "MessageHandle", "AssertionHandle")
_CERTIFICATES = ("X509Certificate", "BinarySecurityToken")
_KEY_PARTS = frozenset({"Modulus", "Exponent", "PublicKey", "P", "Q", "G", "Y", "KeySize"})
_RUNNING = frozenset({"title", "h1", "h2", "option", "label", "button", "a", "p", "span", "div", "td", "th"})
_NAMES_OF_ATTRIBUTES = frozenset(
    {
        *("Name", "FriendlyName", "name", "id", "for", "class", "type", "rel", "method", "enctype", "autocomplete"),
        *("lang", "charset", "http-equiv", "property", "role", "Algorithm", "Format", "NameFormat", "Method"),
        *("Binding", "Version", "use", "target", "style", "xmlns", "ProtocolBinding", "protocolSupportEnumeration"),
    }
)


class MarkupTexts:
    """Rewrites XML and HTML."""

    def __init__(self, words: Words, rewrites: Rewrites, tokens: Tokens) -> None:
        self._words, self._rewrites, self._tokens = words, rewrites, tokens
        self._current_attribute = ""

    def in_markup(self, text: str, depth: int = 0) -> str:
        """XML or HTML, as far as it goes."""
        return markup.rewritten(text, lambda piece: self._piece(piece, depth + 1))

    def _piece(self, piece: markup.Piece, depth: int) -> str:
        if piece.is_comment:
            return self._comment(piece.text, depth)
        if piece.attribute is not None:
            return self._attribute(piece, depth)
        element = piece.element
        if element in _CERTIFICATES:
            return self._tokens.certificate(piece.text)
        if element in _KEY_PARTS:
            return piece.text
        if element in _PROVING:
            return self._tokens.octets_in_base64(piece.text, "signature" if element != "CipherValue" else "encrypted")
        if element in _HANDLES:
            return self._tokens.artifact(piece.text.strip(), "", depth) or self._words.secret(piece.text, CODE)
        return self._rewrites.under(piece.text, self._name_of(piece), depth)

    def _name_of(self, piece: markup.Piece) -> str:
        """The name that the text of an element goes by."""
        if piece.element == "AttributeValue":
            return self._attribute_name(piece)
        if piece.element in _RUNNING:
            return ""
        if "ContactPerson" in piece.above:
            return "contact"
        return piece.element

    def _attribute_name(self, piece: markup.Piece) -> str:
        return self._current_attribute if piece.above and piece.above[-1] == "Attribute" else "value"

    def _attribute(self, piece: markup.Piece, depth: int) -> str:
        name = piece.attribute or ""
        bare = name.rpartition(":")[2]
        if piece.element == "Attribute" and bare in ("Name", "FriendlyName", "AttributeName"):
            self._current_attribute = piece.attributes.get("FriendlyName") or piece.text
            return (
                self._rewrites.under(piece.text, "", depth) if "://" in piece.text else self._rewrites.key(piece.text)
            )
        if name.startswith("xmlns") or bare in _NAMES_OF_ATTRIBUTES:
            return (
                self._rewrites.under(piece.text, "", depth)
                if "://" in piece.text and "@" in piece.text
                else self._named(piece)
            )
        if bare.startswith("on") and piece.element.islower():
            return self._rewrites.words(piece.text, depth)
        if bare == "value":
            beside = piece.attributes
            return self._rewrites.under(
                piece.text, beside.get("name") or beside.get("id") or beside.get("Name") or "", depth
            )
        if bare == "content":
            return self._rewrites.under(piece.text, piece.attributes.get("name", ""), depth)
        if bare in ("title", "alt", "placeholder"):
            return self._rewrites.words(piece.text, depth)
        return self._rewrites.under(piece.text, "" if bare in ("href", "src", "action") else bare, depth)

    def _named(self, piece: markup.Piece) -> str:
        return (
            self._rewrites.key(piece.text) if (piece.attribute or "") in ("id", "name", "for", "class") else piece.text
        )

    def _comment(self, text: str, depth: int) -> str:
        """Nobody knows what stands in a comment: nothing of it stays but its length and its signs."""
        return self._words.note("comment", text, self._words.substitutes.secret(text)) if text.strip() else text
