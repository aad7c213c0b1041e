"""Packs: projects as one file."""

from django.apps import AppConfig


class PacksConfig(AppConfig):
    name = "packs"

    def ready(self) -> None:
        from jobs.keeper import keep
        from jobs.models import Job
        from jobs.working import HANDLERS
        from library.uploads import TAKERS
        from packs.work import Packing, Unpacking, sweep, take_pack
        from plonket.pack.manifest import ENDING

        HANDLERS[Job.Kind.PACK] = Packing()
        HANDLERS[Job.Kind.UNPACK] = Unpacking()
        TAKERS[ENDING] = take_pack
        keep(3600.0, sweep)
