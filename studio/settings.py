"""Django's settings; ``./zinc`` gives the surroundings through the environment."""

from __future__ import annotations

import os
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
DATA = Path(os.environ.get("ZINC_DATA", ROOT / "var" / "start"))
CACHE_ROOT = DATA / "takes"
WEB_DIST = ROOT / "web" / "dist"
REDIS_URL = os.environ.get("ZINC_REDIS_URL", "redis://127.0.0.1:63260/0")

SECRET_KEY = os.environ.get("ZINC_SECRET_KEY", "only for commands that need no secret")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", os.environ.get("ZINC_HOST", "127.0.0.1")]
ROOT_URLCONF = "studio.urls"
ASGI_APPLICATION = "studio.asgi.application"
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "studio.accounts",
    "studio.productions",
    "studio.runs",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
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
AUTH_PASSWORD_VALIDATORS: list[dict[str, str]] = []
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
TEST_RUNNER = "tests.runner.Runner"
STATIC_URL = "static/"
WHITENOISE_ROOT = WEB_DIST if WEB_DIST.exists() else None
WHITENOISE_INDEX_FILE = False
DATA_UPLOAD_MAX_MEMORY_SIZE = 16 * 2**20
FILE_UPLOAD_HANDLERS = ["django.core.files.uploadhandler.TemporaryFileUploadHandler"]
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_SAMESITE = "Lax"
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
