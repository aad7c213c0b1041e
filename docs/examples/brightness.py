"""Prints how bright each frame of a shot file is, in linear light, and how much of it is covered.

    python brightness.py SHOT.json
"""

import sys

import plonket

shot = plonket.load(sys.argv[1])
for frame in shot.frames:
    light = shot.light(frame, scale=0.5)
    brightness = light[..., :3] @ (0.2126, 0.7152, 0.0722)
    print(frame, f"{brightness.mean():.4f}", f"{light[..., 3].mean():.3f}")
