#!/usr/bin/env python
"""Django's command line, with the core on the path."""

import os
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "core"), str(ROOT / "web")]

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nomogon_web.settings")
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)
