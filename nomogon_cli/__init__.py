"""The job without a browser: ``trace`` and ``make``."""
