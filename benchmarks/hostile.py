"""Files made to harm, and damaged ones of every format."""

import io
import json
import zipfile
import zlib

import ezdxf
import numpy as np
from PIL import Image

from core.tests.specimens import SVG_DISC, dxf_bytes, dxf_rectangle, pdf_rectangle
from nomogon_core.job.document import new_document
from nomogon_core.job.files import write_job
from nomogon_core.job.library import Library

FORMATS = ("PNG", "JPEG", "WEBP", "TIFF", "BMP", "GIF", "HEIF", "AVIF")
SVG = '<svg xmlns="http://www.w3.org/2000/svg" width="{0}" height="{0}">{1}</svg>'


def nested_svg(depth):
    return SVG.format(40, "<g>" * depth + '<rect width="9" height="9"/>' + "</g>" * depth).encode()


def wide_svg(side):
    return SVG.format(side, "").encode()


def blurred_svg(side=2200, times=12):
    """Blurs as wide as the picture, one on another."""
    one = f'<rect filter="url(#f)" width="{side}" height="{side}"/>'
    return SVG.format(side, '<filter id="f"><feGaussianBlur stdDeviation="1900"/></filter>' + one * times).encode()


def copying_svg(levels=12):
    """Each group is drawn ten times by the next."""
    groups = "".join(f'<g id="a{n + 1}">{f"""<use href="#a{n}"/>""" * 10}</g>' for n in range(levels))
    return SVG.format(
        400, f'<defs><rect id="a0" width="9" height="9"/>{groups}</defs><use href="#a{levels}"/>'
    ).encode()


def nested_dxf(levels, inserts, itself=False):
    """Blocks that hold one another, the innermost itself if wanted."""
    document = ezdxf.new()
    inner = document.blocks.new("B0")
    inner.add_line((0, 0), (1, 1))
    for level in range(1, levels):
        block = document.blocks.new(f"B{level}")
        for index in range(inserts):
            block.add_blockref(f"B{level - 1}", (index, 0))
    document.modelspace().add_blockref(f"B{levels - 1}", (0, 0))
    if itself:
        inner.add_blockref("B0", (1, 0))
    return dxf_bytes(document)


def gridded_dxf(rows):
    """One block inserted in rows and columns."""
    document = ezdxf.new()
    document.blocks.new("B").add_line((0, 0), (1, 1))
    document.modelspace().add_blockref("B", (0, 0), dxfattribs={"row_count": rows, "column_count": rows})
    return dxf_bytes(document)


def whole_files():
    """{name: bytes} of a sound file of each format that is taken in."""
    noise, files = np.random.default_rng(3).integers(0, 255, (48, 64, 3), np.uint8), {}
    for kind in FORMATS:
        stream = io.BytesIO()
        Image.fromarray(noise).save(stream, kind)
        files[f"noise.{kind.lower()}"] = stream.getvalue()
    files |= {"disc.svg": SVG_DISC, "plate.dxf": dxf_rectangle(), "page.pdf": pdf_rectangle()}
    archive = write_job("Plate", "1", new_document(), Library())
    with zipfile.ZipFile(io.BytesIO(archive)) as bundle:
        held = json.loads(bundle.read("job.json"))
    plain = io.BytesIO()
    with zipfile.ZipFile(plain, "w") as bundle:  # not packed, so that what is broken is the document
        bundle.writestr("job.json", json.dumps(held))
    return files | {"job.zip": archive, "plain.zip": plain.getvalue()}


def broken(data, random):
    """Bytes with some changed, cut off, doubled or spoiled; the checksum of an archive goes with its contents."""
    data = bytearray(data)
    way = random.integers(4)
    low, high = sorted(random.integers(0, len(data) + 1, 2))
    if way == 0:
        for place in random.integers(0, len(data), max(1, len(data) // 200)):
            data[place] = random.integers(256)
    elif way == 1:
        del data[low:high]
    elif way == 2:
        data[low:low] = data[low:high][:4000]
    else:
        for _ in range(8):
            place = int(random.integers(0, len(data)))
            data[place : place + 4] = bytes(random.choice([0, 255, 127, 128], 4).astype(np.uint8))
    if data[:4] == b"PK\x03\x04" and len(data) > 60:
        size = int.from_bytes(data[18:22], "little")
        start = 30 + int.from_bytes(data[26:28], "little") + int.from_bytes(data[28:30], "little")
        data[14:18] = zlib.crc32(data[start : start + size]).to_bytes(4, "little")
    return bytes(data)


def hostile_files(random, count):
    """(name, bytes) of many broken files over all formats, and of those made to harm."""
    sound = list(whole_files().items())
    yield "deep.svg", nested_svg(1000)
    yield "wide.svg", wide_svg(100000)
    yield "blur.svg", blurred_svg()
    yield "copies.svg", copying_svg()
    yield "blocks.dxf", nested_dxf(7, 10)
    yield "grid.dxf", gridded_dxf(20000)
    yield "loop.dxf", nested_dxf(2, 1, itself=True)
    for index in range(count):
        name, data = sound[index % len(sound)]
        yield name, broken(data, random)
