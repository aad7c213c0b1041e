"""Cuts a shot file upright, at a place of the picture, and writes a video and a cover picture.

    python upright.py SHOT.json X OUT-FOLDER
"""

import sys
from pathlib import Path

import plonket

path, x, folder = sys.argv[1:4]
shot = plonket.load(path)
footage = shot.document.footage
frame = shot.add("frames", name="Upright", shape="9:16", pixels="cut", x=float(x), y=footage.height / 2)
home = Path(folder)
home.mkdir(parents=True, exist_ok=True)
shot.render(home / "upright.mp4", frame=frame)
shot.render(home / "cover.png", kind="still", frame=frame, at=shot.frames[0])
