"""Films a model with its shadow. Runs in the renderer's own process.

One integrator tells the model and the ground apart where a ray first meets them. The ground's shadow is one less the light that
reaches it with the model over the same light without it, from the same samples, so that ground in the open stays free of noise.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.conventions import F32, F64
from plonket.scene.engine import Denoiser, import_mitsuba, mesh_of
from plonket.scene.models import read_model
from plonket.scene.request import Order, View

LIGHT_RAYS = 2
FAR = 60.0
"""How far off the sun is, in times the model's size."""
EDGE_PX = 20
"""Over so many pixels a shadow fades out where its window ends."""
CHANNELS = ("thing", "open", "shaded", "ground", "ar", "ag", "ab", "nx", "ny", "nz")


class FilmSet:
    """Loaded scenes, the last few kept."""

    def __init__(self) -> None:
        self.mi = import_mitsuba()
        self.denoiser = Denoiser()
        self._scenes: dict[Any, _Scene] = {}
        _announce(self.mi)

    def film(self, order: Order) -> F32:
        """An order's window (h, w, 5): linear, premultiplied light of the model, its coverage, and the ground's shadow."""
        key = (order.model, order.lights, order.ground, order.ground_colour, order.metal, order.rough)
        scene = self._scenes.pop(key, None)
        if scene is None:
            scene = _Scene(self.mi, order)
            if len(self._scenes) > 5:
                self._scenes.pop(next(iter(self._scenes)))
        self._scenes[key] = scene
        share = max(1, order.samples // len(order.views))
        layers = [scene.exposed(order, k, share) for k in range(len(order.views))]
        return self._developed(np.mean(layers, axis=0), order)

    def _developed(self, raw: F32, order: Order) -> F32:
        light, thing = raw[..., :3], np.clip(raw[..., 3], 0, 1)
        lit, shaded, ground = raw[..., 4], raw[..., 5], np.clip(raw[..., 6], 0, 1)
        albedo, normal = raw[..., 7:10], raw[..., 10:13]
        out = np.zeros((*raw.shape[:2], 5), np.float32)
        if thing.max() > 0:
            # Un-premultiplied, spread outwards, denoised, multiplied again: no dark rim, no noise in the edge.
            straight = _spread(light, thing)
            calm = self.denoiser.run(straight, _spread(albedo, thing), _spread(normal, thing))
            out[..., :3] = np.maximum(calm, 0) * thing[..., None]
        out[..., 3] = thing
        if ground.max() > 0:
            ratio = np.where(lit > 1e-6, 1 - shaded / np.maximum(lit, 1e-6), 0)
            ratio = _spread(np.repeat((ratio * ground)[..., None], 3, axis=2), ground)
            calm = self.denoiser.run(ratio, np.ones_like(ratio), np.zeros_like(ratio))[..., 0]
            out[..., 4] = np.clip(calm, 0, 1) * ground * _feather(ground.shape)
        return out


def _spread(values: F32, cover: F32) -> F32:
    """Premultiplied values (h, w, 3) divided by their coverage, and going on outwards where there is none (push-pull)."""
    levels = [(values.astype(np.float32), cover.astype(np.float32))]
    while min(levels[-1][1].shape) > 2:
        v, c = levels[-1]
        size = (max(1, v.shape[1] // 2), max(1, v.shape[0] // 2))
        levels.append((cv2.resize(v, size, interpolation=cv2.INTER_AREA), cv2.resize(c, size, interpolation=cv2.INTER_AREA)))
    v, c = levels[-1]
    out = v / np.maximum(c, 1e-4)[..., None]
    for v, c in reversed(levels[:-1]):
        wide = cv2.resize(out, (v.shape[1], v.shape[0]), interpolation=cv2.INTER_LINEAR)
        sure = np.clip(c * 4, 0, 1)[..., None]
        out = v / np.maximum(c, 1e-4)[..., None] * sure + wide * (1 - sure)
    return np.ascontiguousarray(out, np.float32)


def _feather(shape: tuple[int, ...]) -> F32:
    h, w = shape
    across, down = (np.clip((np.minimum(np.arange(n), np.arange(n)[::-1]) + 0.5) / EDGE_PX, 0, 1) for n in (w, h))
    return np.asarray(np.outer(down, across), np.float32)


class _Scene:
    """A model with its lights and ground, loaded once; from frame to frame only where things are changes."""

    def __init__(self, mi: Any, order: Order) -> None:
        self.mi = mi
        self.model = read_model(Path(order.model))
        scale = float(np.cbrt(abs(np.linalg.det(order.views[0].model[:3, :3]))))
        self.reach = float(np.linalg.norm(self.model.size)) * scale
        middle = order.views[0].model[:3, 3]
        self.scene = mi.load_dict(self._scene(order, middle))
        self.params = mi.traverse(self.scene)
        self.placed: F64 | None = None

    def _scene(self, order: Order, middle: F64) -> dict[str, Any]:
        mi, lights = self.mi, order.lights
        out: dict[str, Any] = {"type": "scene"}
        if max(lights.sky_light) > 0:
            out["sky"] = {"type": "constant", "radiance": {"type": "rgb", "value": list(lights.sky_light)}}
        if max(lights.sun_light) > 0:
            far = FAR * self.reach
            radius = far * float(np.tan(max(lights.soft, 1e-3)))
            # A disc of radiance L and half angle a lights a surface that faces it with pi L sin(a)^2.
            radiance = np.array(lights.sun_light) / np.sin(max(lights.soft, 1e-3)) ** 2
            out["sun"] = {
                "type": "sphere", "center": (middle + far * np.array(lights.sun)).tolist(), "radius": radius,
                "emitter": {"type": "area", "radiance": {"type": "rgb", "value": radiance.tolist()}},
                "bsdf": {"type": "diffuse", "reflectance": {"type": "rgb", "value": 0.0}},
            }  # fmt: skip
        if order.ground is not None:
            half = 40 * self.reach
            at = mi.ScalarTransform4f().translate([float(middle[0]), order.ground, float(middle[2])])
            out["ground"] = {
                "type": "rectangle", "to_world": at @ mi.ScalarTransform4f().rotate([1, 0, 0], -90) @
                mi.ScalarTransform4f().scale([half, half, 1]),
                "bsdf": {"type": "twosided", "material": {
                    "type": "diffuse", "reflectance": {"type": "rgb", "value": list(order.ground_colour)}}},
            }  # fmt: skip
        for k, part in enumerate(self.model.parts):
            props = mi.Properties()
            props["bsdf"] = mi.load_dict(_surface(mi, part.colour, part.metal if order.metal is None else order.metal,
                                                  part.rough if order.rough is None else order.rough))  # fmt: skip
            if max(part.glow) > 0:
                props["emitter"] = mi.load_dict({"type": "area", "radiance": {"type": "rgb", "value": list(part.glow)}})
            out[f"part{k}"] = mesh_of(mi, f"part{k}", part.vertices, part.faces, part.uv, props, part.normals)
        return out

    def _place(self, matrix: F64) -> None:
        if self.placed is not None and np.array_equal(self.placed, matrix):
            return
        upright = np.linalg.inv(matrix[:3, :3]).T
        for k, part in enumerate(self.model.parts):
            moved = part.vertices @ matrix[:3, :3].T + matrix[:3, 3]
            self.params[f"part{k}.vertex_positions"] = moved.astype(np.float32).ravel()
            turned = part.normals @ upright.T
            turned /= np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-12)
            self.params[f"part{k}.vertex_normals"] = turned.astype(np.float32).ravel()
        self.params.update()
        self.placed = matrix.copy()

    def exposed(self, order: Order, k: int, samples: int) -> F32:
        """(h, w, 13) of one instant: light of the model, then `CHANNELS`."""
        mi, view = self.mi, order.views[k]
        self._place(view.model)
        sensor, integrator = self.sensor(order, view, samples), mi.load_dict({"type": "plonket_set"})
        raw = np.array(mi.render(self.scene, sensor=sensor, integrator=integrator, spp=samples, seed=17 + k))
        return np.asarray(raw[..., : 3 + len(CHANNELS)], np.float32)

    def sensor(self, order: Order, view: View, samples: int) -> Any:
        """The camera of an order at one instant, which exposes only the window."""
        mi = self.mi
        x, y, width, height = order.window
        forward, up = -view.turn[:, 2], view.turn[:, 1]
        # The film's middle is the lens's axis: a large film of which only the window is exposed.
        left, wide = _about(order.principal[0], x, width)
        top, high = _about(order.principal[1], y, height)
        return mi.load_dict({
            "type": "perspective", "fov_axis": "x",
            "fov": float(np.degrees(2 * np.arctan(wide / 2 / order.focal))),
            "near_clip": 1e-3 * self.reach, "far_clip": 1e4 * self.reach,
            "to_world": mi.ScalarTransform4f().look_at(
                origin=view.eye.tolist(), target=(view.eye + forward).tolist(), up=up.tolist()),
            "film": {
                "type": "hdrfilm", "width": wide, "height": high, "pixel_format": "rgb",
                "crop_offset_x": x - left, "crop_offset_y": y - top,
                "crop_width": width, "crop_height": height, "rfilter": {"type": "box"},
            },
            "sampler": {"type": "multijitter", "sample_count": samples},
        })  # fmt: skip


def _about(centre: float, first: int, length: int) -> tuple[int, int]:
    """First pixel and length of the shortest row of pixels about `centre` (a whole or half number) that holds a part."""
    whole = centre == np.floor(centre)
    half = int(np.ceil(max(abs(first - centre), abs(first + length - centre)))) + 1
    return (int(centre) - half, 2 * half) if whole else (int(np.floor(centre)) - half, 2 * half + 1)


def _surface(mi: Any, colour: F32, metal: float, rough: float) -> dict[str, Any]:
    base: dict[str, Any] = (
        {"type": "bitmap", "bitmap": mi.Bitmap(np.ascontiguousarray(colour)), "raw": True}
        if colour.ndim == 3
        else {"type": "rgb", "value": colour.tolist()}
    )
    look = {"type": "principled", "base_color": base, "metallic": float(metal), "roughness": float(rough), "specular": 0.5}
    return {"type": "twosided", "material": look}


_announced = False


def _announce(mi: Any) -> None:
    """Make the integrator known to Mitsuba, once."""
    global _announced
    if _announced:
        return
    import drjit as dr

    class SetIntegrator(mi.SamplingIntegrator):  # type: ignore[misc]
        def __init__(self, props: Any) -> None:
            super().__init__(props)
            self.path = mi.load_dict({"type": "path", "max_depth": 6, "rr_depth": 4})

        def aov_names(self) -> list[str]:
            return list(CHANNELS)

        def sample(self, scene: Any, sampler: Any, ray: Any, medium: Any = None, active: Any = True) -> Any:
            si = scene.ray_intersect(ray, active)
            valid = si.is_valid() & active
            grounds = [s for s in scene.shapes() if s.id() == "ground"]
            suns = [s for s in scene.shapes() if s.id() == "sun"]
            on_ground, on_sun = mi.Bool(False), mi.Bool(False)
            if grounds:
                on_ground = valid & (si.shape == mi.ShapePtr(grounds[0]))
            if suns:
                on_sun = valid & (si.shape == mi.ShapePtr(suns[0]))
            thing = valid & ~on_ground & ~on_sun
            light, _, _ = self.path.sample(scene, sampler, ray, medium, thing)
            light = dr.select(thing, light, 0)
            lit, shaded = mi.Float(0), mi.Float(0)
            if grounds:
                for _ in range(LIGHT_RAYS):
                    ds, weight = scene.sample_emitter_direction(si, sampler.next_2d(on_ground), False, on_ground)
                    falls = mi.luminance(weight) * dr.maximum(dr.dot(si.n, ds.d), 0)
                    hidden = scene.ray_test(si.spawn_ray_to(ds.p), on_ground)
                    lit += dr.select(on_ground, falls, 0)
                    shaded += dr.select(on_ground & ~hidden, falls, 0)
            bsdf = si.bsdf(ray)
            albedo = dr.select(thing, bsdf.eval_diffuse_reflectance(si, thing), mi.Color3f(0))
            n = si.sh_frame.n
            things, grounded = (dr.select(flag, mi.Float(1), mi.Float(0)) for flag in (thing, on_ground))
            extra = [things, lit, shaded, grounded, albedo.x, albedo.y, albedo.z]
            extra += [dr.select(thing, v, 0) for v in (n.x, n.y, n.z)]
            return light, mi.Bool(True), extra

    mi.register_integrator("plonket_set", SetIntegrator)
    _announced = True
