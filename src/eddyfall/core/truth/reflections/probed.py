"""What each reflection probe is off by at the places that take from it: where its box puts things (parallax), whether it sees the place at
all (leaks), how coarse its texels look, what it would show if it were captured now, and the step where one probe gives way to another.

Parallax is in px: between the pixel and where the mirror image of what the probe shows there belongs. Stops are of the whole surface: by
how much its pixels are off on the mean, of what they show."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.frame.probe_store import ProbeStore, probe_store
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.contract import Pixels, View
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.screen.bundles import mirrored_rays, seeds_of, shares_of_even_light
from eddyfall.core.shade.columns import DISTANCE, F0_RGB, NORMAL_XYZ, ROUGH
from eddyfall.core.shade.facing import ray_directions
from eddyfall.core.shade.probes import Probes, mirrored_ways, shares_at, shown_by
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.around import around
from eddyfall.core.truth.reference.classes import projected
from eddyfall.core.truth.reference.of_frame import Wanted
from eddyfall.core.truth.reference.path_scene import PathScene, path_scene
from eddyfall.core.truth.reference.shown import SURFACE_M, Shown, angle_between, shown_of
from eddyfall.core.truth.reference.trace import keys_of

PLACES = 4096  # spread over the frame
RAYS, BOUNCES = 16, 3  # of each place whose mirrored light is worked out
MOST_TRACED = 512  # places of them
SEEN_SLACK_M = 0.02  # how far before a place a ray from a probe may end
STEP = 0.5  # of its share that a probe loses from one pixel to the next: a seam
TEXEL_FACTOR = 2.0  # times the width of what a coat blurs by itself that a texel may be seen as
MIRRORED_M = 0.1  # how near to a place a mirrored ray has to end, to mirror it
ELSEWHERE_PX = 10_000.0  # where what a probe shows could not be seen in a mirror at all


@dataclass(frozen=True)
class Places:
    """n places of surfaces whose coats take from probes: pixel x, y (n,) of the frame; drawable (n,); place (n, 3) off its surface, way
    (n, 3) that it mirrors, to_eye (n, 3), rows (n, row); share (n, p) of each probe; drawn (n,) luminance of the frame there, coat (n, 3)
    share of what is mirrored that it shows, shown (n,) luminance of it that is probes'."""

    x: np.ndarray
    y: np.ndarray
    drawable: np.ndarray
    place: np.ndarray
    way: np.ndarray
    to_eye: np.ndarray
    rows: np.ndarray
    share: np.ndarray
    drawn: np.ndarray
    coat: np.ndarray
    shown: np.ndarray

    def of(self, which: np.ndarray) -> Places:
        """Some of them."""
        return Places(*(getattr(self, name)[which] for name in self.__dataclass_fields__))


@dataclass(frozen=True)
class Probed:
    """One probe at a viewpoint. pixels: share of the frame that takes from it; surfaces: names, most pixels first. parallax_px: half of its
    places, and nineteen in twenty, are off by no more; worst (x, y): the pixel that is off most. wrong: share of places at which it shows
    another thing than is due. parallax_stops: by which that shows. unseen: share of its light that goes to places it does not see;
    leak_stops: by which those are off, drawn against what is due; leak_at: pixels (x0, y0, x1, y1) of them; leaks_onto: their surfaces.
    texel_px: how large its texels look in mirrors; blurs: over the width of what coats blur, at one place in twenty the most. seam_stops:
    step where it gives way; seam_at (x, y); seam_with: to which other one, empty: to what lights it otherwise.
    at_px: px that a place of the world that was asked about is shown off, None: it is mirrored nowhere."""

    name: str
    pixels: float
    surfaces: tuple[str, ...]
    parallax_px: tuple[float, float]
    worst: tuple[int, int]
    wrong: float
    parallax_stops: float
    unseen: float
    leak_stops: float
    leak_at: tuple[int, int, int, int] | None
    leaks_onto: tuple[str, ...]
    texel_px: float
    blurs: float
    seam_stops: float
    seam_at: tuple[int, int] | None
    seam_with: str
    at_px: float | None = None


