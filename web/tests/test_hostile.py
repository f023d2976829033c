"""Files made to harm, and damaged ones of every format: each is refused in a sentence, and the next one works."""

import io
import struct
import time
from unittest import mock

import cv2
import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from benchmarks.hostile import (
    blurred_svg,
    broken,
    copying_svg,
    gridded_dxf,
    nested_dxf,
    nested_svg,
    whole_files,
    wide_svg,
)
from core.tests.specimens import SVG_DISC
from store.models import Job
from web.tests.helpers import JobCase
from work import outside

LONGEST_S = 25
BROKEN_OF_EACH = 24


class Hostile(JobCase):
    @classmethod
    def tearDownClass(cls):
        outside.pool.close()
        super().tearDownClass()

    def send(self, data, name, **fields):
        upload = SimpleUploadedFile(name, data)
        return self.client.post("/new", {"picture": upload, "title": "", **fields})

    def refused(self, data, name, words, seconds=LONGEST_S):
        begin, jobs = time.monotonic(), Job.objects.count()
        answer = self.send(data, name)
        self.assertEqual(answer.status_code, 400)
        self.assertRegex(answer.context["problem"], words)
        self.assertLess(time.monotonic() - begin, seconds)
        self.assertEqual(Job.objects.count(), jobs)

    def test_drawings_that_would_stop_the_server(self):
        self.refused(nested_svg(1000), "deep.svg", "nests its groups more than 200 deep", 5)
        self.refused(wide_svg(100000), "wide.svg", "megapixels; at most 50 are taken", 5)
        self.refused(nested_dxf(7, 10), "blocks.dxf", r"draws [\d,]+ things, those in its blocks", 5)
        self.refused(gridded_dxf(20000), "grid.dxf", "draws 4[\\d,]+ things", 5)
        self.refused(nested_dxf(2, 1, itself=True), "loop.dxf", "its block 'B0' inserts itself", 5)
        self.enterContext(mock.patch.object(outside, "CPU_SECONDS", 4))
        self.refused(blurred_svg(), "blur.svg", "blur.svg (took more than|needs more memory|stopped)")
        self.refused(copying_svg(), "copies.svg", "copies.svg (took more than|needs more memory|stopped|is damaged)")
        self.assertEqual(self.send(SVG_DISC, "disc.svg").status_code, 302)

    def test_sixteen_bits_and_transparency_of_the_largest_size(self):
        """49 megapixels with four channels of 16 bits are 1.7 MB as a file and are decoded within the limit."""
        pixels = np.full((7000, 7000, 4), 65535, np.uint16)
        pixels[2000:5000, 2000:5000, :3] = 0
        answer = self.send(cv2.imencode(".png", pixels)[1].tobytes(), "large.png")
        self.assertEqual(answer.status_code, 302, answer.context and answer.context["problem"])

    def test_what_a_camera_noted_may_be_nonsense(self):
        """A JPEG whose orientation (tag 0x0112, TIFF 6.0) is the text "up" where a number belongs."""
        stream = io.BytesIO()
        Image.new("RGB", (60, 40), "white").save(stream, "JPEG")
        entry = struct.pack("<HHI4s", 0x0112, 2, 3, b"up\0\0")
        noted = b"Exif\0\0II*\0" + struct.pack("<IH", 8, 1) + entry + bytes(4)
        segment = b"\xff\xe1" + struct.pack(">H", len(noted) + 2) + noted
        self.assertEqual(self.send(b"\xff\xd8" + segment + stream.getvalue()[2:], "noted.jpg").status_code, 302)

    def test_an_upload_that_was_torn_off_makes_nothing(self):
        picture = whole_files()["noise.png"]
        head = b'--edge\r\nContent-Disposition: form-data; name="picture"; filename="a.png"\r\n\r\n'
        whole, jobs = head + picture + b"\r\n--edge--\r\n", Job.objects.count()
        for share in (0.02, 0.3, 0.9):
            torn = whole[: int(share * len(whole))]
            answer = self.client.generic("POST", "/new", torn, content_type="multipart/form-data; boundary=edge")
            self.assertEqual(answer.status_code, 400, share)
        self.assertEqual(Job.objects.count(), jobs)

    def test_damaged_files_of_every_format(self):
        random, bad = np.random.default_rng(20261126), []
        for name, data in whole_files().items():
            for _ in range(BROKEN_OF_EACH):
                answer = self.send(broken(data, random), name)
                if answer.status_code not in (302, 400):
                    bad.append((name, answer.status_code))
        self.assertEqual(bad, [])
