"""The server: projects, shots, jobs and frames over the core."""

from plonket_server.celery import app as celery_app

__all__ = ["celery_app"]
