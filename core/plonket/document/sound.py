"""How a shot sounds: its clip's own sound, others laid under it."""

from __future__ import annotations

from typing import Literal

from plonket.base.fields import AssetDigest, Number, Settings, choice, number, plain, switch
from plonket.base.registry import Entry
from plonket.document.bases import Named
from plonket.document.kinds import FOOTAGE


class SoundTrack(Settings):
    """How the clip's own sound is laid under the shot, and how loud all of it is."""

    kind: Literal["sound"] = "sound"
    volume: Number = number(100.0, label="Volume", low=0, high=400, step=1, unit="%", group="Sound", soft=(0, 200),
                            help="Key it to bring something out, or to let it go.")  # fmt: skip
    muted: bool = switch(False, label="Muted", group="Sound", help="The clip's own sound: what is laid under is heard.")
    pitch: Literal["along", "kept"] = choice(
        "along", label="Slower or faster", group="Sound",
        names={"along": "Lower or higher, as of a tape", "kept": "As high as it was"},
        help="What becomes of its pitch where the footage runs at another speed.")  # fmt: skip
    fade_in: int = plain(0, label="Fades in", low=0, high=100000, step=1, unit="fr", group="Sound", whole=True, soft=(0, 100),
                         help="Frames from the beginning of the range until it is heard whole.")  # fmt: skip
    fade_out: int = plain(0, label="Fades out", low=0, high=100000, step=1, unit="fr", group="Sound", whole=True, soft=(0, 100),
                          help="Frames over which it goes, up to the end of the range.")  # fmt: skip
    level: Literal["as it is", "-14", "-16", "-23"] = choice(
        "as it is", label="Loudness", group="All of it",
        names={"as it is": "As it is", "-14": "-14 LUFS", "-16": "-16 LUFS", "-23": "-23 LUFS (broadcast)"},
        help="What the whole sound is brought to when it is delivered, as far as its peaks allow.")  # fmt: skip


class LaidSound(Named):
    """Another sound, laid under a shot from one of its frames on."""

    kind: Literal["laid"] = "laid"
    asset: AssetDigest
    volume: Number = number(100.0, label="Volume", low=0, high=400, step=1, unit="%", group="Sound", soft=(0, 200))
    starts: int = plain(0, label="Starts at", low=-100000, high=100000, step=1, unit="fr", group="Sound", whole=True,
                        help="Frame of the shot on which it begins.")  # fmt: skip
    skipped: float = plain(0, label="Without its first", low=0, high=36000, step=0.1, unit="s", group="Sound", soft=(0, 60))
    lasts: float = plain(0, label="Lasts", low=0, high=36000, step=0.1, unit="s", group="Sound", soft=(0, 60),
                         help="0: to its end.")  # fmt: skip
    fade_in: float = plain(0, label="Fades in", low=0, high=600, step=0.1, unit="s", group="Sound", soft=(0, 10))
    fade_out: float = plain(0, label="Fades out", low=0, high=600, step=0.1, unit="s", group="Sound", soft=(0, 10))


FOOTAGE.add(Entry(kind="sound", label="Sound", settings=SoundTrack, run=SoundTrack, groups=("Sound", "All of it"),
                  help="How its sound is laid under the shot."))  # fmt: skip
FOOTAGE.add(Entry(kind="laid", label="Laid sound", settings=LaidSound, run=LaidSound, groups=("Sound",),
                  help="Another sound under the shot."))  # fmt: skip
