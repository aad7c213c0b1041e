"""The library: what was brought in."""

from django.apps import AppConfig


class LibraryConfig(AppConfig):
    name = "library"

    def ready(self) -> None:
        from jobs.keeper import keep
        from jobs.models import Job
        from jobs.working import HANDLERS
        from library.uploads import take_in_complete
        from library.work import Conform

        HANDLERS[Job.Kind.CONFORM] = Conform()
        keep(4.0, take_in_complete)
