"""volume.order: boxes of mist that are drawn as one thing, before or after what really lies in them.

A volume's part before a sheet and its part behind it multiply to the whole, so each pixel tells exactly what is due: the same frame with
the volume drawn in parts. Held against that at the viewpoint and along its moves."""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.draw_order import ON_THE_WAY, POSES, moves_of
from eddyfall.core.defects.order_symptoms import OVER
from eddyfall.core.defects.order_ways import MIB, TABLE_SIZE
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.frame.render import Request
from eddyfall.core.layers.capture import captured, layers_of
from eddyfall.core.layers.pairs import LEAST_PIXELS, apart
from eddyfall.core.passes.blended import NODE_BYTES
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, set_leaf
from eddyfall.core.scene.setup.tables import VolumeSort

CODE = "volume.order"
WORDS: dict[VolumeSort, tuple[str, str]] = {
    "split": ("draw what lies in {} between its parts", "each pixel's layers have to be known before they are laid"),
    "object": ("sort {} as one thing", "right for what lies before or behind it, for nothing inside"),
    "none": ("draw {} over all that is sorted", "right for what lies behind it, for nothing before it"),
}


@dataclass(frozen=True)
class Off:
    """A volume at a viewpoint: its drawable; where it is visibly off there (h, w) bool; pixels of the whole frame, there or at the worst
    moment of a move; where that is ("": at the viewpoint); mean nits over these pixels, as drawn and as due; things whose layers are off
    with it; layers in a pixel, at the most."""

    drawable: str
    where: np.ndarray
    pixels: int
    at: str
    drawn: float
    due: float
    others: tuple[str, ...]
    deepest: int


def with_sort(build: Build, name: str, sort: VolumeSort) -> Build:
    """The build with a volume drawn otherwise."""
    entry = build.setup.volumes[name].model_copy(update={"sort": sort})
    return build.with_setup(build.setup.model_copy(update={"volumes": build.setup.volumes | {name: entry}}))


def observe(survey: Survey, viewpoint: str) -> dict[str, Off]:
    """Volumes that are off at a viewpoint, or on the moves that go from it."""
    found: dict[str, Off] = {}
    for name, volume in survey.build.setup.volumes.items():
        if not volume.on or volume.sort == "split":
            continue
        off = _off(survey, viewpoint, name, volume.node)
        if off is not None:
            found[name] = off
    return found


def _off(survey: Survey, viewpoint: str, name: str, node: str) -> Off | None:
    numbers = [i for i, d in enumerate(survey.geometry.things) if d.node == node]
    due = with_sort(survey.build, name, "split")
    asked = [("", 1.0, survey.request(viewpoint))]
    scale = survey.size[0] * survey.size[1] / (ON_THE_WAY[0] * ON_THE_WAY[1])
    for path in moves_of(survey, viewpoint):
        for t in np.linspace(path.keys[0].t_s, path.keys[-1].t_s, POSES):
            there = replace(survey.request(viewpoint), role=survey.role or path.role, camera=path.at(float(t)), size=ON_THE_WAY)
            asked.append((f"{path.name} at {t:.2f} s", scale, there))
    worst: tuple[int, str, float, Request, np.ndarray] | None = None
    mask = None
    for at, by, request in asked:
        frame = survey.renderer.frame(survey.build, request, "linear")
        if not any(i in frame.buffers["in_view"] for i in numbers):
            continue
        where = apart(frame, frame.linear, survey.renderer.frame(due, request, "linear").linear) > VISIBLE_DIFFERENCE
        mask = where if not at else mask
        n = int(where.sum() * by)
        if n >= LEAST_PIXELS and (worst is None or (n > worst[0] and worst[1] != "")):
            worst = (n, at, by, request, where)
    if worst is None:
        return None
    n, at, _, request, where = worst
    layers, right = captured(survey.renderer, survey.build, request), survey.renderer.frame(due, request, "linear")
    on = np.unique(layers.shown.drawable[where.ravel()[layers.pixel]])
    names = survey.geometry.drawables
    others = tuple(names[d].name for d in on if d not in numbers)
    deepest = int(np.diff(layers.shown.starts).max(initial=0))
    shape = survey.frame(viewpoint).pixels.shape
    return Off(
        names[numbers[0]].name, mask if mask is not None else np.zeros(shape, bool), n, at, float(layers.frame.linear[where].mean()),
        float(right.linear[where].mean()), others, deepest,
    )  # fmt: skip


