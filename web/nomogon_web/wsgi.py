"""The WSGI application that gunicorn serves."""

import os
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "core"), str(ROOT / "web")]
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nomogon_web.settings")

from django.core.wsgi import get_wsgi_application  # noqa: E402  the path must stand first

application = get_wsgi_application()

from work import outside  # noqa: E402  after Django's set-up

outside.pool.start()
