"""Motions made from files in open formats."""

from __future__ import annotations

from plonket.base.errors import BadInput
from plonket.document.bases import MotionBase
from plonket.document.operations import fresh_id
from plonket.document.shot import Shot as Document
from plonket.formats.registry import Coming, Timing, motion_from_file
from plonket_server import store
from shots.models import Measurement


def coming(document: Document, name: str, content: str | bytes, timing: Timing | None = None) -> Coming:
    """A file on its way into a shot. Raises `BadInput` where the shot has no footage."""
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    text = content.lstrip("\ufeff \n\r\t") if isinstance(content, str) else ""
    return Coming(
        text=text, data=content.encode() if isinstance(content, str) else content, footage=document.footage, timing=timing,
        motion_id=fresh_id(document, "motion"), name=name.rsplit("/", 1)[-1].rsplit(".", 1)[0].strip() or "Motion",
    )  # fmt: skip


def brought_in(file: Coming) -> MotionBase:
    """A measured motion from a file. Raises `FormatError`."""
    motion, measured = motion_from_file(file)
    digest = store.keep_measurement(measured.to_bytes())
    Measurement.objects.get_or_create(digest=digest, defaults={"kind": measured.KIND, "summary": {"source": "file"}})
    return motion.model_copy(update={"measurement": digest})
