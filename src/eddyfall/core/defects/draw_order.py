"""order.flip, order.wrong, order.rank-reach, order.no-valid-order, order.inside-mesh: blended drawables that lie over one another in the
wrong order, at a viewpoint or on the way.

Every pair is measured by replaying the frame's own fragments: what the pair in the drawn order adds to the picture. A remedy's reach is
measured by the same family: a rank that puts one pair right and another wrong brings a finding of its own."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.defects.blend_kinds import census_of
from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.order_symptoms import OVER, POPS
from eddyfall.core.defects.order_ways import (
    back_to_front,
    crossing,
    listed_ways,
    method_ways,
    one_mesh,
    order_ways,
    split_ways,
    triangle_ways,
)
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, painted, region_of
from eddyfall.core.frame.moves import MovePath, path_of
from eddyfall.core.frame.render import Frame
from eddyfall.core.layers.along_move import look_at
from eddyfall.core.layers.best import Knot, knots
from eddyfall.core.layers.capture import Layers, captured, covered_by, layers_of
from eddyfall.core.layers.flips import Pop, flips, pop_of
from eddyfall.core.layers.pairs import LEAST_PIXELS, apart, wrong_pairs
from eddyfall.core.passes.contract import Camera
from eddyfall.core.passes.draw_order import blended_in, sort_keys, sorting
from eddyfall.core.scene.setup.sections.order import Order

FLIP, WRONG, INSIDE, NONE = "order.flip", "order.wrong", "order.inside-mesh", "order.no-valid-order"
APPROXIMATE, RANK = "order.approximate", "order.rank-reach"
MOST_POPS, POSES = 24, 7  # of a move that are drawn: flips, and moments besides
ON_THE_WAY = (320, 180)  # px of the frames of these moments
MOST_TOLD, MOST_PAIRS, MOST_SPLIT = 4, 8, 4


@dataclass(frozen=True)
class Off:
    """A pair in the wrong order somewhere: nearer, farther by name; pixels of the whole frame; nit_px; worst CIEDE2000; at: "" for the
    viewpoint itself, else the moment of a move; where (h, w) bool of the viewpoint's frame, None on the way; camera: of its frame."""

    nearer: str
    farther: str
    pixels: int
    nit_px: float
    worst: float
    at: str
    where: np.ndarray | None
    camera: Camera


@dataclass(frozen=True)
class Popped:
    """A flip along a move that shows: names of what was drawn first before and after, where on the move, and what pops."""

    first: str
    second: str
    move: str
    place: str
    pop: Pop


@dataclass(frozen=True)
class Tied:
    """Drawables that no order of whole things draws right: names; those that cross; the best order, which ones were tried, what it leaves,
    where (h, w) bool."""

    members: tuple[str, ...]
    crossing: tuple[tuple[str, str], ...]
    best: tuple[str, ...]
    tried: str
    left_px: int
    left_nit_px: float
    where: np.ndarray

    @property
    def pairs(self) -> list[tuple[str, str]]:
        """Those that one may be split at the other's plane: what crosses; of a ring each two."""
        return list(self.crossing) or list(combinations(self.members[:MOST_SPLIT], 2))


@dataclass(frozen=True)
class Loose:
    """What a method that sorts no things leaves off: drawables there by name, layers in a pixel at the most, pixels of the whole frame,
    nit_px, at: "" for the viewpoint itself, else the moment of a move, where (h, w) bool of the viewpoint's frame."""

    things: tuple[str, ...]
    deepest: int
    pixels: int
    nit_px: float
    at: str
    where: np.ndarray


@dataclass(frozen=True)
class Seen:
    """At a viewpoint: pairs that are off there or on its moves, what no order draws right there, pops on its moves, flips that were not
    drawn, cameras that were looked through; what a method without an order leaves off; layers in a pixel, at the most; turned: a
    direction that things are sorted by is back to front, which is told as such."""

    off: tuple[Off, ...]
    knots: tuple[Tied, ...]
    pops: tuple[Popped, ...]
    undrawn: int
    cameras: tuple[Camera, ...]
    loose: Loose | None = None
    deepest: int = 0
    turned: bool = False


