"""Keys of boards that only some may load. SipHash-2-4 of one number: Aumasson, Bernstein, SipHash, a fast
short-input PRF (2012), section 2; the board's side is in board/simulated.c."""

from __future__ import annotations

MASK = (1 << 64) - 1


def turned(x: int, by: int) -> int:
    return (x << by | x >> (64 - by)) & MASK


def keyed(secret: bytes, number: int) -> int:
    """The hash (64 bits) of a number of 64 bits under a secret of 16 bytes."""
    k0, k1 = int.from_bytes(secret[:8], "little"), int.from_bytes(secret[8:16], "little")
    v = [
        k0 ^ 0x736F6D6570736575,
        k1 ^ 0x646F72616E646F6D,
        k0 ^ 0x6C7967656E657261,
        k1 ^ 0x7465646279746573,
    ]

    def mix() -> None:
        v[0] = (v[0] + v[1]) & MASK
        v[1] = turned(v[1], 13) ^ v[0]
        v[0] = turned(v[0], 32)
        v[2] = (v[2] + v[3]) & MASK
        v[3] = turned(v[3], 16) ^ v[2]
        v[0] = (v[0] + v[3]) & MASK
        v[3] = turned(v[3], 21) ^ v[0]
        v[2] = (v[2] + v[1]) & MASK
        v[1] = turned(v[1], 17) ^ v[2]
        v[2] = turned(v[2], 32)

    for word in (number & MASK, 8 << 56):
        v[3] ^= word
        mix()
        mix()
        v[0] ^= word
    v[2] ^= 0xFF
    for _ in range(4):
        mix()
    return v[0] ^ v[1] ^ v[2] ^ v[3]
