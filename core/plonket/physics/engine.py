"""Falls worked out by MuJoCo, which knows how rigid bodies hit and slide.

Everything is scaled so that a middling body is about one unit large: contacts are as firm for a toy as for a house.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from plonket.base.conventions import F64, matrix_to_quaternion, quaternion_to_matrix
from plonket.base.errors import BadInput
from plonket.physics.fall import MOST_BODIES, MOST_SECONDS, Driven, Fall, Fallen, Loose

GRAVITY = 9.81
STEPS_A_SECOND = 480
FIRM_S = 2.2
"""Contacts give way for so many steps: two are the least that stays calm."""
CALM, CALM_S = 0.012, 0.4
"""Body sizes and radians that what rests has moved at the most, within so many seconds."""
LEAST_GRIP = 0.02
LEAST = 1e-4
"""Metres: nothing is thinner."""
SEVEN = np.arange(7)


def simulate(fall: Fall) -> Fallen:
    """How it goes, the same every time.

    Raises
    ------
    BadInput
        More bodies than are worked out together, or none.
    """
    count = len(fall.loose)
    if not 0 < count <= MOST_BODIES:
        raise BadInput("fall.bodies", f"At most {MOST_BODIES} things can fall in one room. There are {count}.")
    return _World(fall).run()


class _World:
    def __init__(self, fall: Fall) -> None:
        import mujoco

        self.mj, self.fall = mujoco, fall
        sizes = [float(np.ptp(body.hull, axis=0).max()) for body in fall.loose]
        self.unit = max(float(np.median(sizes)), LEAST)
        # Both so that steps divide frames and that small things, which fall faster for their size, get more of them.
        steps = np.ceil(STEPS_A_SECOND * max(1.0, (0.2 / self.unit) ** 0.5) / fall.fps)
        self.steps = int(np.clip(steps, 4, 200))
        self.dt = 1 / fall.fps / self.steps
        self.centres = [body.hull.mean(axis=0) for body in fall.loose]
        self.model = self._built()
        self.data = mujoco.MjData(self.model)

        def number(name: str) -> int:
            return int(mujoco.mj_name2id(self.model, mujoco.mjtObj.mjOBJ_BODY, name))

        bodies = [number(f"loose{k}") for k in range(len(fall.loose))]
        driven = [number(f"driven{k}") for k in range(len(fall.driven))]
        joints = [int(self.model.body_jntadr[b]) for b in bodies]
        self.at, self.dof = (np.array([int(adr[j]) for j in joints]) for adr in (self.model.jnt_qposadr, self.model.jnt_dofadr))
        self.mocap = [int(self.model.body_mocapid[b]) for b in driven]
        self.number_of = {b: k for k, b in enumerate(bodies)}
        self.driving = {b for b, one in zip(driven, fall.driven, strict=True) if _moves_until(one)}
        self.held_at = np.array([self._stored(b.start, c) for b, c in zip(fall.loose, self.centres, strict=True)])
        self.data.qpos[self.at[:, None] + SEVEN] = self.held_at
        self.free, self.rests = np.zeros(len(bodies), np.bool_), np.zeros(len(bodies), np.bool_)
        self.since_free, self.pace = np.zeros(len(bodies), np.int64), np.zeros(len(bodies))

    def _built(self) -> Any:
        mj, fall = self.mj, self.fall
        spec = mj.MjSpec()
        spec.option.timestep = self.dt
        spec.option.gravity = [0, -GRAVITY / self.unit, 0]
        spec.option.cone = mj.mjtCone.mjCONE_ELLIPTIC
        spec.option.integrator = mj.mjtIntegrator.mjINT_IMPLICITFAST
        # What lies aslant does not creep.
        spec.option.impratio = 5
        world = spec.worldbody
        if fall.ground is not None:
            world.add_geom(type=mj.mjtGeom.mjGEOM_PLANE, size=[0, 0, 1], pos=[0, fall.ground / self.unit, 0],
                           quat=[np.sqrt(0.5), -np.sqrt(0.5), 0, 0], **self._touch())  # fmt: skip
        for k, one in enumerate(fall.driven):
            body = world.add_body(name=f"driven{k}", mocap=True)
            self._shaped(spec, body, f"d{k}", one.hull, np.zeros(3), **self._touch())
        for k, loose in enumerate(fall.loose):
            body = world.add_body(name=f"loose{k}")
            body.add_freejoint()
            self._shaped(spec, body, f"l{k}", loose.hull, self.centres[k],
                         density=loose.density, **self._touch(loose.friction, loose.bounce))
        return spec.compile()

    def _shaped(self, spec: Any, body: Any, name: str, hull: F64, centre: F64, **about: Any) -> None:
        points = (hull - centre) / self.unit
        thin = np.ptp(points, axis=0) < 1e-3
        if thin.any():
            # A sheet without thickness is none to what hits it.
            low, high = points - 5e-4 * thin, points + 5e-4 * thin
            points = np.concatenate([low, high])
        mesh = spec.add_mesh(name=name)
        mesh.uservert = points.astype(np.float64).ravel().tolist()
        mesh.inertia = self.mj.mjtMeshInertia.mjMESH_INERTIA_CONVEX
        mesh.maxhullvert = 48
        body.add_geom(type=self.mj.mjtGeom.mjGEOM_MESH, meshname=name, **about)

    def _touch(self, friction: float = LEAST_GRIP, bounce: float | None = None) -> dict[str, Any]:
        """How a body touches others. Of two, the greater friction counts; how they bounce is what loose ones say."""
        # What gives way and swings back within the same few steps keeps some of its speed.
        damping = 1.0 if bounce is None else float(np.clip(1 - 0.95 * bounce, 0.05, 1.0))
        return {"friction": [friction, 0.01, 0.002], "condim": 6, "margin": 1e-3,
                "solmix": 1e-4 if bounce is None else 1.0,
                "solref": [FIRM_S * self.dt, damping], "solimp": [0.95, 0.995, 1e-3, 0.5, 2]}

    def run(self) -> Fallen:
        fall = self.fall
        out = [self._poses(self.held_at)]
        last = max(int(np.ceil(max(b.lets_go for b in fall.loose))) - fall.first,
                   max((_moves_until(d) for d in fall.driven), default=0))  # fmt: skip
        for frame in range(int(MOST_SECONDS * fall.fps) + max(last, 0)):
            for step in range(self.steps):
                self._step(fall.first + frame + step / self.steps)
            out.append(self._poses(self._stands()))
            self._rest(out)
            waits = any(not free and not body.when_hit for free, body in zip(self.free, fall.loose, strict=True))
            if self.rests[self.free].all() and not waits and frame >= last:
                break
        return Fallen(first=fall.first, poses=np.array(out))

    def _step(self, now: float) -> None:
        data = self.data
        for k, body in enumerate(self.fall.loose):
            if not self.free[k] and not body.when_hit and now >= body.lets_go:
                self._let_go(k)
        held = np.flatnonzero(~self.free | self.rests)
        data.qpos[self.at[held, None] + SEVEN] = self.held_at[held]
        data.qvel[self.dof[held, None] + SEVEN[:6]] = 0
        for k, one in zip(self.mocap, self.fall.driven, strict=True):
            pose = self._stored(_between(one.path, now - self.fall.first), np.zeros(3))
            data.mocap_pos[k], data.mocap_quat[k] = pose[:3], pose[3:]
        self.mj.mj_step(self.model, data)
        if len(held):
            self._touched(now)

    def _stands(self) -> F64:
        """(bodies, 7) where they are, those that are held exactly where they are held."""
        now = np.array(self.data.qpos[self.at[:, None] + SEVEN])
        held = ~self.free | self.rests
        now[held] = self.held_at[held]
        return now

    def _rest(self, poses: list[F64]) -> None:
        """What has hardly moved for a while is held where it is: bodies that lie on each other never quite stop."""
        back = max(round(CALM_S * self.fall.fps), 2)
        self.pace = self._moved(poses[-1], poses[-2])
        if len(poses) <= back:
            return
        calm = np.max([self._moved(poses[-1], poses[-1 - k]) for k in (1, back // 2, back)], axis=0) < CALM
        fresh = self.free & ~self.rests & calm & (self.since_free >= back)
        self.held_at[fresh] = self._stands()[fresh]
        self.rests |= fresh
        self.since_free += self.free

    def _moved(self, now: F64, before: F64) -> F64:
        """(bodies,) how far they went and turned, in body sizes and radians."""
        place = [n[:3, :3] @ c + n[:3, 3] - b[:3, :3] @ c - b[:3, 3]
                 for n, b, c in zip(now, before, self.centres, strict=True)]  # fmt: skip
        turned = np.abs(now[:, :3, :3] - before[:, :3, :3]).max(axis=(1, 2))
        return np.maximum(np.linalg.norm(place, axis=1) / self.unit, turned)

    def _let_go(self, k: int) -> None:
        self.free[k], self.since_free[k] = True, 0
        self._throw(self.dof[k], self.fall.loose[k])

    def _throw(self, dof: int, body: Loose) -> None:
        # Half a step's pull back: steps that take the speed at their end fall that much too far.
        rise = np.array([0, GRAVITY * self.dt / 2, 0])
        self.data.qvel[dof : dof + 3] = (np.array(body.velocity) + rise) / self.unit
        # Turning is told in the body's own axes.
        self.data.qvel[dof + 3 : dof + 6] = body.start[:3, :3].T @ np.array(body.spin)

    def _touched(self, now: float) -> None:
        """What waits for being hit, or rests, is let go by what hits it."""
        for k in range(self.data.ncon):
            contact = self.data.contact[k]
            if contact.dist > 0:
                continue
            pair = [int(self.model.geom_bodyid[g]) for g in contact.geom]
            for one, other in (pair, pair[::-1]):
                mine, its = self.number_of.get(one), self.number_of.get(other)
                if mine is None or other == 0:
                    continue
                body = self.fall.loose[mine]
                goes = its is None and other in self.driving or its is not None and self.free[its] and not self.rests[its]
                if not self.free[mine]:
                    own_group = its is not None and self.fall.loose[its].group == body.group
                    if body.when_hit and now >= body.lets_go and goes and not own_group:
                        self._let_go(mine)
                elif self.rests[mine] and goes and (its is None or self.pace[its] > 2 * CALM or self.since_free[its] < 2):
                    self.rests[mine], self.since_free[mine] = False, 0

    def _stored(self, pose: F64, centre: F64) -> F64:
        """(7,) place and quaternion w first, in the world's unit, of a body whose own origin is its centre."""
        place = (pose[:3, :3] @ centre + pose[:3, 3]) / self.unit
        x, y, z, w = matrix_to_quaternion(pose[:3, :3])
        return np.array([*place, w, x, y, z])

    def _poses(self, stored: F64) -> F64:
        """(bodies, 4, 4) from places and quaternions (bodies, 7)."""
        out = np.tile(np.eye(4), (len(stored), 1, 1))
        for k, (x, y, z, w, *turned) in enumerate(stored):
            turn = quaternion_to_matrix(np.array([*turned, w]))
            out[k, :3, :3] = turn
            out[k, :3, 3] = np.array([x, y, z]) * self.unit - turn @ self.centres[k]
        return out


def _between(path: F64, x: float) -> F64:
    x = float(np.clip(x, 0, len(path) - 1))
    k = min(int(x), len(path) - 1)
    if x == k or np.array_equal(path[k], path[k + 1]):
        return path[k]
    mixed = (1 - (x - k)) * path[k] + (x - k) * path[k + 1]
    u, _, vt = np.linalg.svd(mixed[:3, :3])
    mixed[:3, :3] = u @ vt
    return np.asarray(mixed)


def _moves_until(body: Driven) -> int:
    """The last frame, from the first on, at which it is not yet where it stays."""
    moves = np.flatnonzero(np.abs(np.diff(body.path, axis=0)).max(axis=(1, 2), initial=0) > 0)
    return int(moves[-1]) + 1 if len(moves) else 0
