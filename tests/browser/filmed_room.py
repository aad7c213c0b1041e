"""The filmed room with its true camera from a file, for tests that stand things in it."""

from __future__ import annotations

import re
from fractions import Fraction
from functools import cache

import numpy as np

from plonket.formats.camera_json import write_camera
from synth.phone.quickroom import RoomShot, room_shot
from synth.phone.take import Recording, frame_times, write_recording
from tests.browser.stage import BrowserTest, until

SIZE = (640, 360)
FRAMES = 24


@cache
def room() -> RoomShot:
    return room_shot("orbit", frames=FRAMES, samples=2)


class FilmedRoom(BrowserTest):
    def begin(self, frames: int = FRAMES) -> None:
        """A shot of the first frames of the room, and its camera."""
        recording = Recording(rate=Fraction(30), frames=frames, crf=12, sound=False)
        clip, camera = self.folder / "room.mp4", self.folder / "camera.json"
        write_recording(clip, iter(room().frames[:frames]), frame_times(recording), SIZE, recording)
        camera.write_text(write_camera(room().track().at_moments(np.arange(float(frames))), Fraction(30)))
        self.new_shot()
        self.bring_in(clip)
        self.page.get_by_role("button", name="Follow", exact=True).click()
        with self.page.expect_file_chooser() as chooser:
            self.page.get_by_role("menuitem", name=re.compile("^From a file")).click()
        chooser.value.set_files(camera)
        until(lambda: len(self.document()["motions"]) == 1, 20, "the camera")