def observe(survey: Survey, viewpoint: str) -> Seen | None:
    """The pairs of a viewpoint's frame and of the moves that go from it."""
    chosen = blended_in(survey.stage(viewpoint).state)
    if not len(chosen):
        return None
    frame = survey.frame(viewpoint)
    names = [d.name for d in survey.geometry.drawables]
    layers = layers_of(frame, least=2)
    if layers.orderless:
        return Seen((), (), (), 0, (frame.camera,), _loose(survey, viewpoint, layers, names))
    off = [
        Off(names[p.early], names[p.late], p.pixels, p.nit_px, p.worst, "", _mask(frame, p.where), frame.camera)
        for p in wrong_pairs(layers)
        if p.pixels >= LEAST_PIXELS
    ]
    tied = tuple(_tied(frame, knot, names) for knot in knots(layers)) if len(chosen) > 1 and off else ()
    cameras, pops, undrawn = [frame.camera], [], 0
    for path in moves_of(survey, viewpoint):
        popped, left = _pops(survey, path, chosen, names)
        pops += popped
        undrawn += left
        first, last = path.keys[0].t_s, path.keys[-1].t_s
        for t in np.linspace(first, last, POSES):
            camera = path.at(float(t))
            cameras.append(camera)
            if len(chosen) > 1:
                off += _off_at(survey, path, float(t), camera, names)
        cameras += [path.at(float(t)) for t in path.moments]
    passed = [k for path in moves_of(survey, viewpoint) for _, k in on_the_way(survey, path)]
    deepest = max(int(np.diff(k.shown.starts).max(initial=0)) for k in (layers, *passed))
    return Seen(
        tuple(off), tied, tuple(pops), undrawn, tuple(cameras), None, deepest, back_to_front(survey, viewpoint) is not None
    )


def _loose(survey: Survey, viewpoint: str, layers: Layers, names: list[str]) -> Loose | None:
    """What is off at a viewpoint; if nothing is, at the moment of its moves that is worst."""
    scale = survey.size[0] * survey.size[1] / (ON_THE_WAY[0] * ON_THE_WAY[1])
    ways = [(path.name, t, k) for path in moves_of(survey, viewpoint) for t, k in on_the_way(survey, path)]
    found = [(_off(layers), 1.0, "", layers), *((_off(k), scale, f"{name} at {t:.2f} s", k) for name, t, k in ways)]
    worst = max(found[1:], key=lambda one: one[0].sum(), default=found[0])
    where, by, at, told = found[0] if found[0][0].sum() >= LEAST_PIXELS else worst
    if where.sum() * by < LEAST_PIXELS:
        return None
    s, counts = told.shown, np.diff(told.shown.starts)
    there = np.unique(s.drawable[np.repeat(where.ravel(), counts)])
    nits = float(np.abs(told.drawn - told.sorted)[where].mean(axis=1).sum()) * by
    deepest = max(int(np.diff(one[3].shown.starts).max(initial=0)) for one in found)
    mask = where if not at else covered_by(layers.frame, [int(d) for d in there])
    return Loose(tuple(names[d] for d in there), deepest, int(where.sum() * by), nits, at, mask)


def _off(layers: Layers) -> np.ndarray:
    return np.asarray(apart(layers.frame, layers.drawn, layers.sorted) > VISIBLE_DIFFERENCE)


def on_the_way(survey: Survey, path: MovePath, least: int = 2) -> Iterator[tuple[float, Layers]]:
    """(moment, layers) of small frames along a move; least: as `captured` has it."""
    for t in np.linspace(path.keys[0].t_s, path.keys[-1].t_s, POSES):
        request = replace(
            survey.request(path.viewpoint), role=survey.role or path.role, camera=path.at(float(t)), size=ON_THE_WAY
        )
        yield float(t), captured(survey.renderer, survey.build, request, least=least)


def _mask(frame: Frame, where: np.ndarray) -> np.ndarray:
    mask = np.zeros(frame.pixels.shape, bool)
    mask.flat[where] = True
    return mask


def _tied(frame: Frame, knot: Knot, names: list[str]) -> Tied:
    def of(numbers: Iterable[int]) -> tuple[str, ...]:
        return tuple(names[n] for n in numbers)

    crossing = tuple((names[a], names[b]) for a, b in knot.crossing)
    return Tied(of(knot.members), crossing, of(knot.order), knot.tried, knot.left_px, knot.left_nit_px, _mask(frame, knot.where))


def moves_of(survey: Survey, viewpoint: str) -> Iterator[MovePath]:
    """Moves of the setup whose frames a viewpoint's settings hold for, as the survey asks."""
    for name in survey.build.setup.moves:
        path = path_of(survey.build, name, survey.size[0] / survey.size[1])
        if path.viewpoint == viewpoint and (path.role is None or survey.role in (None, path.role)):
            yield path


