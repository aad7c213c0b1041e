"""Films a miniature set by path tracing (Mitsuba 3, denoised by Open Image Denoise).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.raytrace.engine import Denoiser, import_mitsuba, mesh_of
from synth.phone.camera import PhoneCamera
from synth.phone.solid import MiniatureSet, Solid


@dataclass(frozen=True, slots=True, kw_only=True)
class Exposure:
    """What the lens delivers at one instant, before shutter and sensor.

    Attributes
    ----------
    light : linear RGB, float32 (h, w, 3).
    world : world position seen at each pixel centre, float32 (h, w, 3); NaN where nothing is.
    part : index into `parts` of what is seen, int16 (h, w); parts[0] is "" (still).
    solid : index into the set's solids seen at each pixel centre, int16 (h, w); -1 for nothing.
    pad : pixels rendered beyond each edge, so that shutter and read-out can look outside.
    """

    light: F32
    world: F32
    part: NDArray[np.int16]
    solid: NDArray[np.int16]
    parts: tuple[str, ...]
    pad: int


class FilmStudio:
    """A loaded set that can be photographed at any time.

    Parameters
    ----------
    what : the set. camera : the phone's camera.
    samples : paths per pixel (a square number). aperture_m : lens radius; focus_m : focus distance.
    pad : extra pixels around the picture.
    """

    def __init__(
        self,
        what: MiniatureSet,
        camera: PhoneCamera,
        *,
        samples: int = 9,
        aperture_m: float = 0.0,
        focus_m: float = 1.0,
        pad: int = 24,
        leave_out: tuple[str, ...] = (),
        denoise: bool = True,
    ) -> None:
        self.mi = import_mitsuba()
        self.set, self.camera, self.samples, self.pad = what, camera, samples, pad
        self.aperture, self.focus, self.denoise = aperture_m, focus_m, denoise
        self.solids = [s for s in what.solids if s.name not in leave_out]
        self.parts = ("", *what.motions)
        self.scene = self.mi.load_dict(self._scene())
        self.params = self.mi.traverse(self.scene)
        self._still_vertices = {s.name: s.vertices for s in self.solids}
        self.denoiser = Denoiser()

    def expose(self, t: float) -> Exposure:
        """Photograph the set at time `t` in seconds."""
        mi = self.mi
        self._pose(t)
        sensor = self._sensor(t, self.aperture)
        seed = int(round(t * 1000)) + 1
        path = mi.load_dict({"type": "path", "max_depth": 6, "rr_depth": 4})
        light = np.array(mi.render(self.scene, sensor=sensor, integrator=path, spp=self.samples, seed=seed))
        light = np.ascontiguousarray(light[..., :3], np.float32)
        if self.denoise:
            # A pass of its own: nesting the path tracer in the guide integrator doubled its time.
            guides = mi.load_dict({"type": "aov", "aovs": "alb:albedo,nn:sh_normal"})
            layers = np.array(mi.render(self.scene, sensor=sensor, integrator=guides, spp=4, seed=seed))
            light = self.denoiser.run(light, layers[..., 0:3], layers[..., 3:6])
        sharp = self._sensor(t, 0.0)
        hit = self._centre_hits(sharp)
        solid = np.full(hit.shape[:2], -1, np.int16)
        seen = np.isfinite(hit[..., 0])
        solid[seen] = hit[..., 3][seen].astype(np.int16)
        lookup = np.array([self.parts.index(s.part) for s in self.solids] + [0], np.int16)
        world = hit[..., :3].astype(np.float32)
        return Exposure(
            light=light, world=world, part=lookup[solid], solid=solid, parts=self.parts, pad=self.pad
        )

    def _centre_hits(self, sensor: Any) -> F64:
        """Position and shape index seen exactly at each pixel centre (no filter, no jitter)."""
        import drjit as dr

        mi = self.mi
        width, height = self.camera.size[0] + 2 * self.pad, self.camera.size[1] + 2 * self.pad
        index = dr.arange(mi.UInt32, width * height)
        x, y = index % width, index // width
        at = mi.Point2f((mi.Float(x) + 0.5) / width, (mi.Float(y) + 0.5) / height)
        ray, _ = sensor.sample_ray(0.0, 0.5, at, mi.Point2f(0.5, 0.5))
        si = self.scene.ray_intersect(ray)
        shapes = list(self.scene.shapes())
        order = {sh.id(): k for k, sh in enumerate(shapes)}
        number = mi.Float(-1.0)
        for k, solid in enumerate(self.solids):
            shape = shapes[order[solid.name]]
            number = dr.select(si.shape == mi.ShapePtr(shape), float(k), number)
        valid = np.array(si.is_valid()) & (np.array(number) >= 0)
        out = np.stack([np.array(si.p.x), np.array(si.p.y), np.array(si.p.z), np.array(number)], -1)
        out[~valid] = np.nan
        return np.asarray(out.reshape(height, width, 4), np.float64)

    def _sensor(self, t: float, aperture: float) -> Any:
        mi, cam, pad = self.mi, self.camera, self.pad
        position, rotation = cam.pose(t)
        width, height = cam.size[0] + 2 * pad, cam.size[1] + 2 * pad
        forward, up = -rotation[:, 2], rotation[:, 1]
        spec: dict[str, Any] = {
            "type": "thinlens" if aperture > 0 else "perspective",
            "fov": float(np.degrees(2 * np.arctan(width / 2 / cam.focal_px))),
            "fov_axis": "x",
            "near_clip": 0.01,
            "far_clip": 100.0,
            "to_world": mi.ScalarTransform4f().look_at(
                origin=position.tolist(), target=(position + forward).tolist(), up=up.tolist()
            ),
            "film": {
                "type": "hdrfilm",
                "width": width,
                "height": height,
                "rfilter": {"type": "gaussian", "stddev": 0.42},
                "pixel_format": "rgb",
            },
            "sampler": {"type": "multijitter", "sample_count": self.samples},
        }
        if aperture > 0:
            spec |= {"aperture_radius": aperture, "focus_distance": self.focus}
        return mi.load_dict(spec)

    def _pose(self, t: float) -> None:
        changed = False
        for solid in self.solids:
            if solid.part:
                m = self.set.part_at(solid.part, t)
                moved = self._still_vertices[solid.name] @ m[:3, :3].T + m[:3, 3]
                self.params[f"{solid.name}.vertex_positions"] = moved.astype(np.float32).ravel()
                changed = True
            if solid.name in self.set.flicker:
                scale = self.set.flicker[solid.name](t)
                rgb = np.asarray(solid.texture, np.float64).reshape(-1, 3).mean(0) * scale
                self.params[f"{solid.name}.emitter.radiance.value"] = self.mi.Color3f(*rgb.tolist())
                changed = True
            if solid.name in self.set.drift:
                picture = self.set.drift[solid.name](t)
                self.params[f"{solid.name}.emitter.radiance.data"] = self.mi.TensorXf(picture)
                changed = True
        if changed:
            self.params.update()

    def _scene(self) -> dict[str, Any]:
        mi = self.mi
        scene: dict[str, Any] = {"type": "scene"}
        if any(self.set.ambient):
            scene["ambient"] = {
                "type": "constant",
                "radiance": {"type": "rgb", "value": list(self.set.ambient)},
            }
        for k, light in enumerate(self.set.lights):
            scene[f"light_{k}"] = {
                "type": "rectangle",
                "to_world": mi.ScalarTransform4f().look_at(
                    origin=list(light.centre), target=list(light.target), up=[0.01, 1, 0.02]
                )
                @ mi.ScalarTransform4f().scale([light.size[0] / 2, light.size[1] / 2, 1]),
                "emitter": {"type": "area", "radiance": {"type": "rgb", "value": list(light.radiance)}},
                "bsdf": {"type": "diffuse", "reflectance": {"type": "rgb", "value": 0.0}},
            }
        for solid in self.solids:
            scene[solid.name] = self._shape(solid)
        return scene

    def _shape(self, solid: Solid) -> Any:
        mi = self.mi
        props = mi.Properties()
        drifting = solid.name in self.set.drift
        if solid.material == "glow":
            radiance: dict[str, Any] = (
                {"type": "bitmap", "bitmap": mi.Bitmap(solid.texture), "raw": True}
                if solid.texture.ndim == 3 or drifting
                else {"type": "rgb", "value": solid.texture.tolist()}
            )
            props["emitter"] = mi.load_dict({"type": "area", "radiance": radiance})
            props["bsdf"] = mi.load_dict({"type": "diffuse", "reflectance": {"type": "rgb", "value": 0.0}})
        else:
            props["bsdf"] = mi.load_dict(self._bsdf(solid))
        return mesh_of(mi, solid.name, solid.vertices, solid.faces, solid.uv, props, np.zeros((0, 3)) if solid.smooth else None)

    def _bsdf(self, solid: Solid) -> dict[str, Any]:
        mi = self.mi
        colour: dict[str, Any] = (
            {"type": "bitmap", "bitmap": mi.Bitmap(np.ascontiguousarray(solid.texture)), "raw": True}
            if solid.texture.ndim == 3
            else {"type": "rgb", "value": solid.texture.tolist()}
        )
        look: dict[str, Any]
        if solid.material == "matte":
            look = {"type": "diffuse", "reflectance": colour}
        elif solid.material in ("satin", "gloss"):
            look = {
                "type": "principled",
                "base_color": colour,
                "roughness": solid.rough,
                "specular": 0.5,
                "clearcoat": 0.6 if solid.material == "gloss" else 0.0,
                "clearcoat_gloss": 0.9,
            }
        elif solid.material == "metal":
            look = {"type": "principled", "base_color": colour, "metallic": 1.0, "roughness": solid.rough}
        elif solid.material == "water":
            look = {"type": "principled", "base_color": colour, "roughness": solid.rough, "specular": 0.6}
        else:
            look = {"type": "thindielectric"}
        return {"type": "twosided", "material": look} if solid.material != "glass" else look
