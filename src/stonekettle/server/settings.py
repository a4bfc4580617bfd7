"""Django's settings. Everything that differs between installations comes from the environment,
which the front door sets."""

from __future__ import annotations

import os
import platform
import secrets
from pathlib import Path
from urllib.parse import urlsplit

ROOT = Path(__file__).resolve().parents[3]
DATA = Path(os.environ.get("KETTLE_DATA", ROOT / "var"))
SECRET_KEY = os.environ.get("KETTLE_SECRET_KEY") or secrets.token_urlsafe(48)
"""The front door keeps one; without it sessions end with the process that made them."""
KEY_FILE = Path(os.environ.get("KETTLE_KEY_FILE", DATA / "keys"))
"""Opens and seals what is encrypted at rest."""
SPOOL = DATA / "spool"
"""Where uploaded files wait for the job that reads them."""
LISTENERS = DATA / "listeners.json"
"""Names the systems that the practice system pushes traces to, with their tokens."""
JOBS_AT_ONCE = False
"""Whether jobs are done by whoever asks for them, without a worker."""
DEBUG = False
PUBLIC = os.environ.get("KETTLE_PUBLIC", "")
"""Where people reach it, where that is not this machine: scheme, host and port."""
ALLOWED_HOSTS = [*os.environ.get("KETTLE_HOSTS", "127.0.0.1,localhost,[::1],testserver").split(",")]
if PUBLIC:
    ALLOWED_HOSTS.append(f"[{host}]" if ":" in (host := urlsplit(PUBLIC).hostname or "") else host)
    CSRF_TRUSTED_ORIGINS = [PUBLIC]
BY_TLS = PUBLIC.startswith("https://")
"""A proxy before it speaks TLS: nothing that opens a session goes another way."""
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = BY_TLS
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if BY_TLS else 0

INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.auth",
    "django.contrib.sessions",
    "axes",
    "ninja",
    "procrastinate.contrib.django",
    "stonekettle.server.access",
    "stonekettle.server.history",
    "stonekettle.server.targets",
    "stonekettle.server.jobs",
    "stonekettle.server.systems",
    "stonekettle.server.feeds",
    "stonekettle.server.journeys",
    "stonekettle.server.capacity",
    "stonekettle.server.changes",
    "stonekettle.server.experiments",
    "stonekettle.server.runs",
    "stonekettle.server.series",
]

MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]

ROOT_URLCONF = "stonekettle.server.urls"
WSGI_APPLICATION = "stonekettle.server.wsgi.application"

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "NAME": os.environ.get("KETTLE_DB_NAME", "stonekettle"),
        "USER": os.environ.get("KETTLE_DB_USER", "kettle_application"),
        "PASSWORD": os.environ.get("KETTLE_DB_PASSWORD", ""),
        "HOST": os.environ.get("KETTLE_DB_HOST", "127.0.0.1"),
        "PORT": os.environ.get("KETTLE_DB_PORT", "5432"),
        "CONN_MAX_AGE": 60,
        "CONN_HEALTH_CHECKS": True,
        "OPTIONS": {
            "connect_timeout": 3,
            # No statement and no lost peer may hold a thread for ever; migrations have their own limit.
            "options": f"-c statement_timeout={os.environ.get('KETTLE_STATEMENT_LIMIT_MS', '20000')}"
            " -c idle_in_transaction_session_timeout=60000",
            "keepalives_idle": 5,
            "keepalives_interval": 2,
            "keepalives_count": 3,
            "tcp_user_timeout": 10_000,
        },
    }
}