def places_of(frame: Frame, places: int = PLACES) -> Places | None:
    """Places of a whole frame, spread over it, whose coats take from probes; None if there are none."""
    probes: Probes = frame.buffers["probes"]
    size = frame.pixels.size
    pixels = Wanted(request=Request("", size), points=min(places, size[0] * size[1])).pixels()
    return _at(frame, probes, pixels)


def _at(frame: Frame, probes: Probes, pixels: np.ndarray) -> Places | None:
    x, y = pixels[:, 0], pixels[:, 1]
    surface, drawable = frame.buffers["surface"], frame.drawable
    answers = frame.stage.state.answers_ambient
    takes = (drawable[y, x] >= 0) & (surface[y, x][:, F0_RGB].sum(axis=1) > 0) & answers[drawable[y, x]]
    takes &= ~np.broadcast_to(frame.buffers["in_mirror"], drawable.shape)[y, x]
    x, y = x[takes], y[takes]
    if not len(x) or not len(probes.maps):
        return None
    rows, eye_way = surface[y, x], eye_ways(frame, x, y)
    place, _ = surface_places(frame, x, y)
    share = shares_at(probes, place)
    there = share.sum(axis=1) > 0
    if not there.any():
        return None
    x, y, rows, place, share, to_eye = x[there], y[there], rows[there], place[there], share[there], -eye_way[there]
    way, coat = mirrored_ways(rows, to_eye), shares_of_even_light(rows, to_eye)[1]
    light, _ = shown_by(probes, place, way, rows[:, ROUGH])
    drawn = frame.linear[y, x].astype(np.float64) @ REC709_LUMA
    return Places(x, y, drawable[y, x], place, way, to_eye, rows, share, drawn, coat, (light * coat) @ REC709_LUMA)


