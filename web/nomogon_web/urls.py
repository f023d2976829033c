"""All addresses of the application."""

from django.contrib.auth import views as auth
from django.contrib.auth.decorators import login_not_required
from django.db import connection
from django.http import HttpResponse
from django.urls import include, path

import inspection.views
import jobs.guide
import jobs.history
import jobs.metrics
import jobs.people
import jobs.views
import reference.views
import release.views
import sketch.views
import solid.views
import work.views


@login_not_required
def alive(request):
    """Answers when the server and its database are up."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1")
    return HttpResponse("up", content_type="text/plain")


JOB = [
    path("", jobs.views.open_job, name="job"),
    path("do/<str:name>", jobs.views.do, name="do"),
    path("undo", jobs.views.undo, name="undo"),
    path("redo", jobs.views.redo, name="redo"),
    path("panel/<str:stage>", jobs.views.panel, name="panel"),
    path("quantity", jobs.views.quantity, name="quantity"),
    path("archive", jobs.views.archive, name="archive"),
    path("picture/<str:digest>", jobs.views.picture, name="picture"),
    path("reference", reference.views.page, name="reference"),
    path("reference/board", reference.views.board, name="reference-board"),
    path("reference/pick", reference.views.pick, name="reference-pick"),
    path("reference/find", reference.views.find, name="reference-find"),
    path("reference/quality", reference.views.quality, name="reference-quality"),
    path("reference/axis", reference.views.mirror_axis, name="reference-axis"),
    path("reference/next", reference.views.next_measurement, name="reference-next"),
    path("reference/caliper", reference.views.read_caliper, name="reference-caliper"),
    path("reference/pictures", reference.views.add_picture, name="reference-pictures"),
    path("reference/preview", reference.views.preview_steps, name="reference-preview"),
    path("reference/clean", reference.views.start_cleaning, name="reference-clean"),
    path("reference/cleaned/<int:task>", reference.views.cleaned, name="reference-cleaned"),
    path("reference/flat/<str:picture>/<str:key>", reference.views.flat, name="reference-flat"),
    path("reference/outlines", reference.views.outlines, name="reference-outlines"),
    path("reference/choose", reference.views.choose_picture, name="reference-choose"),
    path("reference/trace", reference.views.start_trace, name="reference-trace"),
    path("sketch", sketch.views.page, name="sketch"),
    path("sketch/open", sketch.views.open_sketch, name="sketch-open"),
    path("sketch/board", sketch.views.board, name="sketch-board"),
    path("sketch/stick", sketch.views.stick_to_edge, name="sketch-stick"),
    path("sketch/follow", sketch.views.follow_preview, name="sketch-follow"),
    path("sketch/comb", sketch.views.comb, name="sketch-comb"),
    path("sketch/drag", sketch.views.drag, name="sketch-drag"),
    path("sketch/solid", sketch.views.solid, name="sketch-solid"),
    path("sketch/edge", sketch.views.edge, name="sketch-edge"),
    path("solid", solid.views.page, name="solid"),
    path("solid/build", solid.views.build, name="solid-build"),
    path("solid/preview", solid.views.preview, name="solid-preview"),
    path("solid/mesh/<str:key>", solid.views.mesh, name="solid-mesh"),
    path("inspect", inspection.views.page, name="inspect"),
    path("release", release.views.page, name="release"),
    path("release/make", release.views.make, name="release-make"),
    path("release/file/<int:task>", release.views.download, name="release-file"),
    path("history", jobs.history.page, name="history"),
    path("history/differences", jobs.history.differences, name="differences"),
    path("history/back", jobs.history.back, name="history-back"),
    path("history/revisions", jobs.history.name_revision, name="revisions"),
    path("people", jobs.people.page, name="people"),
    path("people/add", jobs.people.add, name="people-add"),
    path("people/remove", jobs.people.remove, name="people-remove"),
    path("copy", jobs.people.copy, name="job-copy"),
    path("away", jobs.people.put_away, name="job-away"),
    path("delete", jobs.people.delete, name="job-delete"),
    path("news", jobs.people.news, name="news"),
    path("work/<int:task>", work.views.state, name="work"),
    path("work/<int:task>/cancel", work.views.cancel, name="work-cancel"),
]

urlpatterns = [
    path("", jobs.views.register, name="register"),
    path("alive", alive),
    path("metrics", jobs.metrics.page, name="metrics"),
    path(
        "sign-in",
        auth.LoginView.as_view(template_name="sign_in.html", redirect_authenticated_user=True),
        name="sign-in",
    ),
    path(
        "password",
        auth.PasswordChangeView.as_view(template_name="password.html", success_url="/"),
        name="password",
    ),
    path("sign-out", auth.LogoutView.as_view(), name="sign-out"),
    path("new", jobs.views.new, name="new"),
    path("guide", jobs.guide.page, name="guide"),
    path("guide/pictures/<slug:name>", jobs.guide.picture, name="guide-picture"),
    path("guide/<slug:slug>", jobs.guide.page, name="guide-chapter"),
    path("units/<str:unit>", jobs.views.units, name="units"),
    path("jobs/<uuid:job_id>/", include(JOB)),
]