def conclude(survey: Survey, seen: dict[str, dict[str, Off]]) -> list[Suspicion]:
    """One suspicion for each volume."""
    result = []
    for name in dict.fromkeys(n for of in seen.values() for n in of):
        there = {v: of[name] for v, of in seen.items() if name in of}
        view = max(there, key=lambda v: there[v].pixels)
        worst, place = there[view], f"along {there[view].at}" if there[view].at else f"at {view}"
        others = tuple(dict.fromkeys(o for off in there.values() for o in off.others))
        pixels = {v: int(off.where.sum()) for v, off in there.items()}
        result.append(
            Suspicion(
                code=CODE, cause_kind="setting", cause=f"volumes.{name}", subjects=(worst.drawable, *others), value=float(worst.pixels),
                limit=LEAST_PIXELS, title=f"{worst.drawable} is drawn as one thing, {', '.join(others) or 'another volume'} lies in it",
                evidence=(
                    Evidence(measure=f"pixels off what its parts would show, {place}", value=worst.pixels, unit="px", limit=LEAST_PIXELS,
                             picture=survey.painted(view, there[view].where)),
                    Evidence(measure="mean light of them as drawn", value=worst.drawn, unit="nit", source=f"{worst.due:.4g} nit is due"),
                ),
                pixels={v: n for v, n in pixels.items() if n}, regions={v: region_of(there[v].where) for v, n in pixels.items() if n},
                candidates=tuple(_ways(survey, name, max(off.deepest for off in there.values()))),
            )
        )  # fmt: skip
    return result


def sort_change(build: Build, name: str, sort: VolumeSort) -> Change:
    """A volume drawn otherwise."""
    node = build.setup.volumes[name].node
    return set_leaf(build, ("volumes", name, "sort"), sort, scope="node", title=WORDS[sort][0].format(node))


def _ways(survey: Survey, name: str, deepest: int) -> list[Candidate]:
    (width, height), now = TABLE_SIZE, survey.build.setup.volumes[name].sort
    megabytes = NODE_BYTES * width * height * deepest / MIB
    costs = {"split": (Cost(f"memory at {width} x {height}", megabytes, "MiB"),)}
    return [
        Candidate(change=sort_change(survey.build, name, sort), predicts=WORDS[sort][1], costs=costs.get(sort, ()))
        for sort in WORDS
        if sort != now
    ]


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Other ways to draw volumes that lie on the spot with the subject, or that it is."""
    nodes = {survey.geometry.drawables[subject].node}
    if survey.spot is not None:
        frame = survey.frame(viewpoint, crop=survey.spot)
        nodes |= {survey.geometry.drawables[d].node for d in np.unique(layers_of(frame).shown.drawable)}
    found = []
    for name, volume in survey.build.setup.volumes.items():
        if volume.on and volume.node in nodes:
            found += [
                Lever("blended", w.change, w.predicts, f"{volume.node} is drawn as {volume.sort}") for w in _ways(survey, name, 2)
            ]
    return found


FAMILY = register(
    Family(
        "order in volumes",
        (
            Code(code=CODE, words="A volume is drawn as one thing, before or after what lies in it", kind="Transparency",
                 symptom=OVER.name, sheet="draw-order",
                 limit=f"pixels that are off by more than CIEDE2000 {VISIBLE_DIFFERENCE:g}: {LEAST_PIXELS}"),
        ),
        observe,
        conclude,
        levers,
        beyond_the_frame=True,
    )
)  # fmt: skip
