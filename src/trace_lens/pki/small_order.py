"""Points of small order on edwards25519: whoever has one as a key can make signatures that many verifiers take.

Source: RFC 8032 §5.1.3 (decoding a point), §5.1 (the cofactor is 8): a point is of small order where eight times it is
the neutral element. RFC 8032 leaves open whether a verifier refuses such keys; here they are refused.
"""

from __future__ import annotations

from functools import lru_cache

_P = 2**255 - 19
_D = -121665 * pow(121666, -1, _P) % _P
_SQRT_OF_MINUS_ONE = pow(2, (_P - 1) // 4, _P)
_Point = tuple[int, int]


@lru_cache(maxsize=256)
def has_small_order(encoded: bytes) -> bool:
    """Whether 32 octets are a point of small order; False also where they are no point."""
    if len(encoded) != 32:
        return False
    number = int.from_bytes(encoded, "little")
    point = _decoded((number & (2**255 - 1)) % _P, number >> 255)
    if point is None:
        return False
    for _ in range(3):
        point = _sum(point, point)
    return point == (0, 1)


def _decoded(y: int, sign: int) -> _Point | None:
    """The point of a y and the lowest bit of its x; the sign of x = 0 is not asked about."""
    square = (y * y - 1) * pow(_D * y * y + 1, -1, _P) % _P
    x = pow(square, (_P + 3) // 8, _P)
    if (x * x - square) % _P:
        x = x * _SQRT_OF_MINUS_ONE % _P
    if (x * x - square) % _P:
        return None
    return (_P - x if x and x & 1 != sign else x), y


def _sum(point: _Point, other: _Point) -> _Point:
    """The sum of two points (RFC 8032 §5.1.4, in affine coordinates)."""
    (x1, y1), (x2, y2) = point, other
    both = _D * x1 * x2 * y1 * y2 % _P
    x = (x1 * y2 + x2 * y1) * pow(1 + both, -1, _P) % _P
    y = (y1 * y2 + x1 * x2) * pow(1 - both, -1, _P) % _P
    return x, y
