"""All addresses of the application."""

from django.contrib.auth import views as auth
from django.contrib.auth.decorators import login_not_required
from django.db import connection
from django.http import HttpResponse
from django.urls import include, path

from shell import guide, history, metrics, people, views
from shell.frame import stage_page
from stages.inspect import views as inspect
from stages.reference import views as reference
from stages.release import views as release
from stages.sketch import views as sketch
from stages.solid import views as solid
from work import views as work


@login_not_required
def alive(request):
    """Answers when the server and its database are up."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1")
    return HttpResponse("up", content_type="text/plain")


JOB = [
    path("", views.open_job, name="job"),
    path("do/<str:name>", views.do, name="do"),
    path("undo", views.undo, name="undo"),
    path("redo", views.redo, name="redo"),
    path("panel/<str:stage>", views.panel, name="panel"),
    path("quantity", views.quantity, name="quantity"),
    path("archive", views.archive, name="archive"),
    path("picture/<str:digest>", views.picture, name="picture"),
    path("reference", stage_page("reference", reference.page_context), name="reference"),
    path("reference/board", reference.board, name="reference-board"),
    path("reference/pick", reference.pick, name="reference-pick"),
    path("reference/find", reference.find, name="reference-find"),
    path("reference/quality", reference.quality, name="reference-quality"),
    path("reference/axis", reference.mirror_axis, name="reference-axis"),
    path("reference/next", reference.next_measurement, name="reference-next"),
    path("reference/caliper", reference.read_caliper, name="reference-caliper"),
    path("reference/pictures", reference.add_picture, name="reference-pictures"),
    path("reference/preview", reference.preview_steps, name="reference-preview"),
    path("reference/clean", reference.start_cleaning, name="reference-clean"),
    path("reference/cleaned/<int:task>", reference.cleaned, name="reference-cleaned"),
    path("reference/flat/<str:picture>/<str:key>", reference.flat, name="reference-flat"),
    path("reference/outlines", reference.outlines, name="reference-outlines"),
    path("reference/choose", reference.choose_picture, name="reference-choose"),
    path("reference/trace", reference.start_trace, name="reference-trace"),
    path("sketch", stage_page("sketch"), name="sketch"),
    path("sketch/meant", sketch.meant, name="sketch-meant"),
    path("sketch/edits", sketch.edits, name="sketch-edits"),
    path("sketch/drawing", sketch.drawing, name="sketch-drawing"),
    path("sketch/preview", sketch.preview, name="sketch-preview"),
    path("sketch/open", sketch.open_sketch, name="sketch-open"),
    path("sketch/board", sketch.board, name="sketch-board"),
    path("sketch/stick", sketch.stick_to_edge, name="sketch-stick"),
    path("sketch/follow", sketch.follow_preview, name="sketch-follow"),
    path("sketch/comb", sketch.comb, name="sketch-comb"),
    path("sketch/drag", sketch.drag, name="sketch-drag"),
    path("sketch/solid", sketch.solid, name="sketch-solid"),
    path("sketch/edge", sketch.edge, name="sketch-edge"),
    path("solid", stage_page("solid"), name="solid"),
    path("solid/build", solid.build, name="solid-build"),
    path("solid/measure", solid.measure, name="solid-measure"),
    path("solid/preview", solid.preview, name="solid-preview"),
    path("solid/mesh", solid.bring, name="solid-bring"),
    path("solid/mesh/<str:key>", solid.mesh, name="solid-mesh"),
    path("inspect", stage_page("inspect"), name="inspect"),
    path("inspect/findings", inspect.findings, name="inspect-findings"),
    path("inspect/machines", inspect.machines, name="inspect-machines"),
    path("release", stage_page("release", release.page_context), name="release"),
    path("release/allowed", release.allowed, name="release-allowed"),
    path("release/keep", release.keep, name="release-keep"),
    path("release/kept/<int:number>", release.kept, name="release-kept"),
    path("release/try/<str:device>", release.tried, name="release-try"),
    path("release/tried/<str:device>/<int:task>", release.shown_of, name="release-tried"),
    path("release/make", release.make, name="release-make"),
    path("release/file/<int:task>", release.download, name="release-file"),
    path("history", history.page, name="history"),
    path("history/differences", history.differences, name="differences"),
    path("history/back", history.back, name="history-back"),
    path("history/revisions", history.name_revision, name="revisions"),
    path("people", people.page, name="people"),
    path("people/add", people.add, name="people-add"),
    path("people/remove", people.remove, name="people-remove"),
    path("copy", people.copy, name="job-copy"),
    path("away", people.put_away, name="job-away"),
    path("delete", people.delete, name="job-delete"),
    path("news", people.news, name="news"),
    path("work/<int:task>", work.state, name="work"),
    path("work/<int:task>/cancel", work.cancel, name="work-cancel"),
]

urlpatterns = [
    path("", views.register, name="register"),
    path("alive", alive),
    path("metrics", metrics.page, name="metrics"),
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
    path("new", views.new, name="new"),
    path("guide", guide.page, name="guide"),
    path("guide/pictures/<slug:name>", guide.picture, name="guide-picture"),
    path("guide/<slug:slug>", guide.page, name="guide-chapter"),
    path("units/<str:unit>", views.units, name="units"),
    path("jobs/<uuid:job_id>/", include(JOB)),
]
