"""Several people in one job: members, history, revisions, copies, putting away and deleting."""

from store import making
from store.documents import Shelf, document_of
from store.models import Blob, Holding, Job, Member, Revision
from web.tests.browser import BrowserCase
from web.tests.helpers import JobCase, sketched_job


class People(JobCase):
    def send(self, rest, **fields):
        return self.client.post(f"/jobs/{self.job.pk}/{rest}", fields)

    def roles(self):
        return dict(Member.objects.filter(job=self.job).values_list("user__username", "role"))

    def test_an_owner_lets_people_in_changes_what_they_may_and_lets_them_go(self):
        self.send("people/add", who="mt", role="viewer")
        self.assertEqual(self.roles(), {"ro": "owner", "mt": "viewer"})
        self.send("people/add", who="mt", role="owner")
        self.send("people/add", who="ro", role="editor")
        self.assertEqual(self.roles(), {"ro": "editor", "mt": "owner"})
        self.assertEqual(self.send("people/remove", who="mt").status_code, 403)
        self.assertRedirects(self.send("people/remove", who="ro"), "/")
        self.assertEqual(self.roles(), {"mt": "owner"})

    def test_what_cannot_be_is_told(self):
        for rest, fields, words in (
            ("people/add", {"who": "nobody", "role": "viewer"}, "nobody called"),
            ("people/add", {"who": "m\0t", "role": "viewer"}, "nobody called"),
            ("people/add", {"who": "mt", "role": "king"}, "owner, editor or viewer"),
            ("people/add", {"who": "ro", "role": "viewer"}, "needs an owner"),
            ("people/remove", {"who": "ro"}, "needs an owner"),
            ("people/remove", {"who": "mt"}, "no member"),
            ("delete", {"title": "something"}, "Nothing was deleted"),
            ("history/back", {"to": "99", "version": "0"}, "no version"),
            ("history/revisions", {"name": "  "}, "needs a name"),
        ):
            self.assertContains(self.send(rest, **fields), words, status_code=400)
        self.assertEqual(self.roles(), {"ro": "owner"})

    def test_a_copy_is_on_its_own_and_a_deleted_job_leaves_nothing(self):
        Shelf(self.job).keep(b"picture", "image/png")
        self.do("sketch.title", text="Brass")
        copy = making.copy_job(self.mt, self.job)
        self.assertEqual(document_of(copy), document_of(self.job))
        self.assertEqual(list(copy.members.values_list("user__username", "role")), [("mt", "owner")])
        self.do("sketch.title", text="Steel")
        self.assertEqual(document_of(copy)["sketches"]["s1"]["title"], "Brass")
        self.assertRedirects(self.send("delete", title="Hive latch plate"), "/")
        self.assertFalse(Job.objects.filter(pk=self.job.pk).exists() or Holding.objects.exists())
        self.assertEqual(Blob.objects.count(), 1, "until the next sweep")

    def test_a_job_that_was_put_away_is_out_of_the_register_until_it_is_taken_back(self):
        self.send("away", away="1")
        self.assertNotContains(self.client.get("/"), "FLA-014")
        self.assertContains(self.client.get("/"), "1 put away")
        self.assertContains(self.client.get("/?away=1"), "FLA-014")
        self.send("away", away="0")
        self.assertContains(self.client.get("/"), "FLA-014")


class History(JobCase):
    def page(self, rest=""):
        return self.client.get(f"/jobs/{self.job.pk}/history{rest}")

    def test_it_tells_what_was_done_by_person_and_stage(self):
        self.share(self.mt, Member.EDITOR)
        self.do("sketch.title", text="Brass")
        self.client.force_login(self.mt)
        self.do("ledger.add", name="wall", text="2 mm")
        self.post("undo", {"version": 2})
        self.assertContains(self.page(), "Outline is called Brass now")
        self.assertContains(self.page(), "Undone: wall set to 2.00 mm")
        self.assertNotContains(self.page("?who=ro"), "wall set")
        self.assertNotContains(self.page("?stage=ledger"), "Brass")
        self.assertContains(self.page("?stage=ledger"), "wall set")
        self.assertEqual(self.page("?before=x").status_code, 400)

    def test_two_versions_are_compared_and_one_is_gone_back_to(self):
        self.do("sketch.circle", center=[300, 0], rim=[303, 0])
        self.client.post(f"/jobs/{self.job.pk}/history/revisions", {"name": "A", "version": "0"})
        self.do("ledger.add", name="wall", text="2 mm")
        answer = self.page("/differences?from=0")
        for words in ("Version 0 (A) against", "Outline: curves 1 added.", "wall", "2.00", "only in 0"):
            self.assertContains(answer, words)
        self.client.post(f"/jobs/{self.job.pk}/history/back", {"to": "0", "version": "2"})
        self.job.refresh_from_db()
        self.assertEqual(self.job.version, 3)
        self.assertContains(self.page("/differences?from=0&to=3"), "They are the same.")
        self.post("undo", {"version": 3})
        self.assertEqual(list(document_of(self.job)["quantities"].values())[0]["name"], "wall")
        self.assertEqual(Revision.objects.get().name, "A")

    def test_news_tell_what_others_did_and_who_is_here(self):
        self.share(self.mt, Member.VIEWER)
        self.do("sketch.title", text="Brass")
        self.client.get(f"/jobs/{self.job.pk}/news?version=1")
        self.client.force_login(self.mt)
        told = self.client.get(f"/jobs/{self.job.pk}/news?version=0").json()
        self.assertEqual(told, {"version": 1, "happened": ["Outline is called Brass now (ro)"], "others": ["RO"]})


class TwoPeople(BrowserCase):
    def test_both_see_what_the_other_does(self):
        ro, mt = self.users
        job = sketched_job(ro)
        Member.objects.create(job=job, user=mt, role=Member.EDITOR)
        self.drive(self.drive_two, job)

    def drive_two(self, page, job):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/sketch")
        other = page.context.browser.new_context(viewport=page.viewport_size).new_page()
        self.sign_in(other, "mt")
        other.goto(f"{self.live_server_url}/jobs/{job.pk}/sketch")
        row = other.locator("[data-row]", has_text="edge").first
        other.get_by_role("button", name="+ quantity").click()
        other.get_by_label("Name of the new quantity").fill("edge")
        other.get_by_label("Value or expression").fill("3 mm")
        other.keyboard.press("Enter")
        row.wait_for()
        page.locator("[data-row]", has_text="edge").first.wait_for()
        page.get_by_text("Just done: edge set to 3.00 mm (mt)").wait_for()
        page.get_by_text("also here: MT").wait_for()
        other.context.close()
