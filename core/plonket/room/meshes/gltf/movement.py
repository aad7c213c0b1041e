"""Animations of glTF 2.0: where their nodes are at a moment."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from plonket.base.conventions import F64
from plonket.room.meshes.gltf.container import Container

Property = Literal["translation", "rotation", "scale", "weights"]
COLUMNS = {"translation": 3, "rotation": 4, "scale": 3}
SHORTEST_S = 1e-4
"""An animation shorter than that is a pose: nothing moves in it."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Channel:
    """One property of a node over time.

    Attributes
    ----------
    when : (n,) seconds, rising. values : (n, c); cubic ones (n, 3, c) with the slopes that lead in and out, a second.
    """

    path: Property
    kind: str
    when: F64
    values: F64

    def at(self, seconds: float) -> F64:
        """Its value (c,); before its first key and after its last as there."""
        when, values = self.when, self.values
        k = int(np.clip(np.searchsorted(when, seconds, side="right") - 1, 0, len(when) - 1))
        own = values[k, 1] if self.kind == "CUBICSPLINE" else values[k]
        if k == len(when) - 1 or seconds <= when[0] or self.kind == "STEP":
            return np.asarray(own)
        span = when[k + 1] - when[k]
        t = (seconds - when[k]) / span
        if self.kind == "CUBICSPLINE":
            (_, a, out), (into, b, _) = values[k], values[k + 1]
            mixed = ((2 * t**3 - 3 * t**2 + 1) * a + span * (t**3 - 2 * t**2 + t) * out
                     + (3 * t**2 - 2 * t**3) * b + span * (t**3 - t**2) * into)  # fmt: skip
            return np.asarray(mixed / np.linalg.norm(mixed) if self.path == "rotation" else mixed)
        if self.path == "rotation":
            return _between(own, values[k + 1], t)
        return np.asarray(own + t * (values[k + 1] - own))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Movement:
    """An animation: its channels by node."""

    name: str
    seconds: float
    channels: dict[int, list[Channel]]

    def at(self, node: int, seconds: float) -> dict[Property, F64]:
        """What it says of a node at a moment."""
        return {channel.path: channel.at(seconds) for channel in self.channels.get(node, ())}


def read_movements(file: Container, nodes: int) -> list[Movement]:
    """All animations of a file that move anything."""
    out = []
    for number, about in enumerate(file.all("animations")):
        channels: dict[int, list[Channel]] = {}
        longest = 0.0
        samplers = file.listed(about, "samplers")
        for one in file.listed(about, "channels"):
            target = one.get("target", {})
            node, path, which = target.get("node"), target.get("path"), one.get("sampler")
            if node is None or path not in (*COLUMNS, "weights"):
                continue
            there = isinstance(node, int) and 0 <= node < nodes
            if not there or not isinstance(which, int) or not 0 <= which < len(samplers):
                raise file.broken("an animation moves what is not there")
            channel = _channel(file, samplers[which], path)
            if channel is not None:
                channels.setdefault(node, []).append(channel)
                longest = max(longest, float(channel.when[-1]))
        if channels and longest > SHORTEST_S:
            name = str(about.get("name", "") or f"Movement {number + 1}")[:80]
            out.append(Movement(name=name, seconds=longest, channels=channels))
    return out


def _channel(file: Container, sampler: Any, path: Property) -> Channel | None:
    kind = sampler.get("interpolation", "LINEAR")
    if kind not in ("LINEAR", "STEP", "CUBICSPLINE"):
        raise file.broken("an animation goes from key to key in no known way")
    when = np.asarray(file.accessor(sampler.get("input"))[:, 0], np.float64)
    values = np.asarray(file.accessor(sampler.get("output")), np.float64)
    if not len(when):
        return None
    keys = len(when) * (3 if kind == "CUBICSPLINE" else 1)
    if (np.diff(when) <= 0).any() or values.size % keys or (path in COLUMNS and values.size != keys * COLUMNS[path]):
        raise file.broken("an animation's keys do not fit together")
    shape = (len(when), 3, -1) if kind == "CUBICSPLINE" else (len(when), -1)
    return Channel(path=path, kind=kind, when=when, values=values.reshape(shape))


def _between(a: F64, b: F64, t: float) -> F64:
    """From one turn to another, the short way, evenly."""
    dot = float(a @ b)
    b, dot = (-b, -dot) if dot < 0 else (b, dot)
    if dot > 0.9995:
        mixed = a + t * (b - a)
        return np.asarray(mixed / np.linalg.norm(mixed))
    angle = np.arccos(min(dot, 1.0))
    return np.asarray((np.sin((1 - t) * angle) * a + np.sin(t * angle) * b) / np.sin(angle))
