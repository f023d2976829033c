"""Settings of the web application; what differs between machines comes from the set-up's state folder."""

import os
import secrets
from datetime import timedelta
from pathlib import Path
from urllib.parse import unquote, urlsplit

from django.utils.csp import CSP
from psycopg_pool import ConnectionPool

ROOT = Path(__file__).resolve().parent.parent.parent
STATE = Path(os.environ.get("NOMOGON_STATE", ROOT / ".nomogon"))


def _kept_secret():
    place = STATE / "secret"
    if not place.exists():
        STATE.mkdir(parents=True, exist_ok=True)
        place.write_text(secrets.token_urlsafe(50))
        place.chmod(0o600)
    return place.read_text()


def _database():
    """How to sign in to the database: by the URL given, or by that of this checkout's own cluster."""
    cluster = os.environ.get("NOMOGON_CLUSTER", "")
    place = STATE / (f"database-{cluster}" if cluster else "database") / "url"
    url = urlsplit(os.environ.get("NOMOGON_DATABASE_URL") or (place.read_text() if place.exists() else ""))
    return {
        "NAME": os.environ.get("NOMOGON_DATABASE", unquote(url.path.removeprefix("/"))),
        "USER": unquote(url.username or ""),
        "PASSWORD": unquote(url.password or ""),
        "HOST": url.hostname or "",
        "PORT": str(url.port or ""),
    }


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
    "axes",
    "store.apps.StoreConfig",
    "work",
    "stages.reference",
    "stages.sketch",
    "stages.solid",
    "stages.inspect",
    "stages.release",
    "shell",
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
    "shell.problems.ProblemMiddleware",
    "axes.middleware.AxesMiddleware",
]
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
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
        **_database(),
        "CONN_MAX_AGE": 0,
        "OPTIONS": {"pool": {"min_size": 1, "max_size": 12, "timeout": 5, "check": ConnectionPool.check_connection}},
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
# Behind a proxy that speaks TLS; without it the application is for one machine or one trusted network.
DEPLOYED = os.environ.get("NOMOGON_HTTPS", "") == "1"
SECURE_SSL_REDIRECT = SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = DEPLOYED
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if DEPLOYED else 0
SECURE_HSTS_INCLUDE_SUBDOMAINS = SECURE_HSTS_PRELOAD = DEPLOYED
SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https") if DEPLOYED else None
CSRF_TRUSTED_ORIGINS = [f"https://{host}" for host in ALLOWED_HOSTS] if DEPLOYED else []
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": f"django.contrib.auth.password_validation.{name}", "OPTIONS": options}
    for name, options in {
        "MinimumLengthValidator": {"min_length": 10},
        "UserAttributeSimilarityValidator": {},
        "CommonPasswordValidator": {},
        "NumericPasswordValidator": {},
    }.items()
]
METRICS_TOKEN = os.environ.get("NOMOGON_METRICS_TOKEN", "")
AXES_FAILURE_LIMIT = 8
AXES_COOLOFF_TIME = timedelta(minutes=10)
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_RESET_ON_SUCCESS = True
AXES_LOCKOUT_CALLABLE = "shell.problems.locked_out"
AXES_VERBOSE = AXES_ENABLE_ADMIN = False
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
FILE_UPLOAD_HANDLERS = ["shell.uploads.LimitedUploadHandler"]
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {
        "django.request": {"level": "ERROR"},
        "psycopg.pool": {"level": "CRITICAL"},
        "axes": {"level": "ERROR"},
    },
}
