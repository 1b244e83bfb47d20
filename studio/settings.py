"""Django's settings; ``./zinc`` gives the surroundings through the environment."""

from __future__ import annotations

import os
import secrets
from datetime import timedelta
from pathlib import Path

from csp.constants import NONE, SELF, UNSAFE_INLINE

ROOT = Path(__file__).resolve().parent.parent
DATA = Path(os.environ.get("ZINC_DATA", ROOT / "var" / "start"))
CACHE_ROOT = DATA / "takes"
WEB_DIST = ROOT / "web" / "dist"
REDIS_URL = os.environ.get("ZINC_REDIS_URL", "redis://127.0.0.1:63260/0")

SECRET_KEY = os.environ.get("ZINC_SECRET_KEY") or secrets.token_urlsafe(50)  # commands need none that lasts
DEBUG = False
HOST = os.environ.get("ZINC_HOST", "127.0.0.1")
LOOPBACK = HOST == "localhost" or HOST.startswith("127.")
# names by which the page is asked for, with commas between, where a proxy speaks TLS before us
NAMES = [name for name in os.environ.get("ZINC_NAMES", "").split(",") if name]
BEHIND_PROXY = bool(NAMES)
ALLOWED_HOSTS = ["127.0.0.1", "localhost", HOST, *NAMES]
ROOT_URLCONF = "studio.urls"
ASGI_APPLICATION = "studio.asgi.application"
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "axes",
    "csp",
    "studio.accounts",
    "studio.productions",
    "studio.runs",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "studio.accounts.middleware.plain_addresses",
    "studio.accounts.middleware.late_refusals",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "studio.accounts.middleware.idle_sessions",
    "studio.accounts.middleware.bounded",
    "studio.accounts.middleware.deeds",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "axes.middleware.AxesMiddleware",
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.mysql",
        "NAME": os.environ.get("ZINC_DATABASE_NAME", "zinc"),
        "USER": "zinc",
        "PASSWORD": os.environ.get("ZINC_DATABASE_PASSWORD", ""),
        "HOST": "127.0.0.1",
        "PORT": os.environ.get("ZINC_DATABASE_PORT", "33260"),
        "OPTIONS": {"charset": "utf8mb4", "isolation_level": "read committed"},
    }
}
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.NumericPasswordValidator"},
]
AXES_FAILURE_LIMIT = 8
AXES_COOLOFF_TIME = timedelta(minutes=10)
AXES_LOCKOUT_PARAMETERS = ["username", "ip_address"]
AXES_RESET_ON_SUCCESS = True
AXES_CLIENT_IP_CALLABLE = "studio.accounts.middleware.address_of"
AXES_ENABLE_ADMIN = False
AXES_VERBOSE = False
AXES_LOCKOUT_CALLABLE = "studio.accounts.api.locked_out"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
TEST_RUNNER = "tests.runner.Runner"
STATIC_URL = "static/"
WHITENOISE_ROOT = WEB_DIST if WEB_DIST.exists() else None
WHITENOISE_INDEX_FILE = False
DATA_UPLOAD_MAX_MEMORY_SIZE = 16 * 2**20
FILE_UPLOAD_HANDLERS = ["django.core.files.uploadhandler.TemporaryFileUploadHandler"]
DATA_UPLOAD_MAX_NUMBER_FILES = 200  # in one request; more come in several
LARGEST_UPLOAD = 2_100_000_000  # bytes of a request that brings files
FILE_UPLOAD_PERMISSIONS = 0o600
FILE_UPLOAD_DIRECTORY_PERMISSIONS = 0o700
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_AGE = 7 * 24 * 3600
IDLE_SECONDS = 12 * 3600
CSRF_COOKIE_SAMESITE = "Lax"
CSRF_FAILURE_VIEW = "studio.answers.forbidden"
# requests at once, and a second: a person's page plays frames, nobody signs in
REQUESTS_OF_A_PERSON = (1500, 150.0)
REQUESTS_OF_NOBODY = (120, 4.0)
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [SELF],
        "style-src": [SELF, UNSAFE_INLINE],  # the widgets write their colours into the page
        "img-src": [SELF, "data:", "blob:"],
        "media-src": [SELF, "blob:"],  # a reference movie is played from where it lies
        "worker-src": [SELF, "blob:"],
        "object-src": [NONE],
        "base-uri": [NONE],
        "form-action": [SELF],
        "frame-ancestors": [NONE],
    }
}
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
if BEHIND_PROXY:
    SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")
    SECURE_SSL_REDIRECT = SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = True
    SECURE_HSTS_SECONDS = 365 * 24 * 3600
    SECURE_HSTS_INCLUDE_SUBDOMAINS = SECURE_HSTS_PRELOAD = True
    CSRF_TRUSTED_ORIGINS = [f"https://{name}" for name in NAMES]
else:  # plain HTTP on loopback, or in a network that who starts it vouches for: nothing to tell of TLS
    SILENCED_SYSTEM_CHECKS = ["security.W004", "security.W008", "security.W012", "security.W016"]
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}

CELERY_BROKER_URL = REDIS_URL
CELERY_TASK_IGNORE_RESULT = True
CELERY_BROKER_CONNECTION_RETRY_ON_STARTUP = True
CELERY_WORKER_PREFETCH_MULTIPLIER = 1
CELERY_BEAT_SCHEDULE = {
    "offer waiting and expired runs": {
        "task": "studio.runs.tasks.work",
        "schedule": 4.0,
        "options": {"expires": 4.0},
    }
}
LEASE_SECONDS = 20
HEARTBEAT_SECONDS = 5
