"""Which side of an occluder the samples of a texel lie on, and how far light of the other side reaches over it."""

from typing import Any

import numpy as np

from eddyfall.core.bake.light.gather import Samples
from eddyfall.core.bake.questions.sides import blocked, lift_of, sides
from eddyfall.core.bake.questions.texel_window import Window


def own_side(window: Window) -> tuple[np.ndarray, dict[str, Any]]:
    """((m, n) bool: samples on the side that has most of their texel; facts of the texel asked about)."""
    m = len(window.samples.hidden)
    keep = np.ones(window.samples.hidden.shape, bool)
    facts: dict[str, Any] = {}
    size = window.texel_m().max()
    for k in range(m):
        mine = np.flatnonzero((window.sheet_of_sample[k] == window.sheet[k]) & ~window.samples.hidden[k])
        if len(mine) > 1:
            keep[k, mine] = sides(window.scene, window.samples.place[k][mine], window.samples.facing[k][mine], size) == 0
    mixed = ~keep[window.centre] & (window.sheet_of_sample[window.centre] == window.sheet[window.centre])
    if mixed.any():
        facts = _leak(window, keep[window.centre], mixed)
    return keep, facts


def _leak(window: Window, mine: np.ndarray, other: np.ndarray) -> dict[str, Any]:
    """How far light of the other side reaches: metres from the occluder to the texel's far border, and to the next texel's centre."""
    uv = window.sample_uv()
    apart = uv[mine].mean(axis=0) - uv[other].mean(axis=0)
    axis = int(np.argmax(np.abs(apart)))
    border = _border(window, mine, other, axis)
    texel = window.texel[axis]
    free = (texel + 1 - border) if apart[axis] > 0 else (border - texel)
    texel_m = float(window.texel_m()[axis])
    return {
        "reach_nearest_mm": free * texel_m * 1000,
        "reach_linear_mm": (free + 0.5) * texel_m * 1000,
        "share_of_other_side": float(other.sum() / len(other)),
        "border_texel": border,
        "axis": "uv"[axis],
        "occluder": _occluder(window, mine, other),
    }


def _border(window: Window, mine: np.ndarray, other: np.ndarray, axis: int) -> float:
    """Where the occluder crosses the texel along an axis, in texels: bisected between the closest samples of both sides."""
    uv = window.sample_uv()
    a, b = np.flatnonzero(mine), np.flatnonzero(other)
    gaps = np.abs(uv[a][:, None, axis] - uv[b][None, :, axis]) + 0.1 * np.abs(uv[a][:, None, 1 - axis] - uv[b][None, :, 1 - axis])
    i, j = np.unravel_index(int(gaps.argmin()), gaps.shape)
    k = window.centre
    lift = lift_of(window.scene, window.texel_m().max())
    p, q = (window.samples.place[k][s] + window.samples.facing[k][s] * lift for s in (a[i], b[j]))
    d = q - p
    length = float(np.linalg.norm(d))
    hit = window.scene.embree.run(
        p[None].astype(np.float32), (d / length)[None].astype(np.float32), query="INTERSECT", output=True
    )  # fmt: skip
    share = min(float(hit["tfar"][0]) / length, 1.0) if hit["primID"][0] >= 0 else 0.5
    return float(uv[a[i], axis] + share * (uv[b[j], axis] - uv[a[i], axis]))


def _occluder(window: Window, mine: np.ndarray, other: np.ndarray) -> str:
    k = window.centre
    lift = lift_of(window.scene, window.texel_m().max())
    p, q = (window.samples.place[k][np.flatnonzero(s)[0]] + window.samples.facing[k][0] * lift for s in (mine, other))
    d = q - p
    length = max(float(np.linalg.norm(d)), 1e-12)
    hit = window.scene.embree.run(p[None].astype(np.float32), (d / length)[None].astype(np.float32), query="INTERSECT")
    return window.geometry.drawables[window.geometry.owner[window.scene.prim[hit[0]]]].name if hit[0] >= 0 else ""


def same_side(window: Window, again: Samples, kept: np.ndarray) -> np.ndarray:
    """(n,) bool: samples of the texel asked about, traced again, that lie on the side and surface kept before."""
    places, facing = window.samples.place[window.centre], window.samples.facing[window.centre]
    reference = int(np.flatnonzero(kept)[0]) if kept.any() else 0
    if kept.all():
        return np.ones(again.hidden.shape[1], bool)
    # On the side of those kept if one of a few of them is seen.
    lift = lift_of(window.scene, window.texel_m().max())
    side = np.zeros(again.hidden.shape[1], bool)
    chosen = np.flatnonzero(kept)
    for known in chosen[np.unique(np.linspace(0, len(chosen) - 1, 8).astype(int))]:
        start = np.repeat((places[known] + facing[known] * lift)[None], len(side), axis=0)
        side |= ~blocked(window.scene, start, again.place[0] + again.facing[0] * lift)
    charts = window.sheet_of_sample[window.centre]
    if (charts == charts[reference]).all():
        return side
    nearest = ((again.place[0][:, None] - places[None]) ** 2).sum(axis=2).argmin(axis=1)
    return np.asarray(side & (charts[nearest] == charts[reference]))
