"""Films a model with its shadow. Runs in the renderer's own process."""

from __future__ import annotations

from typing import Any

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.image.push_pull import spread_out
from plonket.raytrace.engine import Denoiser, import_mitsuba, mesh_of
from plonket.raytrace.integrator import CHANNELS, MIRRORED, announce
from plonket.raytrace.request import FILMED, CameraView, Coat, Instance, Lamp, Lights, Receiver, RenderRequest, Role
from plonket.raytrace.surfaces import TINTS, coated, glow_of, lets_through, surface_of
from plonket.room.meshes.files import name_of
from plonket.room.meshes.gathered import gathered
from plonket.room.meshes.instances import read_thing
from plonket.room.meshes.mesh import Material, Mesh

FAR = 60.0
"""How far off the sun is, in times the model's size."""
SHEET_PX = 320
"""So many places across are what was filmed made of where it keeps light from itself."""
TORN = 0.04
"""Share of the distance from which on the sheet between two places is torn: one is in front of the other."""
EDGE_PX = 20
"""Over so many pixels a shadow fades out where its window ends."""


class FilmSet:
    """Loaded scenes, the last few kept."""

    def __init__(self) -> None:
        self.mi = import_mitsuba()
        self.denoiser = Denoiser()
        self._scenes: dict[Any, _Scene] = {}
        announce(self.mi)

    def film(self, order: RenderRequest) -> F32:
        """An order's window (h, w, 7): linear, premultiplied light of what is shown, its coverage, the shadow, how far
        off what is shown is in metres, times its coverage, and the shadow on what was filmed, behind what is shown as
        well. Asked for, then what the ground mirrors of it: light, premultiplied, and its share (h, w, 4); and its normals in
        the set, times its coverage."""
        things = tuple((t.model, t.role, t.coats) for t in order.things)
        key = (things, order_lights(order.lights), order.ground, order.ground_colour, order.receiver is None)
        scene = self._scenes.pop(key, None)
        if scene is None:
            scene = _Scene(self.mi, order)
            if len(self._scenes) > 5:
                self._scenes.pop(next(iter(self._scenes)))
        self._scenes[key] = scene
        share = max(1, order.samples // len(order.views))
        layers = [scene.exposed(order, k, share) for k in range(len(order.views))]
        return self._developed(np.mean(layers, axis=0), order)

    def _developed(self, raw: F32, order: RenderRequest) -> F32:
        light, thing = raw[..., :3], np.clip(raw[..., 3], 0, 1)
        lit, shaded, ground, far = raw[..., 4], raw[..., 5], np.clip(raw[..., 6], 0, 1), raw[..., 7]
        albedo, normal = raw[..., 8:11], raw[..., 11:14]
        out = np.zeros((*raw.shape[:2], FILMED), np.float32)
        if thing.max() > 0:
            # Un-premultiplied, spread outwards, denoised, multiplied again: no dark rim, no noise in the edge.
            straight = _spread(light, thing)
            calm = self.denoiser.run(straight, _spread(albedo, thing), _spread(normal, thing))
            out[..., :3] = np.maximum(calm, 0) * thing[..., None]
        out[..., 3], out[..., 5] = thing, far
        if ground.max() > 0:
            out[..., 4] = self._shadow(lit, shaded, ground, np.zeros_like(normal))
        if order.receiver is not None:
            found = np.clip(raw[..., 14], 0, 1)
            if found.max() > 0:
                out[..., 6] = self._shadow(raw[..., 15], raw[..., 16], found, order.receiver.normals)
        told = [out]
        if order.mirror is not None:
            told.append(self._mirrored(raw[..., 3 + len(CHANNELS) :], ground))
        if order.normals:
            told.append(normal)
        return np.dstack(told) if len(told) > 1 else out

    def _mirrored(self, raw: F32, ground: F32) -> F32:
        """(h, w, 4) what the ground throws back of what is shown, and the share of it that it does not throw back itself."""
        share = np.clip(raw[..., 3], 0, 1)
        if share.max() <= 0:
            return np.zeros((*share.shape, 4), np.float32)
        # Where a rough ground mirrors some of it, noise is in the share as well.
        none = np.zeros((*share.shape, 3), np.float32)
        level = _spread(np.repeat(share[..., None], 3, axis=2), ground)
        calm_share = self.denoiser.run(level, np.ones_like(none), none)[..., :1]
        # Little is thrown back: what counts is how much of that is there.
        part = share / share.max()
        light, albedo = (_spread(values / share.max(), part) for values in (raw[..., :3], raw[..., 4:7]))
        calm = self.denoiser.run(light, albedo, none)
        calm_share = np.clip(calm_share, 0, 1) * (ground * _feather(ground.shape))[..., None]
        return np.dstack([np.maximum(calm, 0) * calm_share, calm_share]).astype(np.float32)

    def _shadow(self, lit: F32, shaded: F32, where: F32, normals: F32) -> F32:
        """(h, w) of light with and without what throws the shadow, where there is something that takes it."""
        ratio = np.where(lit > 1e-6, 1 - shaded / np.maximum(lit, 1e-6), 0)
        ratio = _spread(np.repeat((ratio * where)[..., None], 3, axis=2), where)
        calm = self.denoiser.run(ratio, np.ones_like(ratio), normals)[..., 0]
        return np.asarray(np.clip(calm, 0, 1) * where * _feather(where.shape), np.float32)


def order_lights(lights: Lights) -> Any:
    """What tells two sets of lights apart, for a dictionary."""
    lamps = tuple((lamp.place.tobytes(), lamp.light, lamp.shape, lamp.cone, lamp.edge) for lamp in lights.lamps)
    dome = lights.dome
    return (lights.sun, lights.sun_light, lights.sky_light, lights.soft, lamps,
            dome and (dome.picture, dome.turn, dome.strength))  # fmt: skip


def _spread(values: F32, cover: F32) -> F32:
    """Values without their coverage, going on where there is none: no rim when they are denoised."""
    return spread_out(values, cover, enough=0.25)


def _feather(shape: tuple[int, ...]) -> F32:
    h, w = shape
    across, down = (np.clip((np.minimum(np.arange(n), np.arange(n)[::-1]) + 0.5) / EDGE_PX, 0, 1) for n in (w, h))
    return np.asarray(np.outer(down, across), np.float32)


class _Scene:
    """A set with its lights and ground, loaded once; from frame to frame only where things are changes."""

    def __init__(self, mi: Any, order: RenderRequest) -> None:
        self.mi = mi
        self.models = [gathered(read_thing(thing.model)) for thing in order.things]
        self.materials = [_materials(thing, model, order.ground_colour)
                          for thing, model in zip(order.things, self.models, strict=True)]  # fmt: skip
        self.through = any(m is not None and lets_through(m) for every in self.materials for m in every)
        first = order.things[0].stands[0]
        scale = float(np.cbrt(abs(np.linalg.det(first[:3, :3]))))
        self.reach = max(float(np.linalg.norm(self.models[0].size)) * scale, 1e-6)
        every = np.array([t.stands[0][:3, 3] for t in order.things])
        self.span = self.reach + float(np.linalg.norm(np.ptp(every, axis=0)))
        middle = every.mean(axis=0)
        light = self._lights(order, middle)
        self.scene = mi.load_dict({"type": "scene", **light, **self._things(order, ("shown", "other", "real"))})
        self.params = mi.traverse(self.scene)
        # What is in the footage already, and lamps, stand in the way of light whether there are models or not.
        self.bare: Any = None
        if order.shadows:
            self.bare = mi.load_dict({"type": "scene", **light, **self._things(order, ("real",))})
            self.bare_params = mi.traverse(self.bare)
        # What was filmed lies where it lies: under the ground as well, which then shades nothing.
        self.over: Any = None
        if order.receiver is not None:
            self.over = mi.load_dict({"type": "scene", **self._things(order, ("shown", "other"))})
            self.over_params = mi.traverse(self.over)
        self.placed: list[tuple[F64, tuple[int, float] | None] | None] = [None] * len(order.things)

    def _lights(self, order: RenderRequest, middle: F64) -> dict[str, Any]:
        mi, lights = self.mi, order.lights
        out: dict[str, Any] = {}
        if lights.dome is not None and lights.dome.strength > 0:
            out["sky"] = {
                "type": "envmap", "filename": lights.dome.picture, "scale": lights.dome.strength,
                # The map's middle lies ahead, along the room's -z.
                "to_world": mi.ScalarTransform4f().rotate([0, 1, 0], 180 + float(np.degrees(lights.dome.turn))),
            }  # fmt: skip
        elif max(lights.sky_light) > 0:
            out["sky"] = {"type": "constant", "radiance": {"type": "rgb", "value": list(lights.sky_light)}}
        black = {"type": "diffuse", "reflectance": {"type": "rgb", "value": 0.0}}
        if max(lights.sun_light) > 0:
            far = FAR * self.span
            radius = far * float(np.tan(max(lights.soft, 1e-3)))
            # A disc of radiance L and half angle a lights a surface that faces it with pi L sin(a)^2.
            radiance = np.array(lights.sun_light) / np.sin(max(lights.soft, 1e-3)) ** 2
            out["sun"] = {
                "type": "sphere", "center": (middle + far * np.array(lights.sun)).tolist(), "radius": radius,
                "emitter": {"type": "area", "radiance": {"type": "rgb", "value": radiance.tolist()}}, "bsdf": black,
            }  # fmt: skip
        for k, lamp in enumerate(lights.lamps):
            if lamp.shape != "soft":
                out[f"bulb{k}"] = _bulb(mi, lamp)
                continue
            out[f"lamp{k}"] = {
                "type": "rectangle", "to_world": mi.ScalarTransform4f(lamp.place.tolist()), "bsdf": black,
                "emitter": {"type": "area", "radiance": {"type": "rgb", "value": list(lamp.light)}},
            }  # fmt: skip
        if order.ground is not None:
            half = 40 * self.span
            at = mi.ScalarTransform4f().translate([float(middle[0]), order.ground, float(middle[2])])
            out["ground"] = {
                "type": "rectangle", "to_world": at @ mi.ScalarTransform4f().rotate([1, 0, 0], -90) @
                mi.ScalarTransform4f().scale([half, half, 1]),
                "bsdf": {"type": "twosided", "material": {
                    "type": "diffuse", "reflectance": {"type": "rgb", "value": list(order.ground_colour)}}},
            }  # fmt: skip
        return out

    def _things(self, order: RenderRequest, roles: tuple[Role, ...]) -> dict[str, Any]:
        mi = self.mi
        out: dict[str, Any] = {}
        for j, thing in enumerate(order.things):
            if thing.role not in roles:
                continue
            for k, (part, material) in enumerate(zip(self.models[j].parts, self.materials[j], strict=True)):
                if material is None:
                    continue
                tinted = part.tints is not None and material.picture is None and material.colour is part.material.colour
                props = mi.Properties()
                props["bsdf"] = mi.load_dict(surface_of(mi, material, tinted))
                if (glow := glow_of(mi, material)) is not None:
                    props["emitter"] = mi.load_dict(glow)
                name = f"{thing.role}{j}_{k}"
                tints = (TINTS, part.tints * material.colour) if tinted and part.tints is not None else None
                out[name] = mesh_of(mi, name, part.vertices, part.faces, part.uv, props, part.normals, tints)
        return out

    def _place(self, j: int, thing: Instance, k: int) -> None:
        """Stand a thing where and how it is at a view; `params` are told once for all things."""
        matrix, model = thing.stands[k], self.models[j]
        pose = thing.poses[k] if thing.poses and model.posed is not None else None
        before = self.placed[j]
        if before is not None and before[1] == pose and np.array_equal(before[0], matrix):
            return
        upright = np.linalg.inv(matrix[:3, :3]).T
        posed = [(p.vertices, p.normals) for p in model.parts] if pose is None or model.posed is None else model.posed(*pose)
        bare = self.bare_params if self.bare is not None and thing.role == "real" else None
        over = self.over_params if self.over is not None and thing.role != "real" else None
        for i, (vertices, normals) in enumerate(posed):
            if self.materials[j][i] is None:
                continue
            moved = (vertices @ matrix[:3, :3].T + matrix[:3, 3]).astype(np.float32).ravel()
            turned = normals @ upright.T
            turned /= np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-12)
            for params in (self.params, bare, over):
                if params is not None:
                    params[f"{thing.role}{j}_{i}.vertex_positions"] = moved
                    params[f"{thing.role}{j}_{i}.vertex_normals"] = turned.astype(np.float32).ravel()
        self.placed[j] = (matrix.copy(), pose)

    def exposed(self, order: RenderRequest, k: int, samples: int) -> F32:
        """(h, w, n) of one instant: light of what is shown, then `CHANNELS`, and `MIRRORED` if the ground mirrors."""
        mi, view = self.mi, order.views[k]
        for j, thing in enumerate(order.things):
            self._place(j, thing, k)
        self.params.update()
        if self.bare is not None:
            self.bare_params.update()
        if self.over is not None:
            self.over_params.update()
        sensor, integrator = self.sensor(order, view, samples), mi.load_dict({"type": "plonket_set"})
        integrator.bare, integrator.over, integrator.through = self.bare, self.over, self.through
        integrator.reflect(order)
        if order.receiver is not None:
            integrator.receive(order, view, self.sheet(order.receiver, view))
        raw = np.array(mi.render(self.scene, sensor=sensor, integrator=integrator, spp=samples, seed=17 + k))
        return np.asarray(raw[..., : 3 + len(CHANNELS) + (len(MIRRORED) if order.mirror is not None else 0)], np.float32)

    def sheet(self, receiver: Receiver, view: CameraView) -> Any:
        """A scene of nothing but what was filmed, as far as it is seen: it keeps light from itself, shadow or not."""
        step = max(1, -(-receiver.points.shape[1] // SHEET_PX))
        points, known = receiver.points[::step, ::step], np.abs(receiver.normals[::step, ::step]).max(axis=2) > 0
        far = np.linalg.norm(points - view.eye, axis=2)
        index = np.arange(far.size).reshape(far.shape)
        corners = [np.s_[:-1, :-1], np.s_[1:, :-1], np.s_[1:, 1:], np.s_[:-1, 1:]]
        ends = np.stack([far[c] for c in corners])
        whole = np.all([known[c] for c in corners], axis=0) & (ends.max(axis=0) < ends.min(axis=0) * (1 + TORN))
        a, b, c, d = (index[at][whole] for at in corners)
        faces = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
        if not len(faces):
            return None
        props = self.mi.Properties()
        mesh = mesh_of(self.mi, "sheet", points.reshape(-1, 3), faces, np.zeros((far.size, 2)), props, None)
        return self.mi.load_dict({"type": "scene", "sheet": mesh})

    def sensor(self, order: RenderRequest, view: CameraView, samples: int) -> Any:
        """The camera of an order at one instant, which exposes only the window."""
        mi = self.mi
        x, y, width, height = order.window
        forward, up = -view.turn[:, 2], view.turn[:, 1]
        # The film is the window, the lens's axis off its middle: a window cut from a larger film would be compiled in.
        px, py = order.principal[0] - x, order.principal[1] - y
        return mi.load_dict({
            "type": "perspective", "fov_axis": "x",
            "fov": float(np.degrees(2 * np.arctan(width / 2 / order.focal))),
            "principal_point_offset_x": 0.5 - px / width, "principal_point_offset_y": 0.5 - py / height,
            "near_clip": 1e-3 * self.reach, "far_clip": 1e4 * self.span,
            "to_world": mi.ScalarTransform4f().look_at(
                origin=view.eye.tolist(), target=(view.eye + forward).tolist(), up=up.tolist()),
            "film": {"type": "hdrfilm", "width": width, "height": height, "pixel_format": "rgb", "rfilter": {"type": "box"}},
            "sampler": {"type": "multijitter", "sample_count": samples},
        })  # fmt: skip


def _bulb(mi: Any, lamp: Lamp) -> dict[str, Any]:
    """A lamp without extent."""
    power = {"type": "rgb", "value": list(lamp.light)}
    if lamp.shape == "point":
        return {"type": "point", "position": lamp.place[:3, 3].tolist(), "intensity": power}
    axes = lamp.place[:3, :3] / np.linalg.norm(lamp.place[:3, :3], axis=0)
    to_world = np.block([[axes, lamp.place[:3, 3:]], [np.zeros((1, 3)), np.ones((1, 1))]])
    # It has to have an edge, be it thin.
    beam = float(np.degrees(min(lamp.edge, lamp.cone * 0.995)))
    return {"type": "spot", "to_world": mi.ScalarTransform4f(to_world.tolist()), "intensity": power,
            "cutoff_angle": float(np.degrees(lamp.cone)), "beam_width": beam}  # fmt: skip


def _materials(thing: Instance, model: Mesh, ground: tuple[float, float, float]) -> list[Material | None]:
    """Of what each part is made, with its coats on; None: it is not there."""
    out: list[Material | None] = []
    for k, part in enumerate(model.parts):
        material: Material | None = part.material
        if thing.role == "real":
            material = coated(part.material, Coat(colour=ground))
        for name, coat in thing.coats:
            if material is not None and name in ("", name_of(model, k)):
                material = coated(material, coat) if coat.shown else None
        out.append(material)
    return out
