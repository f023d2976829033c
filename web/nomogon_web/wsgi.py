"""The WSGI application that gunicorn serves."""

import gc
import os
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "core"), str(ROOT / "web")]
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nomogon_web.settings")

from django.core.wsgi import get_wsgi_application  # noqa: E402  the path must stand first

application = get_wsgi_application()

from nomogon_core.sketch import warm  # noqa: E402  after Django's set-up
from nomogon_web.settings import STATE  # noqa: E402
from work import outside  # noqa: E402

outside.pool.start()

# A first drag does not wait until the solver is read from the cache; where there is none yet, it is being made.
if any(Path(os.environ.get("NUMBA_CACHE_DIR", STATE / "numba")).rglob("compiled_solve.keeping*.nbi")):
    warm.solver()

# Documents are large trees of small values without cycles: looking through all of them for garbage took a fifth of a
# second now and then. What was loaded up to here stays anyway.
gc.collect()
gc.freeze()
gc.set_threshold(100_000, 20, 100)
