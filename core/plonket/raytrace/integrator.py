"""What the path tracer works out of every pixel of a set.

One integrator tells the model and the ground apart where a ray first meets them. The ground's shadow is one less the light that
reaches it with the model over the same light without it, from the same samples, so that ground in the open stays free of noise.
"""

from __future__ import annotations

from typing import Any

from plonket.raytrace.request import CameraView, RenderRequest

LIGHT_RAYS, FOUND_RAYS = 2, 1
"""How many rays each sample sends to the lights from the ground, and from what was filmed."""
CLEAR_OF = 0.012
"""Share of its distance by which a place is lifted before that sheet may hide light from it: depth is not even."""
CHANNELS = ("thing", "open", "shaded", "ground", "far", "ar", "ag", "ab", "nx", "ny", "nz",
            "found", "found_open", "found_shaded")  # fmt: skip
MIRRORED = ("mr", "mg", "mb", "mirror", "mar", "mag", "mab")
"""Channels besides, of ground that mirrors: the light that it throws back of what is shown, its share of the ground, and the
colours that are mirrored."""
LAYERS = 8
"""So many surfaces that let light through may lie behind each other."""

_announced = False


def announce(mi: Any) -> None:
    """Make the integrator known to Mitsuba, once."""
    global _announced
    if _announced:
        return
    import drjit as dr

    class SetIntegrator(mi.SamplingIntegrator):  # type: ignore[misc]
        def __init__(self, props: Any) -> None:
            super().__init__(props)
            self.path = mi.load_dict({"type": "path", "max_depth": 6, "rr_depth": 4})
            self.bare: Any = None
            self.over: Any = None
            self.through = False
            self.mirror: Any = None

        def receive(self, order: RenderRequest, view: CameraView, sheet: Any) -> None:
            """Let what was filmed take shadows, as it is seen from a view; its sheet keeps light from itself."""
            self.sheet = sheet
            assert order.receiver is not None
            self.places, self.normals = (mi.Float(a.ravel()) for a in (order.receiver.points, order.receiver.normals))
            self.axes = [mi.Vector3f(*(float(v) for v in view.turn[:, k])) for k in range(3)]
            x0, y0, w, h = order.window
            given = (order.focal, order.principal[0] - x0, order.principal[1] - y0, w, h)
            self.focal, self.px, self.py, self.wide, self.tall = (mi.Float(float(v)) for v in given)
            # Given as data, not written into the program: that would be compiled anew for every frame.
            dr.make_opaque(self.axes, self.focal, self.px, self.py, self.wide, self.tall)

        def passed(self, scene: Any, sampler: Any, ray: Any, si: Any, models: list[Any], active: Any) -> Any:
            """Go on through what lets light through, by chance as much as it does; where that ends, how much of what lies
            behind all of it counts, how much of that surface is covered, and what its own light is multiplied with."""
            def step(sampler: Any, o: Any, si: Any, left: Any, cover: Any, gain: Any, going: Any, layer: Any) -> Any:
                on = _among(si, models) & going
                through = dr.clip(mi.luminance(si.bsdf(ray).eval_null_transmission(si, on)), 0, 1)
                # Glass is met more often than it covers: it covers little, and mirrors what is bright.
                stops = dr.select(through > 0.999, 0, dr.select(through < 0.001, 1, dr.clip(1 - through, 0.4, 0.9)))
                ends = on & (sampler.next_1d(on) < stops)
                cover = dr.select(ends, left * (1 - through) / dr.maximum(stops, 1e-6), cover)
                gain = dr.select(ends, left / dr.maximum(stops, 1e-6), gain)
                going = on & ~ends
                left = dr.select(going, left * through / dr.maximum(1 - stops, 1e-6), left)
                on_from = si.spawn_ray(ray.d)
                o = dr.select(going, on_from.o, o)
                si = dr.select(going, scene.ray_intersect(on_from, going), si)
                return sampler, o, si, left, cover, gain, going & (layer < LAYERS), layer + 1

            state = (sampler, mi.Point3f(ray.o), si, mi.Float(1), mi.Float(1), mi.Float(1), mi.Bool(active), mi.UInt32(1))
            _, ray.o, si, left, cover, gain, _, _ = dr.while_loop(state, lambda *state: state[6], step)
            return si, left, cover, gain

        def surface_light(self, scene: Any, sampler: Any, ray: Any, si: Any, active: Any) -> Any:
            """What a surface itself sends towards the eye, without what comes through it: light from lights and from bounces,
            each sampled both ways and weighed against each other."""
            bsdf, every = si.bsdf(ray), mi.BSDFContext()
            mirrored = mi.BSDFContext()
            mirrored.type_mask = int(mi.BSDFFlags.All) & ~int(mi.BSDFFlags.Null)
            out = si.emitter(scene, active).eval(si, active)
            ds, weight = scene.sample_emitter_direction(si, sampler.next_2d(active), True, active)
            value, pdf = bsdf.eval_pdf(every, si, si.to_local(ds.d), active)
            out += value * weight * dr.select(ds.delta, 1, ds.pdf / dr.maximum(ds.pdf + pdf, 1e-20))
            one, two = sampler.next_1d(active), sampler.next_2d(active)
            bs, share = bsdf.sample(mirrored, si, one, two, active)
            plain, plain_share = bsdf.sample(every, si, one, two, active)
            cut = mi.has_flag(bs.sampled_type, mi.BSDFFlags.Null)
            bs, share = dr.select(cut, plain, bs), dr.select(cut, plain_share, share)
            bounced = active & ~mi.has_flag(bs.sampled_type, mi.BSDFFlags.Null) & (bs.pdf > 0)
            way = si.spawn_ray(si.to_world(bs.wo))
            beyond = scene.ray_intersect(way, bounced)
            seen = beyond.emitter(scene, bounced)
            direct = seen.eval(beyond, bounced)
            of_lights = scene.pdf_emitter_direction(si, mi.DirectionSample3f(scene, beyond, si), bounced)
            smooth = mi.has_flag(bs.sampled_type, mi.BSDFFlags.Delta)
            mis = dr.select(smooth, 1, bs.pdf / dr.maximum(bs.pdf + of_lights, 1e-20))
            light, _, _ = self.path.sample(scene, sampler, way, None, bounced)
            return out + dr.select(bounced, share * (light + direct * (mis - 1)), 0)

        def open_share(self, scene: Any, si: Any, place: Any, active: Any) -> Any:
            """How much light gets from a place to another: all or nothing, but for what lets light through."""
            if not self.through:
                return dr.select(scene.ray_test(si.spawn_ray_to(place), active), mi.Float(0), mi.Float(1))

            def step(left: Any, at: Any, going: Any, layer: Any) -> Any:
                met = scene.ray_intersect(at.spawn_ray_to(place), going)
                going &= met.is_valid()
                left = dr.select(going, left * mi.luminance(met.bsdf().eval_null_transmission(met, going)), left)
                going &= left > 0.01
                return left, dr.select(going, met, at), going & (layer < LAYERS), layer + 1

            state = (mi.Float(1), si, mi.Bool(active), mi.UInt32(1))
            left, _, _, _ = dr.while_loop(state, lambda *state: state[2], step)
            return dr.select(left > 0.01, left, 0)

        def fallen(self, scene: Any, sampler: Any, ray: Any, eye: Any, active: Any) -> tuple[Any, Any, Any]:
            """Whether anything is known where a ray looks, its light in the open, and with what throws shadows."""
            ahead = -dr.dot(self.axes[2], ray.d)
            x = dr.floor(dr.dot(self.axes[0], ray.d) / ahead * self.focal + self.px)
            y = dr.floor(self.py - dr.dot(self.axes[1], ray.d) / ahead * self.focal)
            row, column = (mi.UInt32(dr.clip(v, 0, most - 1)) for v, most in ((y, self.tall), (x, self.wide)))
            at = row * mi.UInt32(self.wide) + column
            place, n = (mi.Vector3f(*(dr.gather(mi.Float, of, 3 * at + k, active) for k in range(3)))
                        for of in (self.places, self.normals))  # fmt: skip
            known = active & (dr.squared_norm(n) > 0.5)
            si = dr.zeros(mi.SurfaceInteraction3f)
            si.p, si.n, si.t, si.time = mi.Point3f(place), mi.Normal3f(n), mi.Float(1), ray.time
            si.wavelengths = ray.wavelengths
            off = mi.SurfaceInteraction3f(si)
            off.p = si.p + n * (CLEAR_OF * dr.norm(si.p - eye))
            lit, shaded = mi.Float(0), mi.Float(0)
            for _ in range(FOUND_RAYS):
                ds, weight = scene.sample_emitter_direction(si, sampler.next_2d(known), False, known)
                falls = dr.select(known, mi.luminance(weight) * dr.maximum(dr.dot(n, ds.d), 0), 0)
                if self.sheet is not None:
                    falls = dr.select(self.sheet.ray_test(off.spawn_ray_to(ds.p), known), 0, falls)
                lit += falls
                shaded += falls * self.open_share(self.over, si, ds.p, known)
            return dr.select(known, mi.Float(1), mi.Float(0)), lit, shaded

        def reflect(self, order: RenderRequest) -> None:
            """Let the ground mirror what is shown."""
            if order.mirror is not None:
                self.mirror = [mi.Float(v) for v in (order.mirror.squarely, order.mirror.flat, order.mirror.rough)]
                dr.make_opaque(self.mirror)

        def mirrored(self, scene: Any, sampler: Any, ray: Any, si: Any, shown: list[Any], active: Any) -> list[Any]:
            """What the ground throws back of what is shown; see `MIRRORED`."""
            squarely, flat, rough = self.mirror
            n = dr.select(dr.dot(si.n, ray.d) > 0, -si.n, si.n)
            square = dr.clip(-dr.dot(n, ray.d), 0, 1)
            share = squarely + (flat - squarely) * (1 - square) ** 5  # C. Schlick (1994), doi:10.1111/1467-8659.1330233
            way = ray.d + 2 * square * n
            # Scattered about where a mirror would look, within its disc, never into the ground.
            disc = mi.warp.square_to_uniform_disk_concentric(sampler.next_2d(active)) * rough
            side = mi.Frame3f(way)
            way = dr.normalize(way + side.s * disc.x + side.t * disc.y)
            way -= n * dr.minimum(2 * dr.dot(n, way), 0)
            from_ground = si.spawn_ray(way)
            met = scene.ray_intersect(from_ground, active)
            met_it = active & met.is_valid() & _among(met, shown)
            light, _, _ = self.path.sample(scene, sampler, from_ground, None, met_it)
            albedo = met.bsdf(from_ground).eval_diffuse_reflectance(met, met_it)
            cover = dr.select(met_it, share, 0)
            light, albedo = (dr.select(met_it, v * share, 0) for v in (light, albedo))
            return [light.x, light.y, light.z, cover, albedo.x, albedo.y, albedo.z]

        def aov_names(self) -> list[str]:
            return [*CHANNELS, *(MIRRORED if self.mirror is not None else ())]

        def sample(self, scene: Any, sampler: Any, ray: Any, medium: Any = None, active: Any = True) -> Any:
            shapes = scene.shapes()
            lamps = [s for s in shapes if s.id().startswith("lamp")]
            eye = mi.Point3f(ray.o)
            si = scene.ray_intersect(ray, active)
            # Lamps are not seen: what lies behind is.
            for _ in lamps:
                on_lamp = _among(si, lamps) & active
                ray.o = dr.select(on_lamp, si.p + ray.d * dr.maximum(si.t, 1e-3) * 1e-4, ray.o)
                si = dr.select(on_lamp, scene.ray_intersect(ray, on_lamp), si)
            catching = [s for s in shapes if s.id() == "ground" or s.id().startswith("real")]
            models = [s for s in shapes if s.id().startswith(("shown", "other"))]
            unseen = [s for s in shapes if s.id() == "sun" or s.id().startswith("other")]
            # How much of what lies behind is seen, and what this ray stands for of the surface at which it ends.
            left, cover, gain = mi.Float(1), mi.Float(1), mi.Float(1)
            if self.through:
                si, left, cover, gain = self.passed(scene, sampler, ray, si, models, active)
            valid = si.is_valid() & active
            on_ground = valid & _among(si, catching)
            thing = valid & ~on_ground & ~_among(si, unseen)
            if self.through:
                light = self.surface_light(scene, sampler, ray, si, thing) * gain
            else:
                light, _, _ = self.path.sample(scene, sampler, ray, medium, thing)
            light = dr.select(thing, light, 0)
            lit, shaded = mi.Float(0), mi.Float(0)
            if self.bare is not None:
                n = dr.select(dr.dot(si.n, ray.d) > 0, -si.n, si.n)
                for _ in range(LIGHT_RAYS):
                    ds, weight = scene.sample_emitter_direction(si, sampler.next_2d(on_ground), False, on_ground)
                    falls = left * mi.luminance(weight) * dr.maximum(dr.dot(n, ds.d), 0)
                    falls = dr.select(on_ground & ~self.bare.ray_test(si.spawn_ray_to(ds.p), on_ground), falls, 0)
                    lit += falls
                    shaded += falls * self.open_share(scene, si, ds.p, on_ground)
            bsdf = si.bsdf(ray)
            albedo = dr.select(thing, bsdf.eval_diffuse_reflectance(si, thing), mi.Color3f(0)) * cover
            n = si.sh_frame.n * cover
            things, grounded = dr.select(thing, cover, 0), dr.select(on_ground, left, 0)
            far = dr.select(thing, cover * dr.norm(si.p - eye), 0)
            extra = [things, lit, shaded, grounded, far, albedo.x, albedo.y, albedo.z]
            extra += [dr.select(thing, v, 0) for v in (n.x, n.y, n.z)]
            extra += self.fallen(scene, sampler, ray, eye, active) if self.over is not None else [mi.Float(0)] * 3
            if self.mirror is not None:
                shown = [s for s in models if s.id().startswith("shown")]
                floor = [s for s in shapes if s.id() == "ground"]
                extra += [left * v for v in self.mirrored(scene, sampler, ray, si, shown, valid & _among(si, floor))]
            return light, mi.Bool(True), extra

    def _among(si: Any, shapes: list[Any]) -> Any:
        found = mi.Bool(False)
        for shape in shapes:
            found |= si.shape == mi.ShapePtr(shape)
        return found & si.is_valid()

    mi.register_integrator("plonket_set", SetIntegrator)
    _announced = True
