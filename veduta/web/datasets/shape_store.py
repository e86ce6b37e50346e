"""The shapes of a workspace, as maps draw them: kept in memory, each until it is changed."""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterator, Mapping
from typing import Any

from veduta.core.cache import Cache
from veduta.core.geography.shapes import ReadShapes, Shapes, build_shapes
from veduta.web.datasets.models import ShapeSet

shapes_kept: Cache[Shapes] = Cache(30)


def pack_shapes(read: ReadShapes) -> bytes:
    content = {"properties": read.properties, "geometries": read.geometries}
    return zlib.compress(json.dumps(content, separators=(",", ":")).encode())


def unpack_shapes(shape_set: ShapeSet) -> ReadShapes:
    content = json.loads(zlib.decompress(bytes(shape_set.content)))
    return ReadShapes(content["properties"], content["geometries"], shape_set.notes)


def load_shapes(shape_set: ShapeSet) -> Shapes:
    """Raises FileProblem if no shape has the property that names them."""
    read = unpack_shapes(shape_set)
    return build_shapes(shape_set.name, read.properties, read.geometries, shape_set.key, aliases=shape_set.aliases)


class Atlas(Mapping[str, Shapes]):
    """All shapes by their ids; each is read when it is first asked for."""

    def __init__(self) -> None:
        self._stamps: dict[str, Any] | None = None

    @property
    def was_read(self) -> bool:
        return self._stamps is not None

    @property
    def stamps(self) -> dict[str, Any]:
        if self._stamps is None:
            self._stamps = {str(pk): at for pk, at in ShapeSet.objects.order_by().values_list("pk", "updated_at")}
        return self._stamps

    def __getitem__(self, key: str) -> Shapes:
        return shapes_kept.get((key, self.stamps[key]), lambda: load_shapes(ShapeSet.objects.get(pk=key)))

    def __iter__(self) -> Iterator[str]:
        return iter(self.stamps)

    def __len__(self) -> int:
        return len(self.stamps)
