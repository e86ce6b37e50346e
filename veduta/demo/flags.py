"""The flags of the vessels, made up, which tables show beside their names."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterator
from typing import Final

from veduta.demo.generate import VESSELS
from veduta.web.accounts.models import User
from veduta.web.images.models import KeptPicture
from veduta.web.images.services import receive

WIDTH, HEIGHT = 60, 40
TEAL, SAFFRON, RED, BLUE, WHITE = "0B5D62", "E9A13B", "B8433A", "30437E", "FFFFFF"
Place = tuple[float, float]

DESIGNS: Final[tuple[tuple[str, str, Callable[[Place], bool]], ...]] = (
    (TEAL, WHITE, lambda at: abs(at[1]) < 0.34),
    (RED, SAFFRON, lambda at: at[0] ** 2 * 2.25 + at[1] ** 2 < 0.45),
    (BLUE, WHITE, lambda at: abs(at[0] - at[1]) < 0.3),
    (SAFFRON, TEAL, lambda at: at[0] < -0.2),
    (WHITE, RED, lambda at: abs(at[0]) < 0.2 or abs(at[1]) < 0.26),
    (TEAL, SAFFRON, lambda at: abs(at[0]) + abs(at[1]) < 0.75),
    (BLUE, SAFFRON, lambda at: (at[0] < 0) != (at[1] < 0)),
    (WHITE, TEAL, lambda at: max(abs(at[0]), abs(at[1])) > 0.6),
    (RED, WHITE, lambda at: at[0] < -0.1 - abs(at[1]) * 0.6 + 0.3),
)
"""Ground, sign, and where the sign is, from -1 to 1 across and down."""


def load_flags(user: User) -> None:
    """Nothing happens where there are pictures already, or were."""
    if KeptPicture.objects.exists():
        return
    for vessel, design in zip(VESSELS, DESIGNS, strict=True):
        receive(user, f"{vessel}.png", as_png(*design))


def as_png(ground: str, sign: str, is_sign: Callable[[Place], bool]) -> bytes:
    """A flag as a PNG of three bytes a point."""

    def lines() -> Iterator[bytes]:
        for row in range(HEIGHT):
            places = ((2 * column / (WIDTH - 1) - 1, 2 * row / (HEIGHT - 1) - 1) for column in range(WIDTH))
            yield b"\0" + b"".join(bytes.fromhex(sign if is_sign(place) else ground) for place in places)

    header = struct.pack(">IIBBBBB", WIDTH, HEIGHT, 8, 2, 0, 0, 0)
    parts = (b"IHDR", header), (b"IDAT", zlib.compress(b"".join(lines()))), (b"IEND", b"")
    return b"\x89PNG\r\n\x1a\n" + b"".join(_chunk(name, content) for name, content in parts)


def _chunk(name: bytes, content: bytes) -> bytes:
    return struct.pack(">I", len(content)) + name + content + struct.pack(">I", zlib.crc32(name + content))
