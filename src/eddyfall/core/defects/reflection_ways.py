"""What brings reflections of what the frame does not show: a probe in the room, a planar mirror. As changes, with what they cost."""

from collections.abc import Iterator

import numpy as np

from eddyfall.core.defects.contract import Cost
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import SetupError
from eddyfall.core.frame.mirrors import planes_of
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.changes import Change, Operation, set_leaf
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.setup.sections.screen import Reflect
from eddyfall.core.shade.columns import ROUGH
from eddyfall.core.truth.reference.shown import SMOOTH, still_of
from eddyfall.core.truth.reflections.probed import surface_places
from eddyfall.core.truth.reflections.rooms import best_place, fitted_box

BYTES_A_TEXEL = 8
PROBE_SIZE = 128
FLAT_SHARE = 0.9  # of the pixels of a thing that lie in the plane that would mirror


def ways_around(survey: Survey, viewpoint: str, surfaces: list[str]) -> Iterator[tuple[Change, str, tuple[Cost, ...]]]:
    """(change, what it does, what it costs): a mirror for the first of the surfaces that is flat and smooth, a probe for all of them."""
    frame = survey.frame(viewpoint)
    numbers = {d.name: k for k, d in enumerate(frame.geometry.drawables)}
    yield from planar_mirror(survey, viewpoint, [numbers[s] for s in surfaces if s in numbers])
    y, x = np.nonzero(np.isin(frame.drawable, [numbers[s] for s in surfaces if s in numbers]))
    if not len(y):
        return
    some = np.unique(np.linspace(0, len(y) - 1, 512).astype(int))
    place, normal = surface_places(frame, x[some], y[some])
    met = still_of(survey.renderer, frame)
    resolved = survey.resolved(viewpoint)
    settings: dict[str, dict[str, object]] = {}
    if resolved[Reflect].enabled and resolved[Reflect].fallback != "probe":
        if resolved.leaves["reflect.fallback"].place:
            return  # a role or target says otherwise: that is not the probe's to change
        settings = {"reflect": {"fallback": "probe"}}
    name = next(n for n in ("room", *(f"room {k}" for k in range(2, 1000))) if n not in survey.build.setup.probes)
    title = f"a reflection probe in the room of {surfaces[0]}"
    change = placed(met, name, best_place(met, place, normal), PROBE_SIZE, title, settings=settings)
    yield change, "it holds what stands around, in a box fitted to the room", (bytes_of(PROBE_SIZE),)


def planar_mirror(survey: Survey, viewpoint: str, drawables: list[int]) -> Iterator[tuple[Change, str, tuple[Cost, ...]]]:
    """The same: a mirror for the first of some drawables that is flat and smooth."""
    frame = survey.frame(viewpoint)
    for k in drawables:
        d = frame.geometry.drawables[k]
        y, x = np.nonzero(frame.drawable == k)
        if not len(y) or any(m.node == d.node for m in survey.build.setup.mirrors.values()):
            continue
        rows = frame.buffers["surface"][y, x]
        if float(np.median(rows[:, ROUGH])) > SMOOTH:
            continue
        try:
            planes = planes_of(d.node, d.node, 1, survey.geometry)
        except SetupError:
            continue
        place, _ = surface_places(frame, x, y)
        inside = max(float((np.abs(p.off(place)) <= p.slack_m + 2e-3).mean()) for p in planes)
        if inside < FLAT_SHARE:
            continue
        name = next(n for n in (d.node, *(f"{d.node} {k}" for k in range(2, 1000))) if n not in survey.build.setup.mirrors)
        change = set_leaf(survey.build, ("mirrors", name, "node"), d.node, scope="project", title=f"a planar mirror on {d.node}")
        width, height = int(x.max() - x.min()) + 1, int(y.max() - y.min()) + 1
        yield change, "the frame from the mirrored eye, sharp", (Cost("pixels drawn again", width * height, "px"),)
        return


def placed(
    met: RayScene, name: str, place: np.ndarray, size: int, title: str, *, others: dict[str, dict[str, object]] | None = None,
    settings: dict[str, dict[str, object]] | None = None,
) -> Change:  # fmt: skip
    """A new probe at a place (3,), with a box fitted to the room around it, captured."""
    low, high = fitted_box(met, place)
    told = {"place_m": rounded(place), "low_m": rounded(low), "high_m": rounded(high), "size": size}
    params: dict[str, object] = {"probe": name, "set": told}
    if others:
        params["others"] = others
    if settings:
        params["settings"] = settings
    return Change(id=short_id(title), title=title, scope="project", operation=Operation(name="probes.place", params=params))


def bytes_of(size: int, instead_of: int | None = None) -> Cost:
    """What a probe's map takes with its levels, or so much more than another size."""

    def taken(edge: int) -> int:
        return sum((edge >> k) ** 2 for k in range(edge.bit_length())) * BYTES_A_TEXEL

    return Cost("memory", taken(size) - (taken(instead_of) if instead_of else 0), "bytes")


def rounded(place: np.ndarray) -> list[float]:
    """Metres to a tenth of a millimetre."""
    return [round(float(v), 4) for v in place]
