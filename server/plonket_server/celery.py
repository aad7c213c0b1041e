"""The Celery application. Truth about jobs is in MariaDB; Redis only passes messages."""

import os

from celery import Celery

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "plonket_server.settings")
app = Celery("plonket")
app.config_from_object("django.conf:settings", namespace="CELERY")
app.autodiscover_tasks()