def eye_ways(frame: Frame, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(n, 3) unit directions of eye rays through pixels x, y (n,) of a whole frame."""
    rays = View(frame.camera, Pixels(frame.pixels.size, (0, 0, *frame.pixels.size))).rays
    return ray_directions(rays.d0, rays.du, rays.dv, x + 0.5, y + 0.5)


def surface_places(frame: Frame, x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3) places just off the surfaces that pixels x, y (n,) of a whole frame show, (n, 3) their normals)."""
    rows = frame.buffers["surface"][y, x]
    normal = rows[:, NORMAL_XYZ].astype(np.float64)
    away = rows[:, DISTANCE, None].astype(np.float64)
    return np.array(frame.camera.eye) + eye_ways(frame, x, y) * away + normal * SURFACE_M, normal


def probed(
    renderer: Renderer, build: Build, request: Request, places: int = PLACES, place: tuple[float, float, float] | None = None
) -> list[Probed]:
    """Each probe that anything in the frame takes from, most pixels first; place (m): of the world, that is asked about besides."""
    whole = replace(request, crop=None)
    frame = renderer.frame(build, whole, "linear")
    names = probe_names(renderer, build, frame)
    at = places_of(frame, places) if names else None
    if at is None:
        return []
    scene = path_scene(renderer, build, frame)
    shown = shown_of(renderer, frame)
    total = min(places, frame.pixels.size[0] * frame.pixels.size[1])
    seams = _seams(frame, shown.probes, names)
    found = []
    for p, name in enumerate(names):
        mine = at.of(at.share[:, p] > 0)
        if len(mine.x):
            at_px = None if place is None else _shown_off_px(frame, scene, shown, p, np.array(place, float))
            found.append(replace(_of(frame, scene, shown, p, name, mine, total, seams.get(p)), at_px=at_px))
    return sorted(found, key=lambda f: -f.pixels)


def probe_names(renderer: Renderer, build: Build, frame: Frame) -> tuple[str, ...]:
    """Names of the probes of a frame, in the order of their numbers."""
    store: ProbeStore = renderer.derive(probe_store, build, frame.stage.resolved.light_set).value
    return store.names


def _shown_off_px(frame: Frame, scene: PathScene, shown: Shown, p: int, place: np.ndarray) -> float | None:
    """Px between the pixel that truly mirrors a place (3,) and where what probe p shows there belongs; None if none mirrors it."""
    size = frame.pixels.size
    at = places_of(frame, size[0] * size[1])
    if at is None:
        return None
    at = at.of(at.share[:, p] > 0)
    hits = scene.met.hits(at.place, at.way)
    end = at.place + at.way * np.where(hits.triangle >= 0, hits.distance, 1e7)[:, None]
    off = np.linalg.norm(end - place, axis=1)
    if not len(off) or off.min() > MIRRORED_M:
        return None
    one = at.of(np.array([int(np.argmin(off))]))
    return float(parallax_px(frame, one, shown.shown(p, one.place, one.way)[0])[0])


def _of(
    frame: Frame, scene: PathScene, shown: Shown, p: int, name: str, at: Places, total: int, seam: tuple[float, tuple[int, int], str] | None
) -> Probed:  # fmt: skip
    names = [d.name for d in frame.geometry.drawables]
    probes, share = shown.probes, at.share[:, p]
    seen, _, what = shown.shown(p, at.place, at.way)
    hits = scene.met.hits(at.place, at.way)
    due = np.where(hits.triangle >= 0, scene.soup.owner[hits.triangle], -1)
    end = at.place + at.way * np.where(hits.triangle >= 0, hits.distance, 1e7)[:, None]
    off_px = parallax_px(frame, at, seen)
    wrong = (what != due) | (angle_between(seen - at.place, end - at.place) > shown.slack(p, at.rows[:, ROUGH]))
    sees = _seen_from(shown.still, probes.place[p], at.place)
    # Parallax: the same map, looked up where what is due truly lies, as far as the probe sees that.
    visible = _seen_from(shown.still, probes.place[p], end - at.way * SEEN_SLACK_M)
    true_way = end - probes.place[p]
    true_way /= np.maximum(np.linalg.norm(true_way, axis=1, keepdims=True), 1e-9)
    true_light = shown_by(_alone(probes, p), np.tile(probes.place[p], (len(end), 1)), true_way, at.rows[:, ROUGH])[0]
    drawn_light = _light_of(probes, p, at)
    counted = visible & sees
    change = ((true_light - drawn_light) * at.coat * share[:, None]) @ REC709_LUMA
    by_drawable = np.bincount(at.drawable, minlength=len(names))
    leak = ~sees & (share > 0)
    leak_stops, onto = _leak(frame, scene, at, leak, share, drawn_light, names)
    edge = int(probes.levels[probes.maps[p, 0], 1])
    texel, blurs = _texels(frame, at, edge)
    worst = int(np.argmax(np.where(off_px < ELSEWHERE_PX, off_px, -1)))
    return Probed(
        name=name, pixels=len(at.x) / total, surfaces=tuple(names[d] for d in np.argsort(-by_drawable)[:8] if by_drawable[d]),
        parallax_px=(float(np.quantile(off_px, 0.5)), float(np.quantile(off_px, 0.95))), worst=(int(at.x[worst]), int(at.y[worst])),
        wrong=float((wrong * share).sum() / share.sum()),
        parallax_stops=stops_of(np.abs(change[counted]).sum(), at.drawn[counted].sum()),
        unseen=float((share * ~sees).sum() / share.sum()), leak_stops=leak_stops,
        leak_at=_box(at.of(leak)) if leak.any() else None, leaks_onto=onto, texel_px=texel, blurs=blurs,
        seam_stops=seam[0] if seam else 0.0, seam_at=seam[1] if seam else None, seam_with=seam[2] if seam else "",
    )  # fmt: skip


def stops_of(off: float, drawn: float) -> float:
    """Stops that light is off by on the mean, of so much that is drawn."""
    return math.log2(1 + off / drawn) if drawn > 0 else 0.0


def parallax_px(frame: Frame, at: Places, seen: np.ndarray) -> np.ndarray:
    """(n,) px between pixels and where the mirror images, in their surfaces' own planes, of places (n, 3) that are shown there belong."""
    normal = at.rows[:, NORMAL_XYZ].astype(np.float64)
    image = seen - 2 * np.einsum("nk,nk->n", seen - at.place, normal)[:, None] * normal
    depth, x, y = projected(frame.camera, frame.pixels.size, image)
    off = np.hypot(x - (at.x + 0.5), y - (at.y + 0.5))
    return np.asarray(np.where(depth > 0, np.minimum(off, ELSEWHERE_PX), ELSEWHERE_PX))


def _seen_from(still: RayScene, eye: np.ndarray, place: np.ndarray) -> np.ndarray:
    """(n,) bool: whether a place sees other places (n, 3)."""
    way = place - eye
    away = np.linalg.norm(way, axis=1)
    hits = still.hits(np.tile(eye, (len(place), 1)), way / np.maximum(away, 1e-9)[:, None])
    return np.asarray((hits.triangle < 0) | (hits.distance >= away - SEEN_SLACK_M - 1e-3 * away))


def _alone(probes: Probes, p: int) -> Probes:
    """One probe, everywhere, shown as if what it shows were infinitely far away."""
    far = np.full((1, 3), 1e9)
    none = np.zeros(1, np.uint8)
    return probes._replace(
        maps=probes.maps[p : p + 1], place=probes.place[p : p + 1], low=-far, high=far, blend=np.zeros(1), boxed=none, sees=none,
        depths=probes.depths[p : p + 1],
    )  # fmt: skip


def _light_of(probes: Probes, p: int, at: Places) -> np.ndarray:
    """(n, 3) nits that probe p shows at places, whatever its share."""
    far = np.full((1, 3), 1e9)
    alone = _alone(probes, p)
    if not probes.boxed[p]:
        return shown_by(alone, at.place, at.way, at.rows[:, ROUGH])[0]
    boxed = alone._replace(low=probes.low[p : p + 1], high=probes.high[p : p + 1], boxed=np.ones(1, np.uint8))
    inside, total = shown_by(boxed, at.place, at.way, at.rows[:, ROUGH])
    return np.where(total[:, None] > 0, inside, shown_by(alone._replace(low=-far), at.place, at.way, at.rows[:, ROUGH])[0])


def _leak(
    frame: Frame, scene: PathScene, at: Places, leak: np.ndarray, share: np.ndarray, light: np.ndarray, names: list[str]
) -> tuple[float, tuple[str, ...]]:
    """(stops that what is drawn at places the probe does not see is off what is due there, surfaces they are on, most first)."""
    which = np.flatnonzero(leak)
    if not len(which):
        return 0.0, ()
    kept = which[np.unique(np.linspace(0, len(which) - 1, MOST_TRACED).astype(int))]
    some = at.of(kept)
    due = mirrored_light(scene, some)
    drawn = (light * at.coat * share[:, None]) @ REC709_LUMA
    due_there = due @ REC709_LUMA
    right = float((some.drawn - some.shown + due_there).mean())  # as it would be drawn if it mirrored what it is due
    wrong = right + float((drawn[kept] - due_there * share[kept]).mean())
    stops = abs(math.log2(max(wrong, 1e-3 * right) / right)) if right > 0 else 0.0
    order = np.bincount(at.drawable[which], minlength=len(names))
    return stops, tuple(names[d] for d in np.argsort(-order)[:4] if order[d])


def mirrored_light(scene: PathScene, at: Places) -> np.ndarray:
    """(n, 3) nits that coats at places are due to mirror: by rays drawn by their visible normals, each followed by a path."""
    seeds, total = seeds_of(at.x, at.y, 3), np.zeros((len(at.x), 3))
    keys = keys_of(np.stack([at.x, at.y], axis=1), 1 << 16, 1, RAYS).reshape(len(at.x), RAYS)
    for ray in range(RAYS):
        direction, weight, _ = mirrored_rays(at.rows, at.to_eye, seeds, ray)
        light, _ = around(scene, at.place, direction, np.ascontiguousarray(keys[:, ray]), BOUNCES)
        total += weight * light
    return total / RAYS


def _texels(frame: Frame, at: Places, edge: int) -> tuple[float, float]:
    """(px that a texel of a map looks wide in mirrors, over that times of what their coats blur) at one place in twenty the most: an angle
    mirrored is an angle seen."""
    px_a_radian = frame.pixels.size[1] / 2 / math.tan(frame.camera.fov_y_rad / 2)
    texel = math.pi / 2 / edge
    blur = np.maximum(at.rows[:, ROUGH].astype(np.float64) ** 2, 1 / px_a_radian)
    return texel * px_a_radian, float(np.quantile(texel / blur, 0.95))


def _seams(frame: Frame, probes: Probes, names: tuple[str, ...]) -> dict[int, tuple[float, tuple[int, int], str]]:
    """By probe: (stops, (x, y), to what) of the step where it gives way from one pixel to the next on one surface: what is drawn there with
    either."""
    size = frame.pixels.size
    grid = np.stack(np.meshgrid(np.arange(0, size[0], 2), np.arange(0, size[1], 2)), -1).reshape(-1, 2)
    at = _at(frame, probes, grid)
    found: dict[int, tuple[float, tuple[int, int], str]] = {}
    if at is None:
        return found
    index = np.full((size[1], size[0]), -1)
    index[at.y, at.x] = np.arange(len(at.x))
    for dx, dy in ((2, 0), (0, 2)):
        other = np.full(len(at.x), -1)
        inside = (at.x + dx < size[0]) & (at.y + dy < size[1])
        other[inside] = index[at.y[inside] + dy, at.x[inside] + dx]
        pair = np.flatnonzero(other >= 0)
        pair = pair[at.drawable[pair] == at.drawable[other[pair]]]
        close = np.einsum("nk,nk->n", at.rows[pair][:, NORMAL_XYZ], at.rows[other[pair]][:, NORMAL_XYZ]) > 0.99
        pair = pair[close]
        step = at.share[other[pair]] - at.share[pair]
        for p in range(step.shape[1]):
            edge = pair[np.abs(step[:, p]) > STEP]
            if len(edge) < 8:
                continue
            turned = step[np.isin(pair, edge)][:, p] > 0  # the probe has the second of the two
            here, there = at.of(np.where(turned, other[edge], edge)), at.of(np.where(turned, edge, other[edge]))
            taken = (there.share - here.share).mean(axis=0)
            taker = int(np.argmax(np.where(np.arange(len(names)) == p, -1.0, taken)))
            to = names[taker] if len(names) > 1 and taken[taker] > STEP / 2 else ""
            # Between two probes, the same places by either; beyond the last one, the places on both sides as they are drawn.
            a, b = (_drawn_with(probes, here, of) for of in (here.share, there.share)) if to else (here.drawn, there.drawn)
            stops = np.log2(np.maximum(b, 1e-6 * b.max(initial=1e-9)) / np.maximum(a, 1e-6 * a.max(initial=1e-9)))
            value, k = abs(float(np.median(stops))), int(np.argsort(stops)[len(stops) // 2])
            if p not in found or value > found[p][0]:
                found[p] = value, (int(here.x[k]), int(here.y[k])), to
    return found


def _drawn_with(probes: Probes, at: Places, share: np.ndarray) -> np.ndarray:
    """(n,) luminance of places if probes had these shares (n, p); what is left to what lights them otherwise counts as it is."""
    light = np.zeros(len(at.x))
    for p in range(share.shape[1]):
        light += share[:, p] * ((_light_of(probes, p, at) * at.coat) @ REC709_LUMA)
    return np.asarray(at.drawn - at.shown + light)


def _box(at: Places) -> tuple[int, int, int, int]:
    return int(at.x.min()), int(at.y.min()), int(at.x.max()) + 1, int(at.y.max()) + 1
