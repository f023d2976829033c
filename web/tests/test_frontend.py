"""The pages' own text: types, form and pure modules of the scripts, and templates that can be read."""

import shutil
import subprocess
import unittest

from nomogon_web.settings import ROOT

LONGEST_LINE = 160


class Frontend(unittest.TestCase):
    def test_scripts_are_sound(self):
        """TypeScript's checker over the JSDoc types, the formatter, and the tests of what needs no page."""
        done = subprocess.run(
            [shutil.which("npm"), "run", "--silent", "check"], cwd=ROOT, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stdout[-3000:] + done.stderr[-1000:])
        self.assertRegex(done.stdout, r"pass [1-9]")

    def test_no_line_of_a_template_is_too_long(self):
        long = [
            f"{path.name}:{number}"
            for path in sorted((ROOT / "web").glob("s*/**/templates/*.html"))
            for number, line in enumerate(path.read_text().splitlines(), 1)
            if len(line) > LONGEST_LINE
        ]
        self.assertEqual(long, [])
