"""A boat stuck to a detail of a clip: followed, placed, looked at, rendered.

    python boat_on_a_lamp.py CLIP BOAT.png X Y OUT.mp4
"""

import sys
from pathlib import Path

import plonket

clip, boat, x, y, out = sys.argv[1:6]
shot = plonket.Shot(clip)
lamp = shot.add("motions", kind="points", name="Lamp", points=[
    {"id": "top", "name": "Top", "given": [{"frame": 0, "x": float(x), "y": float(y)}]},
])  # fmt: skip
plonket.measure(shot)
shot.add("stack", kind="still", name="Boat", asset=Path(boat), x=float(x), y=float(y),
         follow={"target": lamp, "turn": False, "size": False})  # fmt: skip
middle = shot.frames[len(shot.frames) // 2]
print("mean of the middle frame:", plonket.render_frame(shot, middle).mean(axis=(0, 1)).round(1))
shot.render(out, quality="best")
shot.save(Path(out).with_suffix(".json"))
