"""Clips of a glTF file: what moves over time."""

from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.clips import Channel, Clip
from eddyfall.core.scene.model import Node
from eddyfall.core.scene.read.accessors import index_into, objects, part_of
from eddyfall.core.scene.read.placing import rest_of
from eddyfall.core.scene.read.reading import Reading


def read_clips(r: Reading, nodes: tuple[Node, ...]) -> tuple[Clip, ...]:
    """Its clips; what moves something that is not read is left out."""
    entries, clips = objects(r.doc, "nodes"), []
    for i, entry in enumerate(objects(r.doc, "animations")):
        name = r.name(entry, f"animation {i}")
        here, samplers = f"animation {i} {name!r}", objects(entry, "samplers")
        channels = []
        for k, channel in enumerate(objects(entry, "channels")):
            told = _channel(r, channel, samplers, entries, nodes, f"{here} channel {k}")
            channels += [] if told is None else [told]
        clips.append(Clip(name, tuple(channels)))
    return tuple(clips)


def _channel(
    r: Reading,
    channel: dict[str, Any],
    samplers: list[dict[str, Any]],
    entries: list[dict[str, Any]],
    nodes: tuple[Node, ...],
    here: str,
) -> Channel | None:
    target = part_of(channel, "target", here)
    if "node" not in target:
        return None  # left to an extension
    node, what = index_into(target["node"], entries, "node", here), target.get("path")
    if what not in ("translation", "rotation", "scale", "weights"):
        r.notes.append(f"not drawn yet: {here} moves {what!r:.40}")
        return None
    sampler = samplers[index_into(channel.get("sampler"), samplers, "sampler", here)]
    way = sampler.get("interpolation", "LINEAR")
    if way not in ("LINEAR", "STEP", "CUBICSPLINE"):
        raise SceneError(f"interpolation {way!r:.40} does not exist", here)
    times = r.accessors.read(sampler.get("input"), f"{here} input", ("SCALAR",)).astype(np.float64)
    kind = {"rotation": "VEC4", "weights": "SCALAR"}.get(what, "VEC3")
    values = r.accessors.read(sampler.get("output"), f"{here} output", (kind,)).astype(np.float64)
    if not (np.isfinite(times).all() and np.isfinite(values).all() and (times >= 0).all() and (np.diff(times) > 0).all()):
        raise SceneError("its times must rise from 0 on, and its values be finite", here)
    rows = len(times) * (3 if way == "CUBICSPLINE" else 1)
    if len(values) % rows or (kind != "SCALAR" and len(values) != rows):
        raise SceneError(f"{len(values)} values do not go with {len(times)} times", here)
    if what == "rotation" and not (np.linalg.norm(values[1::3] if way == "CUBICSPLINE" else values, axis=1) > 0).all():
        raise SceneError("a rotation must not be all zero", here)
    if "matrix" in entries[node] and what != "weights":
        raise SceneError("moves a node that has a matrix", here)
    return Channel(node, what, freeze(times), freeze(values.reshape(rows, -1)), way, rest_of(entries[node], here))
