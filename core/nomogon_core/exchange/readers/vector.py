"""Vector drawings as pictures: SVG, DXF and one page of a PDF, rendered at a chosen resolution on white."""

from __future__ import annotations

import io
import math
import re
from typing import Any
from xml.etree import ElementTree

import attrs
import ezdxf
import numpy as np
import pypdfium2
import resvg_py
from ezdxf import bbox, recover
from ezdxf.addons.drawing import Frontend, RenderContext, config, layout, svg
from PIL import Image

from nomogon_core.errors import PictureError
from nomogon_core.picture.decode import MOST_PIXELS, reading
from nomogon_core.quantity.units import MM_PER_INCH

KINDS = {".svg": "SVG", ".dxf": "DXF", ".pdf": "PDF"}
LEAST_DPI, MOST_DPI = 30.0, 2400.0
CSS_DPI = 96.0
POINTS_PER_INCH = 72.0
LARGEST_DRAWING = 20_000_000
DXF_MARGIN_MM = 2.0
MOST_ENTITIES = 100_000
MOST_ELEMENTS, DEEPEST = 400_000, 200
# CSS Values and Units 3: pixels of 1/96 inch in each unit; em and ex of the usual 16 px.
CSS_PX = {"": 1.0, "px": 1.0, "in": 96.0, "mm": 96 / 25.4, "cm": 960 / 25.4, "q": 24 / 25.4, "pt": 4 / 3, "pc": 16.0}
CSS_PX |= {"em": 16.0, "ex": 8.0}
_LENGTH = re.compile(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:e[-+]?\d+)?)\s*([a-z%]*)\s*$", re.IGNORECASE)
_FETCHES = re.compile(rb"""(?:href|src)\s*=\s*["']\s*(?!\s*#|\s*data:)[^"']""", re.IGNORECASE)


@attrs.frozen
class Rendered:
    """A drawing as a picture: PNG bytes with its resolution, which is exact, in dots per inch."""

    png: bytes = attrs.field(repr=False)
    dpi: float
    pages: int = 1


def is_drawing(name: str) -> bool:
    """Whether a file of this name is a vector drawing."""
    return any(name.lower().endswith(ending) for ending in KINDS)


def render(data: bytes, name: str, dpi: float = 300.0, page: int = 1) -> Rendered:
    """Render a drawing.

    Args:
        data: the file's bytes.
        name: of the file; its ending says what it is.
        dpi: pixels per inch of the drawing's own size. An SVG without a size in units has 96 units an inch (CSS);
            DXF units are read from its header, millimetres where it has none.
        page: of a PDF, from 1.

    Raises:
        PictureError: damaged, empty, too large at this resolution, or it fetches other files.
    """
    kind = next((word for ending, word in KINDS.items() if name.lower().endswith(ending)), None)
    if kind is None:
        raise PictureError(f"{name} is no drawing; SVG, DXF or PDF was expected.")
    if not (math.isfinite(dpi) and LEAST_DPI <= dpi <= MOST_DPI):
        raise PictureError(
            f"The resolution must lie between {LEAST_DPI:g} and {MOST_DPI:g} dots per inch; {dpi:g} came. 300 suits "
            "most drawings."
        )
    if len(data) > LARGEST_DRAWING:
        raise PictureError(
            f"{name} has {len(data) / 1e6:.0f} MB; at most {LARGEST_DRAWING / 1e6:.0f} MB of a drawing are taken."
        )
    with reading(name, kind):
        pixels, pages = {"SVG": _svg, "DXF": _dxf, "PDF": _pdf}[kind](data, name, dpi, page)
    stream = io.BytesIO()
    Image.fromarray(pixels).save(stream, "PNG", dpi=(dpi, dpi), compress_level=2)
    return Rendered(stream.getvalue(), dpi, pages)


def _check_size(width, height, name, dpi):
    if not (width >= 1 and height >= 1):
        raise PictureError(f"{name} draws nothing. Save it anew with something in it.")
    if width * height > MOST_PIXELS:
        fits = dpi * math.sqrt(MOST_PIXELS / (width * height))
        raise PictureError(
            f"{name} at {dpi:g} dpi would have {width * height / 1e6:.0f} megapixels; at most {MOST_PIXELS / 1e6:.0f} "
            "are taken. "
            f"Choose {math.floor(fits)} dpi or less."
        )


def _on_white(png):
    picture = Image.open(io.BytesIO(bytes(png))).convert("RGBA")
    return np.asarray(Image.alpha_composite(Image.new("RGBA", picture.size, "white"), picture).convert("RGB"))


def _svg(data, name, dpi, page):
    size = check_svg(data, name)
    text, zoom = data.decode("utf-8-sig"), dpi / CSS_DPI
    if size is None:
        size = _on_white(resvg_py.svg_to_bytes(svg_string=text, dpi=int(CSS_DPI))).shape[1::-1]
    width, height = (side * zoom for side in size)
    _check_size(width, height, name, dpi)
    return _on_white(resvg_py.svg_to_bytes(svg_string=text, dpi=int(CSS_DPI), width=max(1, round(width)))), 1


