"""What is known of shapes, by what they are to the kernel."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher
from OCP.TopoDS import TopoDS_Edge, TopoDS_Face, TopoDS_Shape


class ShapeMap:
    """Shapes to values by identity, as the kernel sees it.

    Attributes:
        told: what was worked out of the values, by name; it goes when they change.
    """

    def __init__(self) -> None:
        self.index = IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
        self.values = {}
        self.told: dict[str, Any] = {}

    def put(self, shape: TopoDS_Edge | TopoDS_Face | TopoDS_Shape, value: Any) -> None:
        self.values[self.index.Add(shape)] = value
        self.told = {}

    def get(self, shape: TopoDS_Edge | TopoDS_Face | TopoDS_Shape, default: Any = None) -> Any:
        return self.values.get(self.index.FindIndex(shape), default)

    def take(self, shapes: Iterable[TopoDS_Shape], other: ShapeMap) -> None:
        """The values that another map has for some shapes."""
        for shape in shapes:
            value = other.get(shape)
            if value is not None:
                self.put(shape, value)


class LastShapes(ShapeMap):
    """Values of the shapes that were worked on last: begun anew when they weigh too much."""

    def __init__(self, most: int) -> None:
        super().__init__()
        self.most, self.weight = most, 0

    def keep(self, shape: TopoDS_Edge | TopoDS_Face | TopoDS_Shape, value: Any, weight: int = 1) -> Any:
        """The value, kept for a shape; it weighs as much as another of the same shape before it would."""
        if self.weight + weight > self.most:
            self.index.Clear()
            self.values, self.weight = {}, 0
        self.put(shape, value)
        self.weight += weight
        return value
