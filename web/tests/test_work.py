"""Long work: crashes, time limits, cancelling, and work that is done once."""

import time
import unittest
from unittest import mock

from jobs.store import document_of
from nomogon_core.sketch.regions import find_regions
from web.tests import crashers
from web.tests.helpers import JobCase, extrusion
from work import kernels, pool, services, tasks
from work.models import Task


def never():
    return False


class Pool(unittest.TestCase):
    @classmethod
    def tearDownClass(cls):
        pool.close()

    def test_a_crash_is_told_and_the_next_call_works(self):
        with self.assertRaisesRegex(pool.Stopped, "The geometry kernel stopped while working on this"):
            pool.run(crashers.crash, [], "rebuild", never)
        self.assertEqual(pool.run(crashers.answer, [7], "rebuild", never), 7)

    def test_work_over_its_time_is_ended(self):
        with mock.patch.dict(pool.TIME_LIMITS_S, {"rebuild": 0.5}):
            begin = time.monotonic()
            with self.assertRaisesRegex(pool.Stopped, "took longer than 0.5 s"):
                pool.run(crashers.hang, [], "rebuild", never)
        self.assertLess(time.monotonic() - begin, 20)

    def test_cancelled_work_is_ended_without_a_word(self):
        begin = time.monotonic()
        with self.assertRaisesRegex(pool.Stopped, "^$"):
            pool.run(crashers.hang, [], "rebuild", lambda: True)
        self.assertLess(time.monotonic() - begin, 20)


class Tasks(JobCase):
    def setUp(self):
        super().setUp()
        region = find_regions(self.sketch())[0].name
        for length in ("4 mm", "3 mm", "2 mm", "1 mm"):
            mode = "new" if length == "4 mm" else "add"
            self.perform(
                "solid.add",
                **extrusion(region, length, result=mode),
            )

    @classmethod
    def tearDownClass(cls):
        pool.close()
        super().tearDownClass()

    def submitted(self):
        with mock.patch.object(tasks.run, "defer"):
            return services.submit(self.job, "rebuild", services.rebuild_arguments(document_of(self.job)))

    def finished(self, task):
        tasks.run(task.pk)
        task.refresh_from_db()
        return task

    def test_a_rebuild_gives_facts_and_a_mesh_once(self):
        task = self.finished(self.submitted())
        self.assertEqual(task.status, Task.DONE, task.problem)
        self.assertTrue(next(iter(task.result["bodies"].values()))["valid"])
        self.assertGreater(len(task.blob.data), 1000)
        self.assertEqual(self.submitted().pk, task.pk)
        state = self.client.get(f"/jobs/{self.job.pk}/solid/state").json()
        self.assertEqual(state["mesh"], task.blob_id)
        self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/solid/mesh/{task.blob_id}").status_code, 200)
        self.client.force_login(self.mt)
        self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/solid/mesh/{task.blob_id}").status_code, 404)

    def test_a_crash_is_pinned_on_its_operation(self):
        with mock.patch.object(kernels, "rebuild_job", crashers.rebuild_that_crashes):
            task = self.finished(self.submitted())
        self.assertEqual(task.status, Task.DONE)
        problems = [step["problem"] for step in task.result["steps"]]
        self.assertEqual(problems[:3], ["", "", ""])
        self.assertIn("The geometry kernel stopped", problems[3])
        self.assertIn("Not built", problems[4])

    def test_cancelled_before_it_began(self):
        task = self.submitted()
        self.post(f"work/{task.pk}/cancel", {})
        self.assertEqual(self.finished(task).status, Task.CANCELLED)

    def test_what_the_core_refuses_is_the_problem(self):
        with mock.patch.object(tasks.run, "defer"):
            task = services.submit(
                self.job,
                "release",
                services.rebuild_arguments(document_of(self.job)) | {"file": "stl", "title": "x", "chord": 99.0},
            )
        self.assertIn("chord tolerance must lie between", self.finished(task).problem)
