"""The Inspect stage: what is known of the part so far."""

from django.shortcuts import render
from django.views.decorators.http import require_GET

from jobs.frame import frame
from jobs.working import here_for
from nomogon_core.quantity.units import format_length


@require_GET
def page(request, job_id):
    context = frame(request, here_for(request, job_id), "inspect")
    bodies = (context["view"].result or {}).get("bodies", {})
    return render(
        request,
        "inspect.html",
        context
        | {
            "checks": [
                _check(context["view"].document["bodies"][name]["name"], facts) for name, facts in bodies.items()
            ]
        },
    )


def _check(name, facts):
    low, high = facts["box"]
    return {
        "name": name,
        "sound": facts["valid"] and facts["solids"] == 1,
        "volume": f"{facts['volume_mm3'] / 1000:.3f}",
        "size": " × ".join(format_length(b - a) for a, b in zip(low, high)),
    }
