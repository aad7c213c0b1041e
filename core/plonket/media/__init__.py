"""Reading, conforming and writing clips, stills and sound."""

from plonket.media.clip import Clip, open_clip
from plonket.media.info import ClipInfo
from plonket.media.probe import probe

__all__ = ["Clip", "ClipInfo", "open_clip", "probe"]
