"""Operations of the Build sheet as data. Each is one sentence with numbers that can be changed.

An operation refers to regions, circles and edges by what made them, never by a running number of the
kernel, so that it finds them again after a rebuild.
"""

import hashlib
import json

import attrs

from nomogon_core.errors import OperationError

KINDS = ("extrude", "hole", "fillet")
MODES = ("new", "add", "cut")
EDGE_RULES = {"top": "all top edges", "bottom": "all bottom edges", "upright": "all upright edges"}
NUMBERS = {
    "extrude": {"length": "length", "start": "start"},
    "hole": {"diameter": "diameter", "depth": "depth"},
    "fillet": {"radius": "radius"},
}
DENSITIES = {"PLA": 1.24, "PETG": 1.27, "ABS": 1.04, "aluminium": 2.70, "steel": 7.85, "brass": 8.5}


@attrs.frozen
class Operation:
    """One operation.

    Attributes:
        name: id, unique in the job.
        kind: extrude, hole or fillet.
        mode: of an extrude: a new body, added or cut.
        body: the body that it makes or changes.
        regions: of an extrude, by region name.
        centers: of a hole: ids of circles, arcs or points of the sketch.
        edges: of a fillet: a rule of EDGE_RULES, or edge names.
        length, start: of an extrude, from the base plane up; start may be negative.
        through: a cut or hole goes through everything.
        diameter, depth: of a hole; depth counts from the top of the body.
        radius: of a fillet.
        suppressed: left out.
        title: what the user calls it.
    """

    name: str
    kind: str = attrs.field(validator=attrs.validators.in_(KINDS))
    mode: str = attrs.field(default="add", validator=attrs.validators.in_(MODES))
    body: str = "Part"
    regions: tuple = attrs.field(default=(), converter=tuple)
    centers: tuple = attrs.field(default=(), converter=tuple)
    edges: tuple = attrs.field(default=(), converter=tuple)
    length: float = 0.0
    start: float = 0.0
    through: bool = False
    diameter: float = 0.0
    depth: float = 0.0
    radius: float = 0.0
    suppressed: bool = False
    title: str = ""

    def numbers(self):
        """Fields of this operation that are lengths, in the order of its sentence."""
        if self.kind == "extrude":
            return () if self.through else (("length",) if self.start == 0 else ("length", "start"))
        if self.kind == "hole":
            return ("diameter",) if self.through else ("diameter", "depth")
        return ("radius",)


def check(operation):
    """Refuse numbers that make no sense before any geometry is tried.

    Raises:
        OperationError: a length is not positive, or nothing is chosen.
    """
    if operation.kind == "extrude":
        if not operation.regions:
            raise OperationError("Extrude needs at least one closed region; choose one on the Board.")
        if not operation.through and operation.length <= 0:
            raise OperationError("The length to extrude must be more than zero.")
    if operation.kind == "hole":
        if not operation.centers:
            raise OperationError("A hole needs a circle or a point of the sketch as its centre; choose one.")
        if operation.diameter <= 0:
            raise OperationError("The diameter of a hole must be more than zero.")
        if not operation.through and operation.depth <= 0:
            raise OperationError("The depth of a hole must be more than zero; or let it go through.")
    if operation.kind == "fillet":
        if not operation.edges:
            raise OperationError("A fillet needs edges: choose a rule or click edges of the solid.")
        if operation.radius <= 0:
            raise OperationError("The radius of a fillet must be more than zero.")
    return operation


def to_json(operation):
    data = attrs.asdict(operation)
    return {key: list(value) if isinstance(value, tuple) else value for key, value in data.items()}


def from_json(data):
    """An operation from plain data.

    Raises:
        OperationError: the data is no operation.
    """
    try:
        return Operation(**data)
    except (TypeError, ValueError) as problem:
        raise OperationError(f"The operation cannot be read: {problem}") from None


def fingerprint(*parts):
    """Hash of plain data, the key under which results are kept."""
    return hashlib.sha256(json.dumps(parts, sort_keys=True, default=str).encode()).hexdigest()


@attrs.frozen
class Facts:
    """What is known of one body after an operation.

    Attributes:
        volume_mm3, area_mm2: of the exact shape.
        box: ((min x, y, z), (max x, y, z)) in millimetres.
        center: centre of mass.
        solids: how many separate solids it is.
        valid: closed and free of errors by the kernel's own check.
    """

    volume_mm3: float
    area_mm2: float
    box: tuple
    center: tuple
    solids: int
    valid: bool

    @property
    def size(self):
        return tuple(high - low for low, high in zip(*self.box))

    def mass_g(self, material):
        return self.volume_mm3 / 1000 * DENSITIES[material]


@attrs.frozen
class Step:
    """What came of one operation: the facts of each body after it, or why it failed."""

    name: str
    facts: dict = attrs.field(factory=dict)
    problem: str = ""
    suggestion: float | None = None
    suppressed: bool = False
