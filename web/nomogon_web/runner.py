"""The test runner: Django's own, with the core's tests among the rest and one closing line that counts."""

import unittest

from django.conf import settings
from django.test.runner import DiscoverRunner

from nomogon_web.settings import ROOT
from work import outside, services, tasks

PLACES = ("core", "web")


class Counting(unittest.TextTestResult):
    """Also counts what passed."""

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.passed = 0

    def addSuccess(self, test):
        super().addSuccess(test)
        self.passed += 1


class Runner(DiscoverRunner):
    """Finds the tests of core and web when no label is given, and ends with ``N passed, N failed, N skipped``."""

    def build_suite(self, test_labels=None, **kwargs):
        found = [
            f"{place}.tests.{path.stem}"
            for place in PLACES
            for path in sorted((ROOT / place / "tests").glob("test_*.py"))
        ]
        return super().build_suite(test_labels or found, **kwargs)

    def setup_test_environment(self, **kwargs):
        super().setup_test_environment(**kwargs)
        settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]

    def get_resultclass(self):
        return super().get_resultclass() or Counting

    def run_suite(self, suite, **kwargs):
        result = super().run_suite(suite, **kwargs)
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        passed = getattr(result, "passed", result.testsRun - failed - len(result.skipped))
        self.closing = f"{passed} passed, {failed} failed, {len(result.skipped)} skipped"
        return result

    def teardown_databases(self, old_config, **kwargs):
        services.ended.stop()
        for pool in (tasks.pool, outside.pool):
            pool.close()
        super().teardown_databases(old_config, **kwargs)

    def suite_result(self, suite, result, **kwargs):
        print(self.closing, flush=True)
        return super().suite_result(suite, result, **kwargs)
