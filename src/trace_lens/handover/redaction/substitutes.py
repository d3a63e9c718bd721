"""Stand-ins of the same form and length, made with a key: equal values get equal ones, and no way leads back.

Words keep what breaks sign-ins: capitals and small letters, digits, separators, letters that print alike, and how far
two words begin alike, so that what was added at an end shows. A secret keeps its length and which kinds of characters
it has, and no more. Sources: RFC 7693 (keyed BLAKE2b), FIPS 202 (SHAKE256); keeping beginnings alike as Xu, Fan, Ammar
and Moon, "Prefix-preserving IP address anonymization", ICNP 2002, does for addresses.
"""

from __future__ import annotations

import hashlib
import ipaddress
import unicodedata
from functools import lru_cache
from math import gcd

from trace_lens.common.difference import lookalike_letters
from trace_lens.common.expressions import expression

KEY_BYTES = 32
_HEX = expression(r"[0-9a-fA-F]+(?:-[0-9a-fA-F]+)*")
_ALIKE = lookalike_letters()
"""Letters of other alphabets, each with the Latin letter that it prints like."""
_HAVE_ALIKE = "".join(sorted({letter for char, letter in _ALIKE.items() if letter.islower() and char.islower()}))
_OTHERS = "".join(letter for letter in "abcdefghijklmnopqrstuvwxyz" if letter not in _HAVE_ALIKE)
_ACCENTED = "àáâãäåçèéêëìíîïñòóôõöùúûü"
_LOWER, _DIGITS, _HEXES = "abcdefghijklmnopqrstuvwxyz", "0123456789", "0123456789abcdef"
_PRIVATE = tuple(
    ipaddress.ip_network(text) for text in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16")
)
_LOCAL = tuple(ipaddress.ip_network(text) for text in ("fc00::/7", "fe80::/10"))


class Substitutes:
    """Makes stand-ins with one key."""

    def __init__(self, key: bytes) -> None:
        self._key = key[:64]
        self.word = lru_cache(maxsize=32_768)(self._word)

    def _word(self, word: str) -> str:
        """A run of letters and digits: two that begin alike get stand-ins that begin alike, and no two the same.

        Each character is exchanged within its kind in an order that what stands before it gives.
        """
        state, made = b"", []
        for char in word:
            plain = _plain(char)
            number = int.from_bytes(hashlib.blake2b(state, key=self._key, digest_size=4, person=b"order").digest())
            made.append(_stand_in(char, plain, number))
            state = hashlib.blake2b(
                state + plain.encode("utf-8", "surrogatepass"), key=self._key, digest_size=16
            ).digest()
        return "".join(made)

    def secret(self, value: str) -> str:
        """A secret: equal ones get equal stand-ins of their length and kinds of characters, nothing else stays."""
        stream = hashlib.shake_256(self._key + b"secret" + value.casefold().encode("utf-8", "surrogatepass"))
        numbers = stream.digest(2 * len(value))
        hexadecimal = len(value) >= 8 and _HEX.fullmatch(value) is not None and not value.isdigit()
        return "".join(
            _random(char, int.from_bytes(numbers[2 * place : 2 * place + 2]), hexadecimal=hexadecimal)
            for place, char in enumerate(value)
        )

    def octets(self, value: bytes) -> bytes:
        """As many octets, for those of a signature, a digest or a ciphertext."""
        return hashlib.shake_256(self._key + b"octets" + value).digest(len(value))

    def number(self, digits: str) -> str:
        """Digits for digits, the first no zero unless it was one; no two numbers get the same."""
        if not digits or digits[0] == "0":
            return digits[:1] + self.word(digits)[1:]
        block = hashlib.blake2b(b"first", key=self._key, digest_size=4).digest()
        first = 1 + _mixed(int(digits[0]) - 1, 9, int.from_bytes(block))
        return f"{first}{self.word(digits)[1:]}"

    def address(self, text: str) -> str:
        """An address in the network, of the same kind: in the same network with those it was in one with.

        Public ones get one of 240.0.0.0/4, which nobody has (RFC 1112 §4), private ones stay private (RFC 1918,
        RFC 4193), those of IPv6 get one for documentation (RFC 3849). Raises ValueError where it is none.
        """
        address = ipaddress.ip_address(text)
        if address.is_loopback or address.is_unspecified:
            return text
        octets = self._alike_octets(address.packed)
        if isinstance(address, ipaddress.IPv4Address):
            first = 10 if any(address in network for network in _PRIVATE) else 240 + octets[0] % 14
            return str(ipaddress.IPv4Address(bytes([first]) + octets[1:]))
        if address.ipv4_mapped is not None:
            return f"::ffff:{self.address(str(address.ipv4_mapped))}"
        head = b"\xfd" if any(address in network for network in _LOCAL) else b"\x20\x01\x0d\xb8"
        made = str(ipaddress.IPv6Address(head + octets[len(head) :]))
        return made.upper() if text.isupper() else made

    def _alike_octets(self, packed: bytes) -> bytes:
        made = bytearray()
        for place, octet in enumerate(packed):
            block = hashlib.blake2b(packed[:place], key=self._key, digest_size=4, person=b"address").digest()
            made.append(_mixed(octet, 256, int.from_bytes(block)))
        return bytes(made)


