"""Which 32 bytes can be somebody's key: points of the curve of Ed25519 (RFC 8032, 5.1) that one person alone can sign for.

Signatures can be made that fit a point of small order whatever was signed, and a point that is written in two ways is two
names of one key: neither is taken (RFC 8032, 5.1.3 and 5.1.7; the eight points are listed in Chalkias, Garillot and
Nikolaenko, "Taming the many EdDSAs", 2020, from memory, and worked out here).
"""

from __future__ import annotations

PRIME = 2**255 - 19
D = -121665 * pow(121666, -1, PRIME) % PRIME
_ROOT = pow(2, (PRIME - 1) // 4, PRIME)  # a square root of -1
COFACTOR_DOUBLINGS = 3
Point = tuple[int, int]


def point(key: bytes) -> Point | None:
    """The point that 32 bytes stand for; None where they stand for none, or are not the one way to write it."""
    number = int.from_bytes(key, "little")
    y, odd = number & (2**255 - 1), number >> 255
    if len(key) != 32 or y >= PRIME:
        return None
    square = (y * y - 1) * pow(D * y * y + 1, -1, PRIME) % PRIME
    x = pow(square, (PRIME + 3) // 8, PRIME)
    if (x * x - square) % PRIME:
        x = x * _ROOT % PRIME
    if (x * x - square) % PRIME or (x == 0 and odd):
        return None
    return (PRIME - x if x & 1 != odd else x), y


def doubled(of: Point) -> Point:
    """The point added to itself (RFC 8032, 5.1.4, in plain coordinates)."""
    x, y = of
    t = D * x * x * y * y % PRIME
    return 2 * x * y * pow(1 + t, -1, PRIME) % PRIME, (y * y + x * x) * pow(1 - t, -1, PRIME) % PRIME


def can_sign(key: bytes) -> bool:
    """Whether a public key is a point that belongs to one private key."""
    found = point(key)
    for _ in range(COFACTOR_DOUBLINGS):
        found = doubled(found) if found is not None else None
    return found is not None and found != (0, 1)
