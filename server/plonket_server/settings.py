"""Settings, all from the environment that the launcher makes."""

import os
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
DATA = Path(os.environ.get("PLONKET_DATA", ROOT / "var" / "data"))
TESTING = os.environ.get("PLONKET_TESTING") == "1"
PORT = int(os.environ.get("PLONKET_PORT", "8790"))

SECRET_KEY = os.environ.get("PLONKET_SECRET_KEY", "only-for-commands-that-need-no-secret")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost"]
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en"
USE_I18N = False

INSTALLED_APPS = ["jobs", "library", "shots", "deliveries", "packs", "demo_project"]
MIDDLEWARE = [
    "plonket_server.guard.OnlyThisPage",
    "django.middleware.common.CommonMiddleware",
    "plonket_server.guard.CsrfEverywhere",
]
ROOT_URLCONF = "plonket_server.urls"
ASGI_APPLICATION = "plonket_server.asgi.application"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
APPEND_SLASH = False

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.mysql",
        "NAME": os.environ.get("PLONKET_DB_NAME", "plonket"),
        "USER": os.environ.get("PLONKET_DB_USER", "plonket"),
        "PASSWORD": os.environ.get("PLONKET_DB_PASSWORD", ""),
        "HOST": os.environ.get("PLONKET_DB_SOCKET", ""),
        "OPTIONS": {"charset": "utf8mb4", "isolation_level": "read committed"},
        "TEST": {"CHARSET": "utf8mb4", "COLLATION": "utf8mb4_unicode_520_ci"},
    }
}

CSRF_COOKIE_SAMESITE = "Strict"
CSRF_COOKIE_NAME = "plonket_csrf"
DATA_UPLOAD_MAX_MEMORY_SIZE = 40 * 1024 * 1024
X_FRAME_OPTIONS = "DENY"
SECURE_CONTENT_TYPE_NOSNIFF = True

DRAWS_APART = not TESTING
"""Whether pictures are drawn in a process of their own."""
STORE = Path(os.environ.get("PLONKET_STORE", DATA / "store"))
WEB_DIST = ROOT / "web" / "dist"
DEMO = ROOT / "demo"
LARGEST_UPLOAD = 16 * 1024**3

CELERY_BROKER_URL = os.environ.get("PLONKET_BROKER", "memory://")
CELERY_TASK_ACKS_LATE = True
CELERY_TASK_REJECT_ON_WORKER_LOST = True
CELERY_WORKER_PREFETCH_MULTIPLIER = 1
CELERY_TASK_IGNORE_RESULT = True
CELERY_BROKER_CONNECTION_RETRY_ON_STARTUP = True
# Longer than the longest chunk, or Redis would hand a running chunk out a second time.
CELERY_BROKER_TRANSPORT_OPTIONS = {"visibility_timeout": 6 * 3600}
CELERY_TASK_ALWAYS_EAGER = TESTING
CELERY_WORKER_HIJACK_ROOT_LOGGER = False

TEST_RUNNER = "plonket_server.runner.CountingRunner"

# What went wrong is told in the log of the data folder; Django's own default mails it to nobody.
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"plain": {"format": "%(asctime)s %(levelname)s %(name)s: %(message)s"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "plain"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"django.request": {"handlers": ["console"], "level": "ERROR", "propagate": False}},
}