def folded(text: str) -> str:
    """A text as its characters count: small, and in one alphabet where they print alike."""
    return "".join(map(_plain, text))


def _plain(char: str) -> str:
    """The small letter that a character counts as: without capitals, without another alphabet's looks."""
    return _ALIKE.get(char, char).casefold()


def _stand_in(char: str, plain: str, number: int) -> str:
    """The character that stands in for one, given what it counts as."""
    if not char.isalnum():
        return char
    if char in _DIGITS:
        return _DIGITS[_mixed(int(char), 10, number)]
    if len(plain) == 1 and plain.isascii() and plain.isalpha():
        letters = _HAVE_ALIKE if plain in _HAVE_ALIKE else _OTHERS
        made = letters[_mixed(letters.index(plain), len(letters), number)]
        if not char.isascii():
            alike = next((other for other, latin in _ALIKE.items() if latin == made and other.islower()), None)
            if alike is None:  # never the Latin letter itself: what differed must differ
                return _of_another_alphabet(char, number)
            made = alike
        return made.upper() if char.isupper() else made
    if char.isdigit() or char.isnumeric():
        return char
    return _of_another_alphabet(char, number)


def _mixed(place: int, size: int, number: int) -> int:
    """Another place among so many: no two places get the same one (an affine map, whose factor shares no divisor)."""
    factors = _factors(size)
    return (factors[number % len(factors)] * place + number // len(factors)) % size


@lru_cache(maxsize=512)
def _factors(size: int) -> tuple[int, ...]:
    return tuple(factor for factor in range(1, size) if gcd(factor, size) == 1) or (1,)


def _of_another_alphabet(char: str, number: int) -> str:
    """A letter with an accent for one, else one of the same alphabet and case, so that octets stay as many."""
    if char.casefold() in _ACCENTED:
        made = _ACCENTED[_mixed(_ACCENTED.index(char.casefold()), len(_ACCENTED), number)]
        return made.upper() if char.isupper() else made
    start = ord(char) & ~0x1F
    fitting = [
        chr(code) for code in range(start, start + 32) if unicodedata.category(chr(code)) == unicodedata.category(char)
    ]
    return fitting[_mixed(fitting.index(char), len(fitting), number)]


def _random(char: str, number: int, *, hexadecimal: bool) -> str:
    if hexadecimal and char != "-":
        made = _HEXES[number % 16]
        return made.upper() if char.isupper() else made
    if char in _DIGITS:
        return _DIGITS[number % 10]
    if char.isascii() and char.isalpha():
        made = _LOWER[number % 26]
        return made.upper() if char.isupper() else made
    return _of_another_alphabet(char, number) if char.isalpha() else char
