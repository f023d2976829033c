"""Solid bodies as STEP, STL and 3MF. Runs where the kernel is."""

from __future__ import annotations

import io
import struct
from typing import TYPE_CHECKING

import lib3mf
import numpy as np
from OCP.IFSelect import IFSelect_ReturnStatus
from OCP.Interface import Interface_Static
from OCP.Message import Message
from OCP.Quantity import Quantity_Color, Quantity_TypeOfColor
from OCP.STEPCAFControl import STEPCAFControl_Writer
from OCP.STEPControl import STEPControl_StepModelType
from OCP.TCollection import TCollection_ExtendedString
from OCP.TDataStd import TDataStd_Name
from OCP.TDocStd import TDocStd_Document
from OCP.XCAFDoc import XCAFDoc_ColorType, XCAFDoc_DocumentTool

from nomogon_core.errors import OperationError
from nomogon_core.exchange.flat import require_chord
from nomogon_core.solid.bodies import as_mesh

if TYPE_CHECKING:
    from nomogon_core.solid.bodies import Body


def _quiet():
    messenger = Message.DefaultMessenger_s()
    for printer in list(messenger.Printers()):
        messenger.RemovePrinter(printer)


def _require(bodies):
    if not bodies:
        raise OperationError("There is no body to release; extrude a region first.")


def _shares(colour):
    """Red, green and blue, 0 to 1, of a colour written #rrggbb."""
    return tuple(int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5))


def step(bodies: dict[str, Body]) -> bytes:
    """STEP AP214 bytes with one named, coloured product a body, in millimetres; meshes are left out.

    Raises:
        OperationError: there is no exact body, or the kernel could not write it.
    """
    _require(bodies)
    exact = [body for body in bodies.values() if body.mesh is None]
    if not exact:
        raise OperationError("STEP holds exact bodies, and there are only meshes; take STL or 3MF.")
    _quiet()
    document = TDocStd_Document(TCollection_ExtendedString("BinXCAF"))
    tool = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    colours = XCAFDoc_DocumentTool.ColorTool_s(document.Main())
    for body in exact:
        label = tool.AddShape(body.shape, False)
        TDataStd_Name.Set_s(label, TCollection_ExtendedString(body.title))
        colour = Quantity_Color(*_shares(body.colour), Quantity_TypeOfColor.Quantity_TOC_sRGB)
        colours.SetColor(label, colour, XCAFDoc_ColorType.XCAFDoc_ColorSurf)
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    writer = STEPCAFControl_Writer()
    writer.SetNameMode(True)
    writer.SetColorMode(True)
    stream = io.BytesIO()
    if (
        not writer.Transfer(document, STEPControl_StepModelType.STEPControl_AsIs)
        or writer.WriteStream(stream) != IFSelect_ReturnStatus.IFSelect_RetDone
    ):
        raise OperationError("The STEP file could not be written.")
    return stream.getvalue()


def _mesh(body, chord):
    """Triangles of a body with equal vertices joined."""
    require_chord(chord)
    mesh = body.mesh or as_mesh(body.shape, body.names, chord)
    return mesh.vertices, mesh.triangles


def stl(bodies: dict[str, Body], chord: float) -> bytes:
    """Binary STL bytes of all bodies together, no farther from the true surface than ``chord`` millimetres.

    Raises:
        OperationError: there is no body, or the chord tolerance is out of range.
    """
    _require(bodies)
    corners = np.concatenate(
        [vertices[triangles] for vertices, triangles in (_mesh(body, chord) for body in bodies.values())]
    )
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(normals, axis=1, keepdims=True)
    record = np.zeros(len(corners), dtype=[("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])
    record["normal"] = normals / np.where(size > 0, size, 1)
    record["corners"] = corners
    return b"Nomogon, millimetres".ljust(80, b" ") + struct.pack("<I", len(corners)) + record.tobytes()


def threemf(bodies: dict[str, Body], chord: float) -> bytes:
    """3MF bytes with one named, coloured object a body, in millimetres.

    Raises:
        OperationError: there is no body, or the chord tolerance is out of range.
    """
    _require(bodies)
    model = lib3mf.get_wrapper().CreateModel()
    model.SetUnit(lib3mf.ModelUnit.MilliMeter)
    identity = lib3mf.get_wrapper().GetIdentityTransform()
    materials = model.AddBaseMaterialGroup()
    for body in bodies.values():
        vertices, triangles = _mesh(body, chord)
        item = model.AddMeshObject()
        item.SetName(body.title)
        red, green, blue = (round(255 * share) for share in _shares(body.colour))
        kind = materials.AddMaterial(body.title, lib3mf.get_wrapper().RGBAToColor(red, green, blue, 255))
        item.SetGeometry(
            (lib3mf.Position * len(vertices)).from_buffer_copy(vertices.astype(np.float32).tobytes()),
            (lib3mf.Triangle * len(triangles)).from_buffer_copy(triangles.astype(np.uint32).tobytes()),
        )
        item.SetObjectLevelProperty(materials.GetResourceID(), kind)
        model.AddBuildItem(item, identity)
    return bytes(model.QueryWriter("3mf").WriteToBuffer())
