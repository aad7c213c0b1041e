"""Motions made from files in open formats."""

from __future__ import annotations

from plonket.document.bases import MotionBase
from plonket.document.operations import fresh_id
from plonket.document.shot import Shot as Document
from plonket.formats.registry import Coming, motion_from_file
from plonket_server import store
from shots.models import Measurement


def brought_in(document: Document, name: str, content: str | bytes) -> MotionBase:
    """A measured motion from a file. Raises `FormatError`."""
    assert document.footage is not None
    text = content.lstrip("\ufeff \n\r\t") if isinstance(content, str) else ""
    motion, measured = motion_from_file(Coming(
        text=text, data=content.encode() if isinstance(content, str) else content, footage=document.footage,
        motion_id=fresh_id(document, "motion"), name=name.rsplit("/", 1)[-1].rsplit(".", 1)[0].strip() or "Motion",
    ))  # fmt: skip
    digest = store.keep_measurement(measured.to_bytes())
    Measurement.objects.get_or_create(digest=digest, defaults={"kind": measured.KIND, "summary": {"source": "file"}})
    return motion.model_copy(update={"measurement": digest})
