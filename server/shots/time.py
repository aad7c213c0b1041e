"""API: how a shot's footage runs, and its sound with it; one shot made two."""

from __future__ import annotations

import uuid
from typing import Annotated, Any, Literal

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field

from library.recordings import recording_of, sound_of
from plonket.base.errors import BadInput
from plonket.document import retime
from plonket.document.operations import fresh_name
from plonket.document.shot import Shot as Document
from plonket.media.sound import SOUND_RATE, Sound, wav_bytes
from plonket.render.soundtrack import heard, mixed, others
from plonket_server.problems import NotHere
from shots.api import ShotOut, shot_out
from shots.editing import add_shot, change_shot, document_at
from shots.models import Shot

router = Router(tags=["time"])
Frame = Annotated[int, Field(ge=0, le=1_000_000)]


class Frames(Schema):
    """Frames `first` to `last`, both of them."""

    first: Frame
    last: Frame


class Speed(Frames):
    """Frames of the shot run at so many percent of the speed they have; below nought backwards."""

    do: Literal["speed"]
    percent: float


class Hold(Schema):
    """A frame of the shot is shown for so many frames more."""

    do: Literal["hold"]
    frame: Frame
    frames: Frame


class Ramp(Frames):
    """Over frames of the shot the speed goes evenly from what it is before them to what it is after them."""

    do: Literal["ramp"]


class CutOut(Frames):
    """Frames of the shot are not in it any more."""

    do: Literal["cut out"]


class AddRange(Frames):
    """Frames of the clip are shown after the shot's last."""

    do: Literal["add range"]


class AsFilmed(Schema):
    """The footage runs as it was filmed."""

    do: Literal["as filmed"]


TimeChange = Annotated[Speed | Hold | Ramp | CutOut | AddRange | AsFilmed, Field(discriminator="do")]


class TimeIn(Schema):
    change: TimeChange


@router.post("/shots/{shot_id}/time", response=ShotOut)
def change_time(request: HttpRequest, shot_id: uuid.UUID, body: TimeIn) -> Any:
    """Let the footage run otherwise, as one step that can be undone."""
    return shot_out(change_shot(shot_id, labelled(body.change), lambda document: changed(document, body.change)))


def changed(document: Document, asked: Any) -> Document:
    """The document after a change of its time. Raises `BadInput`."""
    match asked:
        case Speed():
            return retime.set_speed(document, asked.first, asked.last, asked.percent)
        case Hold():
            return retime.hold(document, asked.frame, asked.frames)
        case Ramp():
            return retime.ramp(document, asked.first, asked.last)
        case CutOut():
            return retime.cut_out(document, asked.first, asked.last)
        case AddRange():
            return retime.add_range(document, asked.first, asked.last)
        case _:
            return retime.clear(document)


def labelled(asked: Any) -> str:
    """What the change is called in the list of steps."""
    match asked:
        case Speed():
            return f"Frames {asked.first} to {asked.last} at {asked.percent:g} %"
        case Hold():
            return f"Hold frame {asked.frame}"
        case Ramp():
            return f"Ramp the speed over frames {asked.first} to {asked.last}"
        case CutOut():
            return f"Cut out frames {asked.first} to {asked.last}"
        case AddRange():
            return f"Frames {asked.first} to {asked.last} of the clip at the end"
        case _:
            return "The footage as it was filmed"


class SplitIn(Schema):
    frame: Frame = Field(description="The first of the second shot")


@router.post("/shots/{shot_id}/split", response=ShotOut)
def split_shot(request: HttpRequest, shot_id: uuid.UUID, body: SplitIn) -> Any:
    """End a shot's range before a frame, and make another shot that goes on from there, with all that is in this one."""
    made: list[Document] = []

    def change(document: Document) -> Document:
        footage = document.footage
        if footage is None:
            raise BadInput("shot.no_footage", "This shot has no footage yet.")
        if not footage.in_frame < body.frame <= footage.out_frame:
            ends = f"{footage.in_frame + 1} and {footage.out_frame}"
            raise BadInput("split.edge", f"The shot can be split between frames {ends}: go there first.")
        rest = footage.model_copy(update={"in_frame": body.frame})
        made[:] = [document.model_copy(update={"footage": rest})]
        return document.model_copy(update={"footage": footage.model_copy(update={"out_frame": body.frame - 1})})

    with transaction.atomic():
        shot = change_shot(shot_id, "Split the shot", change)
        taken = set(Shot.objects.filter(project=shot.project).values_list("name", flat=True))
        document = made[0].model_copy(update={"name": fresh_name(made[0].name, taken)})
        second = add_shot(shot.project, document, "Split off another shot")
    return shot_out(second)


@router.get("/shots/{shot_id}/sound/{number}.wav")
def sound_as_it_runs(request: HttpRequest, shot_id: uuid.UUID, number: int) -> HttpResponse:
    """The clip's sound as revision `number` of a shot lets it run, whole, as loud as it was recorded: WAV."""
    document = document_at(shot_id, number)
    footage = document.footage
    whole = sound_of(footage.asset) if footage else None
    if footage is None or whole is None:
        raise NotHere("sound")
    return _wav(heard(document, whole, 0, footage.length))


@router.get("/shots/{shot_id}/others/{number}.wav")
def other_sounds(request: HttpRequest, shot_id: uuid.UUID, number: int) -> HttpResponse:
    """All that is laid under a shot in revision `number`, and what clips in its stack let hear, as loud as it is laid: WAV."""
    document = document_at(shot_id, number)
    if document.footage is None:
        raise NotHere("sound")
    length = document.footage.length
    return _wav(mixed([*others(document, recording_of, 0, length)], round(length / document.footage.fps * SOUND_RATE)))


def _wav(sound: Sound) -> HttpResponse:
    cached = {"Cache-Control": "private, max-age=31536000, immutable"}
    return HttpResponse(wav_bytes(sound), content_type="audio/wav", headers=cached)
