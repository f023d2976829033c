"""How long live previews take over HTTP, on a 12-megapixel picture in the running application."""

import json
import os
import time
from contextlib import contextmanager

import cv2
import django
import numpy as np

from benchmarks.client import Application, Client
from examples import parts
from examples.render import Camera, part_coverage, photograph

CAMERA = Camera(42.0, (240.0, 2480.0))
WARM_UP = 3
SETTLE_S = 6.0


def picture_12mp(seed=3):
    """JPEG of the latch plate over 4000 × 3000 pixels."""
    picture = photograph(part_coverage(parts.latch_plate(), CAMERA, 4000, 3000), noise=0.01, grain=0.03, seed=seed)
    return cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, 92])[1].tobytes()


@contextmanager
def calibrated_job():
    """(client, job) of a picture of 12 megapixels with a known length; the job is taken away afterwards."""
    application = Application()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nomogon_web.settings")
    django.setup()
    from django.contrib.auth import get_user_model

    from store import making
    from store.actions import perform

    user = get_user_model().objects.get(username="ro")
    job = making.job_from_picture(user, "bench preview", "", picture_12mp(), "plate.jpg")
    try:
        start, end = CAMERA.to_px([(0, 20), (84, 20)]).tolist()
        perform(
            job.pk, user, None, "reference.add_known", {"start": start, "end": end, "text": "84 mm", "sigma_px": 0.05}
        )
        time.sleep(SETTLE_S)
        yield Client(application.port, "ro", "hive-latch"), job
    finally:
        job.delete()
        application.stop()


def p95_ms(client, path, bodies):
    """95th percentile of the milliseconds from a move of a slider sent to its preview received.

    Raises:
        SystemExit: an answer other than 200.
    """
    times = []
    for body in [*bodies[:WARM_UP], *bodies]:
        begin = time.perf_counter()
        status, data = client.request("POST", path, json.dumps(body))
        times.append((time.perf_counter() - begin) * 1000)
        if status != 200:
            raise SystemExit(f"{path} answered {status}: {data[:300]!r}")
    return float(np.percentile(times[WARM_UP:], 95))


def cleaning_ms():
    """Moves of each clean-up step's slider, with the other steps standing in the list too."""
    sets = []
    for share in np.linspace(0.2, 1.0, 8):
        sets += [
            [{"kind": "even", "on": True, "reach_percent": 60 * share}],
            [{"kind": "background", "on": True, "margin_mm": 8 * share}],
            [{"kind": "specks", "on": True, "area_mm2": 9 * share}],
            [{"kind": "holes", "on": True, "area_mm2": 9 * share, "crack_mm": share}],
            [{"kind": "even", "on": True, "reach_percent": 25}, {"kind": "specks", "on": True, "area_mm2": 9 * share}],
        ]
    with calibrated_job() as (client, job):
        return p95_ms(client, f"/jobs/{job.pk}/reference/preview", [{"steps": steps} for steps in sets])