def _pops(survey: Survey, path: MovePath, chosen: np.ndarray, names: list[str]) -> tuple[list[Popped], int]:
    as_walked = replace(survey, role=survey.role or path.role)
    request = as_walked.request(path.viewpoint)
    met = flips(survey.geometry, path, sorting(as_walked.stage(path.viewpoint)), chosen, survey.size)
    drawn = [pop_of(survey.renderer, survey.build, request, path, f) for f in met[:MOST_POPS]]
    shown = [
        Popped(names[p.flip.first], names[p.flip.second], path.name, _place(path, p), p) for p in drawn if p.turn != "harmless"
    ]
    return shown, len(met) - len(drawn)


def _place(path: MovePath, pop: Pop) -> str:
    """Where the camera is at a pop: by the axis that it goes along; by its heading where it only turns."""
    before, after = (np.array(path.at(pop.flip.t_s + by).eye) for by in (-0.01, 0.01))
    way = np.abs(after - before)
    if way.max() > 1e-6:
        axis = int(way.argmax())
        return f"{'xyz'[axis]} = {pop.flip.eye[axis]:.3f} m"
    x, _, z = path.at(pop.flip.t_s).forward
    return f"a heading of {math.degrees(math.atan2(x, -z)):.2f} deg"


def _off_at(survey: Survey, path: MovePath, t: float, camera: Camera, names: list[str]) -> list[Off]:
    request = replace(survey.request(path.viewpoint), role=survey.role or path.role, camera=camera)
    scale = survey.size[0] * survey.size[1] / (ON_THE_WAY[0] * ON_THE_WAY[1])
    return [
        Off(
            names[p.early],
            names[p.late],
            round(p.pixels * scale),
            p.nit_px * scale,
            p.worst,
            f"{path.name} at {t:.2f} s",
            None,
            camera,
        )
        for p in look_at(survey.renderer, survey.build, request, ON_THE_WAY)
    ]


def conclude(survey: Survey, seen: dict[str, Seen | None]) -> list[Suspicion]:
    """One suspicion for each pair."""
    there = {v: s for v, s in seen.items() if s is not None}
    pairs: dict[tuple[str, str], None] = {}
    nodes = {v.node for v in survey.build.setup.volumes.values() if v.on}
    filled = {d.name for d in survey.geometry.things if d.node in nodes}
    for s in there.values():
        # What lies in a volume is told of as such; that it pops is told here.
        pairs |= {_key(p.first, p.second): None for p in s.pops}
        pairs |= {_key(o.nearer, o.farther): None for o in s.off if not s.turned and not filled & {o.nearer, o.farther}}
    # What no order draws right is told once, as that, and not pair by pair.
    tied = [(v, k) for v, s in there.items() for k in s.knots if not s.turned and not filled & {*k.members}]
    within = {_key(a, b) for _, k in tied for a in k.members for b in k.members if a != b}
    popping = {_key(p.first, p.second) for s in there.values() for p in s.pops}
    told = [
        _told(survey, pair, there)
        for pair in pairs
        if (pair not in within or pair in popping) and not (pair[0] == pair[1] and _only_wired(survey, pair[0]))
    ]
    return [
        *told,
        *_no_order(survey, tied, max((s.deepest for s in there.values()), default=0)),
        *_approximate(survey, {v: s.loose for v, s in there.items() if s.loose is not None}),
    ]


def _only_wired(survey: Survey, thing: str) -> bool:
    """Whether a thing is blended for no other reason than that its colour was wired to its opacity, which is told as that."""
    material = survey.geometry.drawables[survey.geometry.names[thing]].material
    return material >= 0 and census_of(survey, material).wired


