"""What to watch, in the Prometheus text format."""

from django.conf import settings
from django.contrib.auth.decorators import login_not_required
from django.db import connection
from django.db.models import Count
from django.http import Http404, HttpResponse
from django.utils import timezone
from django.utils.crypto import constant_time_compare
from django.views.decorators.http import require_GET

from store.models import Blob, Command, Job
from work.models import Task

KINDS = {
    "nomogon_jobs": "Jobs stored.",
    "nomogon_changes_total": "Changes to jobs since the beginning.",
    "nomogon_blobs": "Pictures and other files stored.",
    "nomogon_database_bytes": "Size of the database.",
    "nomogon_tasks": "Pieces of long work by status.",
    "nomogon_oldest_waiting_seconds": "Age of the oldest work that nobody has taken up.",
}


@login_not_required
@require_GET
def page(request):
    """Numbers of the whole installation, for who knows the token that was set for it."""
    wanted = settings.METRICS_TOKEN
    if not wanted or not constant_time_compare(request.headers.get("Authorization", ""), f"Bearer {wanted}"):
        raise Http404("no such page")
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_database_size(current_database())")
        size = cursor.fetchone()[0]
    oldest = Task.objects.filter(status=Task.WAITING).order_by("created").values_list("created", flat=True).first()
    counts = dict(Task.objects.values_list("status").annotate(Count("pk")))
    rows = {
        "nomogon_jobs": Job.objects.count(),
        "nomogon_changes_total": Command.objects.count(),
        "nomogon_blobs": Blob.objects.count(),
        "nomogon_database_bytes": size,
        "nomogon_oldest_waiting_seconds": (timezone.now() - oldest).total_seconds() if oldest else 0,
    }
    lines = []
    for name, told in KINDS.items():
        lines += [f"# HELP {name} {told}", f"# TYPE {name} {'counter' if name.endswith('_total') else 'gauge'}"]
        if name in rows:
            lines.append(f"{name} {rows[name]:g}" if isinstance(rows[name], float) else f"{name} {rows[name]}")
        else:
            lines += [f'{name}{{status="{status}"}} {counts.get(status, 0)}' for status in sorted(Task.STATUSES)]
    return HttpResponse("\n".join(lines) + "\n", content_type="text/plain; version=0.0.4")
