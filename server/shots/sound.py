"""API: a shot's sound, seen and measured."""

from __future__ import annotations

import math
import uuid
from fractions import Fraction
from typing import Any

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from library.assets import find_asset
from library.recordings import recording_of, sound_of
from plonket.media.loudness import loudness_of, peak_of
from plonket.render.soundtrack import soundtrack
from shots.editing import document_of, find_shot

router = Router(tags=["sound"])


class LoudnessOut(Schema):
    lufs: float | None = Field(description="Integrated loudness of the range as it is set, before it is brought to any level")
    peak: float | None = Field(description="Its true peak, dB below full scale")
    finished: float | None = Field(description="Integrated loudness as it is delivered")


@router.get("/clips/{digest}/waveform", response=list[float])
def waveform(request: HttpRequest, digest: str) -> Any:
    """The largest swing of a clip's sound in each of its frames, 0 to 1; nothing where it is silent."""
    sound, info = sound_of(digest), find_asset(digest).info
    if sound is None:
        return []
    edges = np.round(np.arange(info["frames"] + 1) / float(Fraction(info["fps"])) * sound.rate).astype(int)
    loud = np.abs(sound.samples.astype(np.int32)).max(axis=1, initial=0)
    edges = np.minimum(edges, max(len(loud) - 1, 0))
    return [round(float(v) / 32768, 4) for v in np.maximum.reduceat(loud, edges[:-1])] if len(loud) else []


@router.get("/shots/{shot_id}/loudness", response=LoudnessOut)
def loudness(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """How loud a shot is, and how loud it will be."""
    document = document_of(find_shot(shot_id))
    footage = document.footage
    if footage is None:
        return LoudnessOut(lufs=None, peak=None, finished=None)
    plain = document.model_copy(update={"sound": document.sound.model_copy(update={"level": "as it is"})})
    ends = (footage.in_frame, footage.out_frame + 1)
    found, finished = soundtrack(plain, recording_of, *ends), soundtrack(document, recording_of, *ends)
    if found is None or finished is None:
        return LoudnessOut(lufs=None, peak=None, finished=None)
    peak = peak_of(found)
    return LoudnessOut(lufs=loudness_of(found), peak=peak if math.isfinite(peak) else None, finished=loudness_of(finished))