PEOPLE = "stonekettle.server.access.backend.PeopleBackend"
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", PEOPLE]
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_FAILURE_LIMIT = 5
AXES_COOLOFF_TIME = "stonekettle.server.access.waiting.cool_off"
AXES_RESET_ON_SUCCESS = True
AXES_RESET_COOL_OFF_ON_FAILURE_DURING_LOCKOUT = False
AXES_ENABLE_ACCESS_FAILURE_LOG = True
AXES_ACCESS_FAILURE_LOG_PER_USER_LIMIT = 1_000
AXES_DISABLE_ACCESS_LOG = True
AXES_VERBOSE = False
AUTH_PASSWORD_VALIDATORS = [
    {
        "NAME": "django.contrib.auth.password_validation.MinimumLengthValidator",
        "OPTIONS": {"min_length": 12},
    },
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
SESSION_ENGINE = "django.contrib.sessions.backends.cached_db"
"""Kept in the database and remembered by the one process that serves the web: pages ask often."""
CACHES = {
    "default": {"BACKEND": "django.core.cache.backends.locmem.LocMemCache", "OPTIONS": {"MAX_ENTRIES": 10_000}},
}
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_AGE = 12 * 3600
"""A day's work; who works on signs in again."""
CSRF_COOKIE_NAME = "kettle_csrf"
SESSION_COOKIE_NAME = "kettle_session"
SECURE_CONTENT_TYPE_NOSNIFF = True
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": ["'self'"],
        "img-src": ["'self'", "data:", "blob:"],
        "object-src": ["'none'"],
        "base-uri": ["'none'"],
        "form-action": ["'self'"],
        "frame-ancestors": ["'none'"],
    }
}
DATA_UPLOAD_MAX_MEMORY_SIZE = 9_000_000
REQUESTS_LIMITED = True
LARGEST_FILE = 200_000_000
"""Of an uploaded file, in bytes."""

DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
STATIC_URL = "/static/"
WEB_BUILD = Path(os.environ.get("KETTLE_WEB", ROOT / "web" / "dist"))
WHITENOISE_ROOT = WEB_BUILD if WEB_BUILD.is_dir() else None

OPENID_ISSUER = os.environ.get("KETTLE_OPENID_ISSUER", "")
"""A service of OpenID Connect by which people may sign in too."""
OPENID_CLIENT = os.environ.get("KETTLE_OPENID_CLIENT", "")
OPENID_SECRET = os.environ.get("KETTLE_OPENID_SECRET", "")
OPENID_NAME = os.environ.get("KETTLE_OPENID_NAME", "OpenID Connect")
OPENID_ROLE = os.environ.get("KETTLE_OPENID_ROLE", "")
"""What newcomers by it may (reader or planner); empty: only who connected it to their account comes in."""
PRACTICE_CONTROL = os.environ.get("KETTLE_PRACTICE")
"""Where the practice system tells its addresses, e.g. http://127.0.0.1:8802; None without it."""
OWN_PORTS = frozenset(
    int(port)
    for name in ("KETTLE_OWN_PORTS", "KETTLE_PORTS_NEVER", "KETTLE_DB_PORT")
    for port in os.environ.get(name, "").split(",")
    if port
)
"""Ports of this machine that no load ever goes to: Stone Kettle's own, and those that its administrators add."""
PROOF_EVERY_S = float(os.environ.get("KETTLE_PROOF_EVERY_S", "60"))
"""How often the targets of a run under way are proven again."""
GENERATOR_REGION = os.environ.get("KETTLE_REGION", "local")
GENERATOR_LABEL = os.environ.get("KETTLE_LABEL", platform.node())[:80]
"""Tells where a generator runs."""
GENERATORS = int(os.environ.get("KETTLE_GENERATORS", len(os.sched_getaffinity(0))))
"""How many generators a run has in each of its regions."""

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {
        "line": {
            "()": "stonekettle.server.logs.MaskingFormatter",
            "format": "{asctime} {levelname} {name}: {message}",
            "style": "{",
        }
    },
    "handlers": {"stderr": {"class": "logging.StreamHandler", "formatter": "line"}},
    "root": {"handlers": ["stderr"], "level": "WARNING"},
    "loggers": {"stonekettle": {"level": "INFO"}},
}