def _approximate(survey: Survey, seen: dict[str, Loose]) -> Iterator[Suspicion]:
    """One suspicion for the method, where it leaves most off."""
    if not seen:
        return
    view = max(seen, key=lambda v: seen[v].pixels)
    worst, order = seen[view], survey.resolved(view)[Order]
    pixels = {v: one.pixels for v, one in seen.items()}
    place = f"along {worst.at}" if worst.at else f"at {view}"
    yield Suspicion(
        code=APPROXIMATE, cause_kind="setting", cause="order.method",
        title=f"layers put together as {order.method} are off {place}",
        subjects=tuple(dict.fromkeys(t for one in seen.values() for t in one.things)), value=float(pixels[view]), limit=LEAST_PIXELS,
        evidence=(
            Evidence(measure=f"pixels off the layers' true order {place}; {worst.nit_px:.0f} nit px", value=pixels[view], unit="px",
                     limit=LEAST_PIXELS, picture=survey.painted(view, worst.where)),
            Evidence(measure="layers in a pixel there, at the most", value=worst.deepest, unit="layers"),
        ),
        pixels=pixels, regions={v: region_of(one.where) for v, one in seen.items()},
        candidates=tuple(method_ways(survey, view, max(one.deepest for one in seen.values()))),
        facts={"method": order.method},
    )  # fmt: skip


def _no_order(survey: Survey, tied: list[tuple[str, Tied]], deepest: int) -> Iterator[Suspicion]:
    """One suspicion for each set of drawables that no order draws right, where it leaves most; deepest: layers in any pixel."""
    by_members: dict[tuple[str, ...], list[tuple[str, Tied]]] = {}
    for v, k in tied:
        by_members.setdefault(k.members, []).append((v, k))
    for members, seen in by_members.items():
        view, worst = max(seen, key=lambda s: s[1].left_px)
        crossing = ", ".join(f"{a} and {b}" for a, b in worst.crossing)
        best = f"{' before '.join(worst.best)} ({worst.tried})"
        how = f"{crossing} cross" if crossing else f"{', '.join(members)} lie in a ring"
        yield Suspicion(
            code=NONE, cause_kind="drawables", cause=" | ".join(sorted(members)),
            title=f"no order of whole things is right at {view}: {how}",
            subjects=members, value=float(worst.left_px), limit=LEAST_PIXELS,
            evidence=(
                Evidence(measure=f"pixels off in the best order, {best}; {worst.left_nit_px:.0f} nit px",
                         value=worst.left_px, unit="px", limit=LEAST_PIXELS, picture=survey.painted(view, worst.where),
                         source="the price of not splitting them"),
            ),
            pixels={v: k.left_px for v, k in seen}, regions={v: region_of(k.where) for v, k in seen},
            candidates=tuple(_ways_of(survey, view, worst, deepest)) if survey.pictures else (),
            facts={"members": list(members), "best order": list(worst.best)},
        )  # fmt: skip


def _ways_of(survey: Survey, viewpoint: str, tied: Tied, deepest: int) -> Iterator[Candidate]:
    yield from split_ways(survey, tied.pairs)
    placed = {m for p in survey.build.setup.sort_points.values() for m in p.members}
    if not placed & {survey.geometry.drawables[survey.geometry.names[name]].node for name in tied.members}:
        yield one_mesh(survey, tied.best, "sorted")
    yield from method_ways(survey, viewpoint, deepest)


def _key(a: str, b: str) -> tuple[str, str]:
    return (a, b) if a <= b else (b, a)


def _told(survey: Survey, pair: tuple[str, str], seen: dict[str, Seen]) -> Suspicion:
    pops = [(v, p) for v, s in seen.items() for p in s.pops if _key(p.first, p.second) == pair]
    off = [(v, o) for v, s in seen.items() for o in s.off if _key(o.nearer, o.farther) == pair]
    nearer, farther = _ways(pair, [p for _, p in pops], [o for _, o in off])
    masks = {v: o.where for v, o in off if o.where is not None}
    for v, o in off:
        if o.where is not None:
            masks[v] = masks[v] | o.where
    pixels = {v: int(mask.sum()) for v, mask in masks.items()}
    if not masks:
        for v, count in [*((v, p.pop.pixels) for v, p in pops), *((v, o.pixels) for v, o in off)]:
            pixels[v] = max(count, pixels.get(v, 0))
    view, title, value = _headline(nearer, farther, pops, off)
    ranked = [] if pops else _ranks_that_turn(survey, *max(off, key=lambda o: o[1].pixels))
    if ranked:
        title += f", by the draw rank of {' and '.join(ranked)}"
    return Suspicion(
        code=FLIP if pops else INSIDE if nearer == farther else RANK if ranked else WRONG, cause_kind="drawables",
        cause=" | ".join(dict.fromkeys(pair)), title=title, subjects=tuple(dict.fromkeys((farther, nearer))), value=value,
        limit=LEAST_PIXELS, evidence=tuple(_evidence(survey, pops, off)), pixels=pixels,
        regions={v: region_of(m) for v, m in (masks or _shown(survey, pixels, farther)).items()},
        candidates=tuple(_ways_out(survey, view, nearer, farther, [c for v in pixels for c in seen[v].cameras])),
        not_drawn_yet="" if masks else "it shows on the way, not at the viewpoint",
        facts={"nearer": nearer, "farther": farther, "undrawn flips": sum(s.undrawn for s in seen.values())},
    )  # fmt: skip


