"""The lamps in a model's file, as lamps of the room that it stands in."""

from __future__ import annotations

import numpy as np

from plonket.base.colour import encode
from plonket.base.conventions import F64
from plonket.document.follow import Follow
from plonket.document.operations import fresh_id, fresh_name
from plonket.document.perch import Perch
from plonket.document.shot import Shot
from plonket.document.spot import Spot
from plonket.layers.light import LampLayer
from plonket.layers.model import MeshLayer
from plonket.room.meshes.mesh import FileLight, Mesh

MOST_PERCENT = 10_000.0


def with_lamps(shot: Shot, layer: MeshLayer, mesh: Mesh, stands: F64, motion: str, frame: int) -> Shot:
    """The shot with a lamp for each in a model's file, each on a perch of its own where that is.

    Their strengths stand to each other as in the file; the strongest lights a white card to full white as far off as the model
    is tall, for files state strengths in units of their own.

    Parameters
    ----------
    stands : (4, 4) room from model at `frame`. motion : whose room it is.
    """
    most = max((light.strength for light in mesh.lights), default=0.0)
    tall = float(mesh.size[1]) * float(np.linalg.norm(stands[:3, 1]))
    perches, lamps = list(shot.perches), list[LampLayer]()
    for light in mesh.lights:
        now = shot.model_copy(update={"perches": perches, "stack": [*shot.stack, *lamps]})
        name = fresh_name(f"{layer.name}: {light.name}"[:100], {t.name for t in now.things()})
        x, y, z = (round(float(v), 5) for v in stands[:3, :3] @ light.place + stands[:3, 3])
        perch = Perch(id=fresh_id(now, "perch"), name=name, spot=Spot(x=x, y=y, z=z),
                      follow=Follow(target=motion, reference_frame=frame, perspective=True))  # fmt: skip
        perches.append(perch)
        share = light.strength / most
        lamps.append(_lamp(light, fresh_id(now, "layer"), name, perch, stands, 100 * share * tall**2))
    return shot.model_copy(update={"perches": perches, "stack": [*shot.stack, *lamps]})


def _lamp(light: FileLight, identifier: str, name: str, perch: Perch, stands: F64, percent: float) -> LampLayer:
    way = stands[:3, :3] @ light.way
    way = way / max(float(np.linalg.norm(way)), 1e-12)
    code = np.clip(np.round(encode(light.colour) * 255), 0, 255).astype(int)
    cone = {} if light.cone is None else {
        "cone": round(float(np.degrees(2 * light.cone)), 2),
        "cone_soft": round(100 * (1 - light.edge / light.cone), 1),
    }  # fmt: skip
    follow = perch.follow.model_copy(update={"target": perch.id})
    return LampLayer(
        id=identifier, name=name, follow=follow,
        lift=0.0, heading=round(float(np.degrees(np.arctan2(way[0], way[2]))), 3),
        tilt=round(float(np.degrees(np.arcsin(np.clip(-way[1], -1, 1)))), 3),
        strength=round(float(np.clip(percent, 0.01, MOST_PERCENT)), 4), colour="#" + "".join(f"{v:02x}" for v in code),
        shape="point" if light.cone is None else "spot", **cone,
    )  # fmt: skip
