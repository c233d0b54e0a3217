"""Clips: nodes and morph weights at a moment (glTF 2.0, 3.11 and appendix C). Before its first key a channel holds the first, after its
last the last."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Primitive, Scene

What = Literal["translation", "rotation", "scale", "weights"]
Interpolation = Literal["LINEAR", "STEP", "CUBICSPLINE"]
Rest = tuple[tuple[float, ...], tuple[float, ...], tuple[float, ...]]
TARGETED = ("POSITION", "NORMAL")  # what morph targets move here


@dataclass(frozen=True)
class Channel:
    """One thing that moves: of a node, by number; times (k,) s, rising; values (k, w), of a cubic spline (3 k, w): in-tangent, value and
    out-tangent of each key. rest: the node's translation, rotation (x, y, z, w) and scale in the file."""

    node: int
    what: What
    times: np.ndarray
    values: np.ndarray
    interpolation: Interpolation
    rest: Rest

    def at(self, t_s: float) -> np.ndarray:
        """(w,) at a moment."""
        times, cubic = self.times, self.interpolation == "CUBICSPLINE"
        keys = self.values[1::3] if cubic else self.values
        k = int(np.searchsorted(times, t_s, side="right")) - 1
        if k < 0 or k >= len(times) - 1 or self.interpolation == "STEP":
            return np.asarray(keys[min(max(k, 0), len(times) - 1)])
        step = float(times[k + 1] - times[k])
        s = (t_s - float(times[k])) / step
        if cubic:
            out, into = step * self.values[3 * k + 2], step * self.values[3 * k + 3]
            value = (
                (2 * s**3 - 3 * s**2 + 1) * keys[k] + (s**3 - 2 * s**2 + s) * out
                + (3 * s**2 - 2 * s**3) * keys[k + 1] + (s**3 - s**2) * into
            )  # fmt: skip
            return np.asarray(value / np.linalg.norm(value)) if self.what == "rotation" else np.asarray(value)
        if self.what == "rotation":
            return between(keys[k], keys[k + 1], s)
        return np.asarray(keys[k] + (keys[k + 1] - keys[k]) * s)


@dataclass(frozen=True)
class Clip:
    """All that moves together under one name; ends_s: its last key."""

    name: str
    channels: tuple[Channel, ...]

    @property
    def ends_s(self) -> float:
        """When nothing moves any more."""
        return max((float(c.times[-1]) for c in self.channels), default=0.0)


def between(a: np.ndarray, b: np.ndarray, s: float) -> np.ndarray:
    """(4,) unit rotation a share of the way from one to another, the short way round (Shoemake 1985)."""
    a, b = a / np.linalg.norm(a), b / np.linalg.norm(b)
    cosine = float(a @ b)
    if cosine < 0:
        b, cosine = -b, -cosine
    if cosine > 1 - 1e-9:
        value = a + (b - a) * s
    else:
        angle = np.arccos(min(cosine, 1.0))
        value = (np.sin((1 - s) * angle) * a + np.sin(s * angle) * b) / np.sin(angle)
    return np.asarray(value / np.linalg.norm(value))


def matrix_of(rest: Rest) -> np.ndarray:
    """(4, 4) of a translation, a rotation and a scale."""
    t, (x, y, z, w), s = rest
    m = np.eye(4)
    m[:3, :3] = np.array([
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]) * np.array(s)  # fmt: skip
    m[:3, 3] = t
    return m


def clip_named(scene: Scene, name: str) -> Clip:
    """A clip of a scene. RequestError if there is none of the name."""
    found: dict[str, Clip] = dict(zip(scene.clip_keys, scene.clips))
    if name not in found:
        there = ", ".join(found) or "there are none"
        raise RequestError(f"there is no clip {name!r} ({there})")
    return found[name]


def at_moment(scene: Scene, clip: Clip, t_s: float) -> Scene:
    """The scene as a clip has it at a moment. RequestError for a moment that is none."""
    if not np.isfinite(t_s) or t_s < 0:
        raise RequestError(f"a clip has no moment {t_s:g} s")
    moved: dict[int, dict[str, np.ndarray]] = {}
    rests: dict[int, Rest] = {}
    for channel in clip.channels:
        moved.setdefault(channel.node, {})[channel.what] = channel.at(t_s)
        rests[channel.node] = channel.rest
    nodes = list(scene.nodes)
    for number, values in moved.items():
        node, rest = nodes[number], rests[number]
        if set(values) - {"weights"}:
            told = [values.get(name, np.array(given)) for name, given in zip(("translation", "rotation", "scale"), rest)]
            node = replace(node, matrix=freeze(matrix_of((tuple(told[0]), tuple(told[1]), tuple(told[2])))))
        if "weights" in values:
            node = replace(node, weights=tuple(float(v) for v in values["weights"]))
        nodes[number] = node
        for k, other in enumerate(nodes):  # a node's instances have its weights, too
            if "weights" in values and other.parent == number and other.mesh is not None and other.instance:
                nodes[k] = replace(other, weights=node.weights)
    return replace(scene, nodes=tuple(nodes))


def morphed(part: Primitive, weights: tuple[float, ...]) -> Primitive:
    """A part moved towards its targets, each by its weight."""
    used = [(w, target) for w, target in zip(weights, part.targets) if w != 0]
    if not used:
        return part
    attributes = dict(part.attributes)
    for name in TARGETED:
        by = [w * target[name].astype(np.float64) for w, target in used if name in target]
        if by:
            attributes[name] = (attributes[name].astype(np.float64) + np.sum(by, axis=0)).astype(np.float32)
    return replace(part, attributes=attributes, targets=())