def _ranks_that_turn(survey: Survey, viewpoint: str, off: Off) -> list[str]:
    """Nodes of a wrong pair whose draw ranks alone make it wrong where it was seen: by its key what is farther would be drawn first."""
    geometry, by = survey.geometry, sorting(survey.stage(viewpoint))
    two = np.array([geometry.names[off.nearer], geometry.names[off.farther]])
    if by.method != "sorted" or by.rank[two[0]] >= by.rank[two[1]]:
        return []
    near, far = sort_keys(geometry, two, off.camera, by)
    return list(dict.fromkeys(geometry.drawables[d].node for d in two if by.rank[d])) if far > near else []


def _shown(survey: Survey, pixels: dict[str, int], drawable: str) -> dict[str, np.ndarray]:
    """By viewpoint (h, w) bool: where a drawable lies on its frame, if anywhere."""
    number = survey.geometry.names[drawable]
    masks = {v: covered_by(survey.frame(v), (number,)) for v in pixels} if survey.pictures else {}
    return {v: mask for v, mask in masks.items() if mask.any()}


def _headline(nearer: str, farther: str, pops: list[tuple[str, Popped]], off: list[tuple[str, Off]]) -> tuple[str, str, float]:
    """(viewpoint, title, pixels) of where it shows most."""
    if pops:
        view, worst = max(pops, key=lambda p: p[1].pop.pixels)
        title = f"{farther} pops at {worst.place} of {worst.move}: {nearer} changes places with it"
        return view, title, float(worst.pop.pixels)
    view, most = max(off, key=lambda o: o[1].pixels)
    where = f"at {view}" if not most.at else f"along {most.at}"
    if nearer == farther:
        return view, f"faces of {nearer} are drawn in the wrong order {where}", float(most.pixels)
    return view, f"{farther} is drawn over {nearer}, which is nearer, {where}", float(most.pixels)


def _evidence(survey: Survey, pops: list[tuple[str, Popped]], off: list[tuple[str, Off]]) -> Iterator[Evidence]:
    for _, p in pops:
        told = f"{p.place} of {p.move}, {p.pop.flip.t_s:.4f} s"
        picture = painted(p.pop.shown, p.pop.where) if survey.pictures else None
        yield Evidence(
            measure=f"pixels that pop at {told} ({p.pop.turn})", value=p.pop.pixels, unit="px", limit=LEAST_PIXELS, picture=picture
        )  # fmt: skip
        yield Evidence(measure=f"largest CIEDE2000 there; {p.pop.nit_px:.0f} nit px", value=p.pop.worst, unit="CIEDE2000")
    for v, o in sorted(off, key=lambda o: (o[1].at != "", -o[1].pixels))[:MOST_TOLD]:
        where = f"at {v}" if not o.at else f"along {o.at}"
        whose = "its own faces" if o.nearer == o.farther else "the two"
        yield Evidence(
            measure=f"pixels off by the order of {whose} {where}; {o.nit_px:.0f} nit px, CIEDE2000 up to {o.worst:.1f}", value=o.pixels,
            unit="px", limit=LEAST_PIXELS, picture=survey.painted(v, o.where) if o.where is not None else None,
        )  # fmt: skip


def _ways(pair: tuple[str, str], pops: list[Popped], off: list[Off]) -> tuple[str, str]:
    """(nearer, farther) of a pair where it shows most."""
    if off:
        most = max(off, key=lambda o: o.pixels)
        return most.nearer, most.farther
    most_popped = max(pops, key=lambda p: p.pop.pixels)
    right_before = most_popped.pop.off_before <= most_popped.pop.off_after
    farther = most_popped.first if right_before else most_popped.second
    return (pair[1] if farther == pair[0] else pair[0]), farther


