"""Deliveries: finished videos."""

from django.apps import AppConfig


class DeliveriesConfig(AppConfig):
    name = "deliveries"

    def ready(self) -> None:
        from deliveries.work import Deliver, sweep
        from jobs.keeper import keep
        from jobs.models import Job
        from jobs.working import HANDLERS

        HANDLERS[Job.Kind.DELIVER] = Deliver()
        keep(3600.0, sweep)
