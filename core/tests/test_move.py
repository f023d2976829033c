"""Bodies moved, turned and laid on a plane."""

import math
import unittest

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn
from core.tests.test_operations import BOX, block, built, problem_of, step
from nomogon_core.solid import kernel


class Moves(unittest.TestCase):
    @settings(max_examples=12, deadline=None)
    @given(st.tuples(*[st.floats(-50, 50)] * 3), st.sampled_from("xyz"), st.floats(-math.pi, math.pi))
    def test_the_middle_goes_where_the_motion_brings_it_and_nothing_else_changes(self, way, axis, angle):
        """Rotation by Rodrigues' formula (trimesh, a general-purpose library)."""
        sketch = drawn(BOX)
        plain = built(sketch, block(sketch))["Plate"]
        blanks = dict(zip(("x", "y", "z"), way)) | {"angle": angle, "about": axis}
        body = built(sketch, block(sketch), step("op2", "move", of="Plate", how="by", **blanks))["Plate"]
        matrix = trimesh.transformations.rotation_matrix(angle, np.eye(3)["xyz".index(axis)])
        wanted = matrix[:3, :3] @ plain.facts.center + way
        np.testing.assert_allclose(body.facts.center, wanted, atol=1e-9)
        self.assertAlmostEqual(body.facts.volume_mm3, plain.facts.volume_mm3, places=6)
        told = [{one.names.get(face) for face in kernel.faces_of(one.shape)} for one in (plain, body)]
        self.assertEqual(*told)

    def test_a_face_is_laid_on_a_plane(self):
        sketch = drawn(BOX)
        names = {name for name in built(sketch, block(sketch))["Plate"].flat_faces() if "side" in name}
        for name in sorted(names):
            face = {"body": "Plate", "face": name}
            laid = step("op2", "move", of="Plate", how="onto", face=face, plane="plan")
            body = built(sketch, block(sketch), laid)["Plate"]
            frame = body.flat_faces()[name]
            self.assertAlmostEqual(frame.normal[2], -1, places=9)
            self.assertAlmostEqual(body.facts.box[0][2], 0, places=9)
        other = step("op2", "move", of="Plate", how="onto", face={"body": "Other", "face": "op1.top"}, plane="plan")
        self.assertIn("is a face of Plate", problem_of(sketch, block(sketch), other))
