"""Long work: crashes, time limits, cancelling, and work that is done once."""

import os
import time
import unittest
import uuid
from datetime import timedelta
from unittest import mock

from django.db import IntegrityError, transaction
from django.utils import timezone
from pebble.pool.base_pool import PoolStatus

from nomogon_core.sketch.regions import find_regions
from store.documents import document_of
from web.tests import crashers
from web.tests.helpers import JobCase, extrusion
from work import kernels, queue, services, tasks
from work.models import Output, Shape, Task
from work.pool import Lanes, Pool, Stopped
from work.shapes import MOST_OF_A_STEP, Shapes, shared_by

RELEASED = {"file": "stl", "title": "x", "chord": 0.1}


class Pools(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.pool = Pool("work.readers", processes=1, memory_bytes=700 * 2**20)
        cls.addClassCleanup(cls.pool.close)

    def stops(self, reason, function, seconds=30, watch=None):
        begin = time.monotonic()
        with self.assertRaisesRegex(Stopped, f"^{reason}$"):
            self.pool.run(function, [], seconds, watch)
        self.assertLess(time.monotonic() - begin, 20)
        self.assertEqual(self.pool.run(crashers.answer, [7], 30), 7, "the next call works")

    def test_each_way_to_end_without_a_result_is_told(self):
        self.stops("crashed", crashers.crash)
        self.stops("too long", crashers.hang, seconds=0.5)
        self.stops("too large", crashers.swallow)
        self.stops("cancelled", crashers.hang, watch=lambda: True)

    def test_a_pool_that_broke_as_a_whole_is_replaced(self):
        broken = self.pool.start()
        broken._context.status = PoolStatus.ERROR
        self.assertEqual(self.pool.run(crashers.answer, [8], 30), 8)
        self.assertIsNot(self.pool.start(), broken)

    def test_an_error_of_the_work_itself_is_told_and_replaces_nothing(self):
        before = self.pool.start()
        with self.assertRaisesRegex(RuntimeError, "of the work"):
            self.pool.run(crashers.fail, [], 30)
        self.assertIs(self.pool.start(), before)


class Warmth(unittest.TestCase):
    def test_what_belongs_together_goes_where_it_went_before(self):
        lanes = Lanes("work.readers", 2, 700 * 2**20)
        self.addCleanup(lanes.close)
        went = {owner: {lanes.run(owner, os.getpid, [], 30) for _ in range(3)} for owner in "abab"}
        self.assertEqual([len(each) for each in went.values()], [1, 1])
        self.assertNotEqual(went["a"], went["b"])


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
        tasks.pool.close()
        super().tearDownClass()

    def submitted(self):
        return services.submit(self.job, "rebuild", services.rebuild_arguments(document_of(self.job)))

    def finished(self, task, holder="w1"):
        claimed = queue.claim(holder)
        if claimed is not None:
            tasks.run(claimed)
        task.refresh_from_db()
        return task

    def test_a_rebuild_gives_facts_and_a_mesh_once(self):
        task = self.finished(self.submitted())
        self.assertEqual(task.status, Task.DONE, task.problem)
        self.assertTrue(next(iter(task.result["bodies"].values()))["valid"])
        self.assertGreater(len(task.output.data), 1000)
        self.assertEqual(self.submitted().pk, task.pk)
        state = self.post("solid/build", {}).json()
        self.assertEqual(state["mesh"], task.digest)
        self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/solid/mesh/{task.digest}").status_code, 200)
        self.client.force_login(self.mt)
        self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/solid/mesh/{task.digest}").status_code, 404)

    def test_a_first_picture_is_there_while_the_work_goes_on_and_makes_room_for_the_whole(self):
        task = self.submitted()
        claimed = queue.claim("w1")
        queue.show(claimed, b"early", "e" * 64)
        asked = self.post("solid/build", {}).json()
        self.assertEqual((asked["mesh"], asked["work"]["first"]), (None, "e" * 64))
        early = self.client.get(f"/jobs/{self.job.pk}/solid/mesh/{'e' * 64}")
        self.assertEqual(early.content, b"early")
        tasks.run(claimed)
        task.refresh_from_db()
        self.assertGreater(len(task.output.data), 1000)
        self.assertEqual(self.post("solid/build", {}).json()["work"]["first"], "")
        self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/solid/mesh/{'e' * 64}").status_code, 404)
        queue.show(claimed, b"late", "f" * 64)
        task.refresh_from_db()
        self.assertNotEqual(task.digest, "f" * 64, "what has ended is not drawn over")

    def test_what_took_its_time_is_shared_and_of_each_step_the_newest(self):
        self.finished(self.submitted())
        shapes = Shape.objects.filter(job=self.job)
        steps = set(shapes.values_list("step", flat=True))
        self.assertLessEqual(len(steps), 4)
        tasks.pool.close()
        shared = shared_by(self.job.pk)
        store = Shapes(*shared)
        for number in range(5):
            store.put(f"k{number}", "op9", b"shape %d" % number)
        self.assertEqual([store.get(f"k{number}") for number in (0, 1, 4)], [None, None, b"shape 4"])
        self.assertEqual(shapes.filter(step="op9").count(), MOST_OF_A_STEP)
        self.assertIsNone(Shapes(shared[0], uuid.uuid4()).get("k4"), "it belongs to one job")
        task = services.submit(self.job, "release", services.rebuild_arguments(document_of(self.job)) | RELEASED)
        self.assertEqual(self.finished(task).status, Task.DONE, "fresh processes go on from there")

    def test_a_file_is_written_by_a_worker_and_fetched_in_pieces(self):
        self.assertContains(self.post("release/make", {"kind": "exe"}), "no file format", status_code=400)
        self.assertContains(self.post("release/make", {"kind": "stl", "chord": "-1"}), "tolerance", status_code=400)
        asked = self.post("release/make", {"kind": "dxf"}).json()
        self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/release/file/{asked['task']}").status_code, 404)
        task = self.finished(Task.objects.get(pk=asked["task"]))
        with mock.patch.object(services, "PIECE_BYTES", 1000):
            answer = self.client.get(f"/jobs/{self.job.pk}/release/file/{task.pk}")
            pieces = list(answer)
        self.assertEqual(b"".join(pieces), bytes(task.output.data))
        self.assertEqual([len(piece) for piece in pieces[:-1]], [1000] * (len(pieces) - 1))
        self.assertEqual(int(answer["Content-Length"]), sum(map(len, pieces)))
        self.assertIn(".dxf", answer["Content-Disposition"])

    def test_without_the_store_work_goes_on(self):
        store = Shapes({"host": "127.0.0.1", "port": 1, "dbname": "none"}, self.job.pk)
        self.addCleanup(setattr, Shapes, "_lost_until", 0.0)
        self.addCleanup(setattr, Shapes, "_connection", None)
        Shapes._connection = None
        with self.assertLogs("work.shapes", "WARNING"):
            self.assertIsNone(store.get("k"))
        store.put("k", "op1", b"shape")

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

    def expire(self, task):
        Task.objects.filter(pk=task.pk).update(held_until=timezone.now() - timedelta(hours=1))

    def test_what_a_dead_worker_held_is_taken_up_and_it_cannot_finish_it_any_more(self):
        task = self.submitted()
        first = queue.claim("w1")
        self.assertEqual((first.pk, first.attempt), (task.pk, 1))
        self.assertIsNone(queue.claim("w2"), "it is held")
        queue.beat("w1")
        self.assertIsNone(queue.claim("w2"))
        self.expire(task)
        second = queue.claim("w2")
        self.assertEqual((second.pk, second.attempt), (task.pk, 2))
        self.assertFalse(queue.finish(first, b"late", status=Task.DONE, result={}))
        self.assertTrue(queue.finish(second, b"mesh", status=Task.DONE, result={}))
        task.refresh_from_db()
        self.assertEqual((bytes(task.output.data), task.arguments, task.attempt), (b"mesh", {}, 2))

    def test_a_worker_that_leaves_gives_back_what_it_held(self):
        task = self.submitted()
        queue.claim("w1")
        queue.give_back("w1")
        again = queue.claim("w2")
        self.assertEqual((again.pk, again.attempt), (task.pk, 1))

    def test_what_stops_every_worker_is_given_up(self):
        task = self.submitted()
        for _ in range(queue.MOST_ATTEMPTS):
            self.assertEqual(queue.claim("w1").pk, task.pk)
            self.expire(task)
        self.assertIsNone(queue.claim("w1"))
        queue.beat("w2")
        task.refresh_from_db()
        self.assertEqual(task.status, Task.FAILED)
        self.assertIn("begun 3 times", task.problem)

    def test_the_same_is_asked_for_once_and_kept_only_for_a_while(self):
        self.assertEqual(self.submitted().pk, self.submitted().pk)
        with self.assertRaises(IntegrityError), transaction.atomic():
            Task.objects.create(job=self.job, kind="rebuild", key=self.submitted().key)
        self.finished(self.submitted())
        for index in range(services.MOST_KEPT + 5):
            services.keep_done(self.job, "trace", {"n": index}, {}, b"x")
        services.submit(self.job, "trace", {"n": -1})
        self.assertEqual(Task.objects.filter(job=self.job, kind="trace").count(), services.MOST_KEPT)
        self.assertEqual(Output.objects.count(), services.MOST_KEPT, "the rebuild's and those of the traces but one")

    def test_what_the_core_refuses_is_the_problem(self):
        arguments = services.rebuild_arguments(document_of(self.job)) | {"file": "stl", "title": "x", "chord": 99.0}
        task = services.submit(self.job, "release", arguments)
        self.assertIn("chord tolerance must lie between", self.finished(task).problem)