def check_svg(data: bytes, name: str) -> list[float] | None:
    """[width, height] in CSS pixels that an SVG says it has (SVG 2, 8.2: per cent are of its viewBox), or None where it
    says none.

    Raises:
        PictureError: it is no SVG, nested too deeply, has too many elements, or points to other files.
    """
    if b"<!ENTITY" in data or _FETCHES.search(data):
        raise PictureError(f"{name} points to other files, which are not fetched. Save it with everything embedded.")
    depth, count, head = 0, 0, None
    try:
        for event, element in ElementTree.iterparse(io.BytesIO(data), ("start", "end")):
            if event == "end":
                depth -= 1
                element.clear()
                continue
            depth, count = depth + 1, count + 1
            head = dict(element.attrib) if head is None else head
            if depth > DEEPEST:
                raise PictureError(
                    f"{name} nests its groups more than {DEEPEST} deep. Dissolve its groups and save it anew."
                )
            if count > MOST_ELEMENTS:
                raise PictureError(f"{name} has over {MOST_ELEMENTS:,} elements. Save the part of it that is wanted.")
    except ElementTree.ParseError as problem:
        raise PictureError(f"{name} cannot be read as SVG: {problem}. Save it anew.") from None
    head = head or {}
    box = [float(number) for number in re.split(r"[\s,]+", head.get("viewBox", "").strip()) if number]
    sides = []
    for side, of_box in zip(("width", "height"), box[2:] if len(box) == 4 else (None, None)):
        said = _LENGTH.match(head.get(side, "100%"))
        if said is None or (said[2] == "%" and of_box is None):
            return None
        share = of_box / 100 if of_box is not None and said[2] == "%" else CSS_PX.get(said[2].lower(), 1.0)
        sides.append(float(said[1]) * share)
    return sides


def check_dxf(document: Any, name: str) -> None:
    """Refuse a DXF that draws too much, what its blocks hold counted as often as they are inserted (rows and columns
    too).

    Raises:
        PictureError: a block inserts itself, directly or through others, or there are too many.
    """
    counts = {}

    def of(layout, inside):
        total = 0
        for entity in layout:
            total += 1
            if entity.dxftype() == "INSERT":
                block = entity.dxf.name
                if block in inside:
                    raise PictureError(f"{name} cannot be drawn: its block {block!r} inserts itself. Save it anew.")
                if block not in counts and block in document.blocks:
                    counts[block] = of(document.blocks[block], {*inside, block})
                copies = max(1, entity.dxf.row_count) * max(1, entity.dxf.column_count)
                total += copies * counts.get(block, 0)
        return total

    total = of(document.modelspace(), set())
    if total > MOST_ENTITIES:
        raise PictureError(
            f"{name} draws {total:,} things, those in its blocks counted as often as they are inserted; at most "
            f"{MOST_ENTITIES:,} are taken. Save the part of it that is wanted."
        )


def _dxf(data, name, dpi, page):
    try:
        document, _ = recover.read(io.BytesIO(data))
    except ezdxf.DXFError as problem:
        raise PictureError(
            f"{name} cannot be read as DXF: {str(problem)[:120]}. Save it as DXF R2000 or newer."
        ) from None
    check_dxf(document, name)
    space = document.modelspace()
    box = bbox.extents(space, fast=True)
    if not box.has_data:
        raise PictureError(f"{name} draws nothing. Save it anew with something in it.")
    unit = ezdxf.units.conversion_factor(document.units or ezdxf.units.MM, ezdxf.units.MM)
    width, height = (side * unit + 2 * DXF_MARGIN_MM for side in (box.size.x, box.size.y))
    _check_size(width / MM_PER_INCH * dpi, height / MM_PER_INCH * dpi, name, dpi)
    backend = svg.SVGBackend()
    plain = config.Configuration(
        background_policy=config.BackgroundPolicy.WHITE,
        color_policy=config.ColorPolicy.BLACK,
        lineweight_policy=config.LineweightPolicy.ABSOLUTE,
    )
    Frontend(RenderContext(document), backend, config=plain).draw_layout(space)
    sheet = layout.Page(width, height, layout.Units.mm, layout.Margins.all(DXF_MARGIN_MM))
    text = backend.get_string(sheet, settings=layout.Settings(scale=unit, fit_page=False))
    across, down = (max(1, round(side / MM_PER_INCH * dpi)) for side in (width, height))
    sized = re.sub(r'width="[\d.]+mm" height="[\d.]+mm"', f'width="{across}" height="{down}"', text, count=1)
    return _on_white(resvg_py.svg_to_bytes(svg_string=sized)), 1


def _pdf(data, name, dpi, page):
    document = pypdfium2.PdfDocument(data)
    try:
        if not 1 <= page <= len(document):
            raise PictureError(
                f"{name} has {len(document)} page{'s' if len(document) > 1 else ''}; page {page} was asked for."
            )
        sheet = document[page - 1]
        width, height = (side / POINTS_PER_INCH * dpi for side in sheet.get_size())
        _check_size(width, height, name, dpi)
        return np.asarray(sheet.render(scale=dpi / POINTS_PER_INCH).to_pil().convert("RGB")), len(document)
    finally:
        document.close()