def _ways_out(survey: Survey, viewpoint: str, nearer: str, farther: str, cameras: list[Camera]) -> Iterator[Candidate]:
    if not survey.pictures:
        return
    if nearer == farther:
        yield from triangle_ways(survey, nearer)
        yield from listed_ways(survey, nearer, _everywhere(survey))
        return
    yield from order_ways(survey, viewpoint, nearer, farther, cameras)
    if crossing(survey.geometry, nearer, farther):
        yield from split_ways(survey, [(nearer, farther)])


def _everywhere(survey: Survey) -> Iterator[Layers]:
    """The layers of every viewpoint, and of poses along every move."""
    for viewpoint in survey.viewpoints:
        yield captured(survey.renderer, survey.build, survey.request(viewpoint))
        for path in moves_of(survey, viewpoint):
            yield from (layers for _, layers in on_the_way(survey, path))


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """What may put pairs right that are off within the spot, or of which the subject is one, there or on the way."""
    seen = observe(replace(survey, pictures=False), viewpoint)
    if seen is None:
        return []
    name = survey.geometry.drawables[subject].name
    told: dict[tuple[str, str], str] = {}
    for off in seen.off:
        if name in (off.nearer, off.farther) or (off.where is not None and _in_spot(survey, off.where)):
            where = f"at {viewpoint}" if not off.at else f"along {off.at}"
            because = f"{off.farther} is drawn over {off.nearer}, which is nearer, on {off.pixels} px {where}"
            told.setdefault((off.nearer, off.farther), because)
    for popped in seen.pops:
        if name in (popped.first, popped.second):
            pair = _ways(_key(popped.first, popped.second), [popped], [])
            told.setdefault(pair, f"{pair[1]} pops at {popped.place} of {popped.move}")
    found: dict[str, Lever] = {}
    deep = seen.loose.deepest if seen.loose else seen.deepest
    if seen.loose or any(name in k.members for k in seen.knots):
        because = "no order of whole things is right" if seen.knots else "layers are put together without an order"
        of_knots = [way for k in seen.knots if name in k.members for way in _ways_of(survey, viewpoint, k, deep)]
        for way in of_knots or method_ways(survey, viewpoint, deep):
            found.setdefault(way.change.id, Lever("blended", way.change, way.predicts, because))
    for (nearer, farther), because in list(told.items())[:MOST_PAIRS]:
        if nearer == farther:
            ways = list(triangle_ways(survey, nearer))
        else:
            ways = list(order_ways(survey, viewpoint, nearer, farther, list(seen.cameras)))
        for way in ways:
            found.setdefault(way.change.id, Lever("blended", way.change, way.predicts, because))
    return list(found.values())


def _in_spot(survey: Survey, where: np.ndarray) -> bool:
    if survey.spot is None:
        return True
    x0, y0, x1, y1 = survey.spot
    return bool(where[y0:y1, x0:x1].any())


FAMILY = register(
    Family(
        "draw order",
        (
            Code(code=FLIP, words="Two blended things change places in the draw order as the camera moves, and the picture pops",
                 kind="Transparency", symptom=POPS.name, sheet="draw-order",
                 limit=f"pixels that change visibly: {LEAST_PIXELS}"),
            Code(code=WRONG, words="A blended thing is drawn over one that is nearer", kind="Transparency",
                 symptom=OVER.name, sheet="draw-order", limit=f"pixels off by it: {LEAST_PIXELS}"),
            Code(code=RANK, words="The draw rank of a blended thing puts it over one that is nearer, or under one that is farther",
                 kind="Transparency", symptom=OVER.name, sheet="draw-order", limit=f"pixels off by it: {LEAST_PIXELS}"),
            Code(code=NONE, words="Blended things cross or lie in a ring, so that no order of whole things is right", kind="Transparency",
                 symptom=OVER.name, sheet="draw-order", limit=f"pixels that the best order leaves off: {LEAST_PIXELS}"),
            Code(code=APPROXIMATE, words="Blended layers are put together without an order, and not as they lie", kind="Transparency",
                 symptom=OVER.name, sheet="draw-order", limit=f"pixels off by it: {LEAST_PIXELS}"),
            Code(code=INSIDE, words="Faces of one blended thing are drawn in the wrong order", kind="Transparency",
                 symptom=OVER.name, sheet="draw-order", limit=f"pixels off by it: {LEAST_PIXELS}"),
        ),
        observe,
        conclude,
        levers,
        symptoms=(OVER.name, POPS.name),
        beyond_the_frame=True,
    )
)  # fmt: skip
