"""Settings of the web application; what differs between machines comes from the set-up's state folder."""

import os
import secrets
from pathlib import Path

from django.utils.csp import CSP

ROOT = Path(__file__).resolve().parent.parent.parent
STATE = Path(os.environ.get("NOMOGON_STATE", ROOT / ".nomogon"))


def _kept_secret():
    place = STATE / "secret"
    if not place.exists():
        STATE.mkdir(parents=True, exist_ok=True)
        place.write_text(secrets.token_urlsafe(50))
        place.chmod(0o600)
    return place.read_text()


def _state(name, otherwise):
    place = STATE / name
    return place.read_text().strip() if place.exists() else otherwise


SECRET_KEY = _kept_secret()
DEBUG = False
ALLOWED_HOSTS = os.environ.get("NOMOGON_HOSTS", "127.0.0.1,localhost,testserver").split(",")
ROOT_URLCONF = "nomogon_web.urls"
WSGI_APPLICATION = "nomogon_web.wsgi.application"
TEST_RUNNER = "nomogon_web.runner.Runner"

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "procrastinate.contrib.django",
    "jobs.apps.JobsConfig",
    "work",
    "reference",
    "sketch",
    "solid",
    "inspection",
    "release",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.csp.ContentSecurityPolicyMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.auth.middleware.LoginRequiredMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "jobs.problems.ProblemMiddleware",
]
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [ROOT / "web" / "templates"],
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
            ]
        },
        "APP_DIRS": True,
    }
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "NAME": os.environ.get("NOMOGON_DATABASE", "postgres"),
        "USER": "postgres",
        "PASSWORD": _state("postgres.password", ""),
        "HOST": "127.0.0.1",
        "PORT": _state("postgres.port", "5432"),
        "CONN_MAX_AGE": 0,
        "OPTIONS": {"pool": {"min_size": 1, "max_size": 12}},
        "TEST": {"NAME": "test_nomogon"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
SECURE_CSP = {
    "default-src": [CSP.SELF],
    "script-src": [CSP.SELF],
    "style-src": [CSP.SELF],
    "img-src": [CSP.SELF, "blob:", "data:"],
    "connect-src": [CSP.SELF],
    "object-src": [CSP.NONE],
    "base-uri": [CSP.NONE],
    "form-action": [CSP.SELF],
    "frame-ancestors": [CSP.NONE],
}
SESSION_COOKIE_SAMESITE = "Strict"
CSRF_COOKIE_SAMESITE = "Strict"
LOGIN_URL = "sign-in"
LOGIN_REDIRECT_URL = "register"
LOGOUT_REDIRECT_URL = "sign-in"
LANGUAGE_CODE = "en-gb"
TIME_ZONE = "UTC"
USE_TZ = True
STATIC_URL = "static/"
STATICFILES_DIRS = [ROOT / "web" / "static_built"]
STATIC_ROOT = ROOT / "web" / "static_collected"
STORAGES = {
    "staticfiles": {"BACKEND": "whitenoise.storage.CompressedManifestStaticFilesStorage"},
    "default": {"BACKEND": "django.core.files.storage.InMemoryStorage"},
}
WHITENOISE_KEEP_ONLY_HASHED_FILES = False
DATA_UPLOAD_MAX_MEMORY_SIZE = 8 * 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 32 * 1024 * 1024
FILE_UPLOAD_HANDLERS = ["jobs.uploads.LimitedUploadHandler"]
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"django.request": {"level": "ERROR"}, "procrastinate": {"level": "WARNING"}},
}
