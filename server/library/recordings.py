"""The sound of assets, as shots are laid with it."""

from __future__ import annotations

from fractions import Fraction

from library.assets import find_asset
from library.models import Asset
from plonket.media.sound import Sound, read_wav
from plonket.render.soundtrack import Recording
from plonket_server import store


def sound_of(digest: str) -> Sound | None:
    """The sound of a clip or of a sound file, whole; None: it has none."""
    path = store.derived_folder(digest) / "sound.wav"
    return read_wav(path) if path.exists() else None


def recording_of(digest: str) -> Recording | None:
    """The same with the rate and length of the clip that it belongs to."""
    sound = sound_of(digest)
    if sound is None:
        return None
    asset = find_asset(digest)
    if asset.kind == Asset.Kind.SOUND:
        return Recording(sound=sound)
    return Recording(sound=sound, rate=Fraction(asset.info["fps"]), frames=int(asset.info["frames"]))
