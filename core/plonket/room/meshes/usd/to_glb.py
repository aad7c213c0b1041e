"""A model in OpenUSD, made into one GLB: its parts where they hang, its materials, and how it moves."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.base.errors import FormatError
from plonket.room.meshes.gltf.lights import EXTENSION
from plonket.room.meshes.gltf.scene import MOST_FACES
from plonket.room.meshes.gltf.writing import GlbWriter, moved_parts
from plonket.room.meshes.mesh import PLAIN, Material, Part
from plonket.room.meshes.usd.geometry import Surface, coordinates_of, places_of, surface_of, tints_of
from plonket.room.meshes.usd.materials import UsdMaterials
from plonket.room.meshes.usd.opening import array_of, metres_from

if TYPE_CHECKING:
    from pxr import Usd

MOST_MOMENTS = 1000
"""Of a movement; a longer one is told by every other of them, or fewer."""
MOST_SHAPE_VALUES = 6_000_000
"""Numbers of all shapes of a surface that changes from frame to frame: beyond that, fewer moments tell it."""


def glb_of_stage(stage: Usd.Stage, folder: Path, name: str) -> bytes:
    """What is drawn on a stage, as one GLB in metres, y up. Raises `FormatError`."""
    return _Conversion(stage, folder, name).glb()


class _Conversion:
    def __init__(self, stage: Usd.Stage, folder: Path, name: str) -> None:
        from pxr import Usd

        self.stage, self.name = stage, name
        self.writer = GlbWriter()
        self.materials = UsdMaterials(folder, name)
        self.times = _times(stage)
        self.rest = Usd.TimeCode(self.times[0]) if self.times else Usd.TimeCode.EarliestTime()
        rate = float(stage.GetTimeCodesPerSecond())
        self.seconds = (np.array(self.times) - self.times[0]) / (rate if rate > 0 else 24.0) if self.times else np.zeros(0)
        self.animation: dict[str, Any] = {"name": "Movement", "samplers": [], "channels": []}
        self.nodes: dict[str, int] = {}
        self.meshes: dict[str, int] = {}
        self.plain: dict[bytes, Material] = {}
        self.faces = 0
        self._when: dict[tuple[int, ...], int] = {}

    def glb(self) -> bytes:
        from pxr import Usd, UsdGeom, UsdLux

        self._bake()
        self.root = self.writer.node("model", matrix=metres_from(self.stage).T.ravel().tolist())
        for prim in self.stage.Traverse(Usd.TraverseInstanceProxies()):
            if prim.IsA(UsdGeom.PointInstancer):
                self._instances(UsdGeom.PointInstancer(prim))
            elif prim.HasAPI(UsdLux.LightAPI) and _is_shown(prim, self.rest):
                self._light(prim)
            elif prim.IsA(UsdGeom.Gprim) and _is_shown(prim, self.rest) and not _below_instancer(prim):
                self._hang(prim)
        if not self.meshes:
            raise FormatError("model.empty", f"{self.name} has no surfaces to show.")
        if self.animation["channels"]:
            self.writer.put("animations", self.animation)
        return self.writer.finish()

    def _bake(self) -> None:
        """Skins become surfaces that change from frame to frame."""
        from pxr import Gf, Usd, UsdSkel

        roots = [p for p in self.stage.Traverse(Usd.TraverseInstanceProxies()) if p.IsA(UsdSkel.Root)]
        if not roots or not self.times:
            return
        self.stage.SetEditTarget(self.stage.GetSessionLayer())
        for prim in list(self.stage.Traverse()):
            if prim.IsInstance():
                prim.SetInstanceable(False)
        for prim in self.stage.Traverse():
            if prim.IsA(UsdSkel.Root):
                UsdSkel.BakeSkinning(UsdSkel.Root(prim), Gf.Interval(self.times[0], self.times[-1]))

    def _hang(self, prim: Usd.Prim) -> None:
        """A surface at the node of its prim."""
        surface = surface_of(prim, self.rest)
        if surface is None:
            return
        node = self._node(prim)
        if (changing := self._shapes(prim, surface)) is not None:
            times, shapes = changing
            self.writer.json["nodes"][node]["mesh"] = self._mesh(prim, surface, shapes)
            self.writer.animate(self.animation, node, "weights", self._moments(times), np.eye(len(times)).ravel())
            return
        own = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        key = str(own.GetPath())
        if key not in self.meshes:
            self.meshes[key] = self._mesh(prim, surface, [])
        self.writer.json["nodes"][node]["mesh"] = self.meshes[key]

    def _light(self, prim: Usd.Prim) -> None:
        """A lamp, by its radiant intensity: a bulb, or a spot where it is shaped or flat. Source: the schema of UsdLux."""
        from pxr import UsdLux

        about = UsdLux.LightAPI(prim)
        level = float(about.GetIntensityAttr().Get(self.rest) or 0)
        level *= 2.0 ** float(np.clip(about.GetExposureAttr().Get(self.rest) or 0, -60, 60))
        colour = np.asarray(about.GetColorAttr().Get(self.rest) or (1, 1, 1), np.float64)
        cone = 0.0
        if prim.IsA(UsdLux.SphereLight):
            area = np.pi * float(UsdLux.SphereLight(prim).GetRadiusAttr().Get(self.rest) or 0) ** 2
            if prim.HasAPI(UsdLux.ShapingAPI):
                cone = np.radians(float(UsdLux.ShapingAPI(prim).GetShapingConeAngleAttr().Get(self.rest) or 90))
        elif prim.IsA(UsdLux.DiskLight):
            area, cone = np.pi * float(UsdLux.DiskLight(prim).GetRadiusAttr().Get(self.rest) or 0) ** 2, np.pi / 2
        elif prim.IsA(UsdLux.RectLight):
            flat = UsdLux.RectLight(prim)
            area = float(flat.GetWidthAttr().Get(self.rest) or 0) * float(flat.GetHeightAttr().Get(self.rest) or 0)
            cone = np.pi / 2
        else:
            return
        power = level * (1.0 if about.GetNormalizeAttr().Get(self.rest) or area <= 0 else area)
        if not np.isfinite([power, cone, *colour]).all() or power <= 0 or colour.max() <= 0:
            return
        told: dict[str, Any] = {
            "type": "spot" if 0 < cone < np.pi * 0.99 else "point", "name": prim.GetName(),
            "color": (colour / colour.max()).tolist(), "intensity": float(power * colour.max()),
        }  # fmt: skip
        if told["type"] == "spot":
            soft = 1.0
            if prim.HasAPI(UsdLux.ShapingAPI):
                soft = float(np.clip(UsdLux.ShapingAPI(prim).GetShapingConeSoftnessAttr().Get(self.rest) or 0, 0, 1))
            outer = float(min(cone, np.pi / 2))
            told["spot"] = {"outerConeAngle": outer, "innerConeAngle": outer * (1 - soft) * 0.999}
        lights = self.writer.json.setdefault("extensions", {}).setdefault(EXTENSION, {"lights": []})["lights"]
        lights.append(told)
        self.writer.uses(EXTENSION)
        node = self.writer.json["nodes"][self._node(prim)]
        node.setdefault("extensions", {})[EXTENSION] = {"light": len(lights) - 1}

    def _node(self, prim: Usd.Prim) -> int:
        """The node of a prim below those of what it hangs on."""
        from pxr import UsdGeom

        path = str(prim.GetPath())
        if path in self.nodes:
            return self.nodes[path]
        space = UsdGeom.Xformable(prim)
        parent = prim.GetParent()
        above = self.root if parent.IsPseudoRoot() or (space and space.GetResetXformStack()) else self._node(parent)
        self.nodes[path] = node = self.writer.node(prim.GetName(), parent=above)
        if not space:
            return node
        about = self.writer.json["nodes"][node]
        if not self.times or not space.TransformMightBeTimeVarying():
            about["matrix"] = array_of(space.GetLocalTransformation(self.rest)).T.ravel().tolist()
            return node
        moved = moved_parts(np.stack([array_of(space.GetLocalTransformation(time)) for time in self.times]))
        for path_name, values in moved.items():
            about[path_name] = values[0].tolist()
            if not np.allclose(values, values[0], atol=1e-7):
                self.writer.animate(self.animation, node, path_name, self._moments(range(len(self.times))), values)
        return node

    def _moments(self, which: Sequence[int]) -> int:
        """The accessor of the seconds of some of the stage's times."""
        key = tuple(which)
        if key not in self._when:
            self._when[key] = self.writer.numbers(self.seconds[list(key)], "SCALAR", bounds=True)
        return self._when[key]

    def _mesh(self, prim: Usd.Prim, surface: Surface, shapes: Sequence[F64]) -> int:
        """A surface, parted by its materials, as a mesh. `shapes` : (n, 3) its vertices at other moments."""
        self.faces += len(surface.face)
        if self.faces > MOST_FACES:
            raise FormatError("model.large", f"{self.name} has more than two million faces. Reduce it first.")
        rest_ways = surface.normals(surface.places) if shapes or surface.ways is None else surface.ways
        turned = [surface.normals(one) for one in shapes]
        tints = tints_of(prim, surface, self.rest)
        parts: list[Part] = []
        targets: list[list[tuple[F64, F64]]] = []
        for shown, material, uv_name in self._materials(prim, surface):
            corners = np.repeat(shown, 3)
            at = surface.vertex[corners]
            colours = None if tints is None or material is not None else tints[corners]
            own = material or self._plain(colours)
            if colours is not None and np.ptp(colours, axis=0).max() < 1e-4:
                colours = None
            uv = coordinates_of(prim, surface, uv_name, self.rest)[corners]
            parts.append(Part(vertices=surface.places[at], faces=np.arange(len(at)).reshape(-1, 3), uv=uv,
                              normals=rest_ways[corners], material=own, tints=colours))  # fmt: skip
            targets.append([(one[at] - surface.places[at], ways[corners] - rest_ways[corners])
                            for one, ways in zip(shapes, turned, strict=True)])  # fmt: skip
        number = self.writer.mesh(prim.GetName(), parts, targets)
        self.meshes.setdefault(str(prim.GetPath()), number)
        return number

    def _plain(self, colours: F32 | None) -> Material:
        """What a surface that names no material is made of: of its own colour, where it has one."""
        varied = colours is not None and np.ptp(colours, axis=0).max() >= 1e-4
        colour = PLAIN if colours is None else np.ones(3, np.float32) if varied else colours[0]
        return self.plain.setdefault(colour.tobytes(), Material(colour=colour))

    def _materials(self, prim: Usd.Prim, surface: Surface) -> list[tuple[np.ndarray, Material | None, str]]:
        """Which triangles are made of what: masks (m,), the material, the name of the coordinates that it goes by."""
        from pxr import UsdShade

        out: list[tuple[np.ndarray, Material | None, str]] = []
        left = np.ones(len(surface.face), bool)
        for subset in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets():
            given = subset.GetIndicesAttr().Get(self.rest)
            shown = left & np.isin(surface.face, np.asarray([] if given is None else given, np.int64))
            bound = UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()[0]
            if shown.any() and bound:
                out.append((shown, *self.materials.of(bound)))
                left &= ~shown
        if left.any():
            bound = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
            found = self.materials.of(bound) if bound else (None, "")
            out.append((left, *found))
        return out

    def _shapes(self, prim: Usd.Prim, surface: Surface) -> tuple[list[int], list[F64]] | None:
        """Where the vertices of a surface that changes are, at some of the stage's times; None: it does not change."""
        from pxr import UsdGeom

        if not self.times or not prim.IsA(UsdGeom.Mesh) or not UsdGeom.Mesh(prim).GetPointsAttr().ValueMightBeTimeVarying():
            return None
        most = max(2, MOST_SHAPE_VALUES // max(1, 6 * len(surface.vertex)))
        every = range(len(self.times))
        which = sorted({round(k) for k in np.linspace(0, len(every) - 1, min(most, len(every)))})
        shapes = [places_of(prim, self.times[k]) for k in which]
        if any(one.shape != surface.places.shape or not np.isfinite(one).all() for one in shapes):
            return None
        return which, shapes

    def _instances(self, instancer: Any) -> None:
        """A point instancer's copies, each where it stands at rest."""
        from pxr import Usd, UsdGeom

        prim = instancer.GetPrim()
        if not _is_shown(prim, self.rest) or _below_instancer(prim):
            return
        places = instancer.ComputeInstanceTransformsAtTime(self.rest, self.rest)
        which = np.asarray(instancer.GetProtoIndicesAttr().Get(self.rest) or [], np.int64)
        targets = instancer.GetPrototypesRel().GetForwardedTargets()
        if not places or len(which) != len(places) or not len(targets) or which.min() < 0 or which.max() >= len(targets):
            return
        above = self._node(prim)
        for k, place in zip(which, places, strict=True):
            proto = self.stage.GetPrimAtPath(targets[k])
            if not proto:
                continue
            node = self.writer.node(proto.GetName(), parent=above, matrix=array_of(place).T.ravel().tolist())
            space = UsdGeom.Xformable(proto)
            back = np.linalg.inv(array_of(space.ComputeLocalToWorldTransform(self.rest))) if space else np.eye(4)
            for below in Usd.PrimRange(proto, Usd.TraverseInstanceProxies()):
                surface = surface_of(below, self.rest) if below.IsA(UsdGeom.Gprim) else None
                if surface is None:
                    continue
                key = str(below.GetPath())
                if key not in self.meshes:
                    self.meshes[key] = self._mesh(below, surface, [])
                # The copy's place holds that of the pattern itself already.
                inside = back @ array_of(UsdGeom.Xformable(below).ComputeLocalToWorldTransform(self.rest))
                self.writer.node(below.GetName(), parent=node, mesh=self.meshes[key], matrix=inside.T.ravel().tolist())


def _times(stage: Usd.Stage) -> list[float]:
    """The moments that tell how the stage moves; none, where nothing does."""
    from pxr import Usd, UsdGeom, UsdSkel

    found: set[float] = set()
    moves = False
    for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
        space = UsdGeom.Xformable(prim)
        if space and space.TransformMightBeTimeVarying():
            found.update(space.GetTimeSamples())
        if prim.IsA(UsdGeom.Mesh):
            found.update(UsdGeom.Mesh(prim).GetPointsAttr().GetTimeSamples())
        if prim.IsA(UsdSkel.Animation):
            animation = UsdSkel.Animation(prim)
            for attribute in (animation.GetRotationsAttr(), animation.GetTranslationsAttr(), animation.GetScalesAttr(),
                              animation.GetBlendShapeWeightsAttr()):  # fmt: skip
                found.update(attribute.GetTimeSamples())
        moves = len(found) > 1
    finite = sorted(one for one in found if np.isfinite(one))
    if not moves or len(finite) < 2:
        return []
    first, last = finite[0], finite[-1]
    if last - first < MOST_MOMENTS:
        # Turns between samples that lie far apart are not straight.
        finite = sorted({*finite, *np.arange(np.ceil(first), last + 1e-9).tolist()})
    return [finite[round(k)] for k in np.linspace(0, len(finite) - 1, min(len(finite), MOST_MOMENTS))]


def _is_shown(prim: Usd.Prim, time: Usd.TimeCode) -> bool:
    from pxr import UsdGeom

    seen = UsdGeom.Imageable(prim)
    return (seen.ComputeVisibility(time) != UsdGeom.Tokens.invisible
            and seen.ComputePurpose() in (UsdGeom.Tokens.default_, UsdGeom.Tokens.render))  # fmt: skip


def _below_instancer(prim: Usd.Prim) -> bool:
    """Whether it is the pattern of a point instancer's copies."""
    from pxr import UsdGeom

    above = prim.GetParent()
    while above and not above.IsPseudoRoot():
        if above.IsA(UsdGeom.PointInstancer):
            return True
        above = above.GetParent()
    return False
