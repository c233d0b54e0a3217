"""All materials of a build: each alone, and in place at viewpoints, with the rivals tried where one does not answer."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np

from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.response.alone import BROKEN, WEAK, Alone, alone
from eddyfall.core.truth.response.in_place import InPlace, in_place, shown_of, usual_answer
from eddyfall.core.truth.response.rivals import Tried, tried

Verdict = Literal["broken", "weak", "lacks light", "answers"]
VERDICTS = get_args(Verdict)


@dataclass(frozen=True)
class Answer:
    """A material: alone, and where it is seen, the worst first, with what was tried there if it does not answer; usual: R of what stands
    around that worst one."""

    alone: Alone
    places: tuple[tuple[InPlace, Tried | None], ...]
    usual: float

    @property
    def verdict(self) -> Verdict:
        """Broken or weak by a fault of its own, alone or in place; or that it lacks what light is due around it; or that it answers."""
        own = self.alone.answer
        for place, told in self.places:
            if told is not None and any(r.own for cause in told.causes for r in cause.rivals):
                own = min(own, place.answer / self.usual)
        if own < WEAK:
            return "broken" if own < BROKEN else "weak"
        return "lacks light" if any(told is not None for _, told in self.places) else "answers"

    @property
    def worst(self) -> float:
        """The least of its answers."""
        return min([self.alone.answer, *(p.answer for p, _ in self.places)])


def answers(
    renderer: Renderer, build: Build, viewpoints: Sequence[str], target: str | None = None, materials: Sequence[str] | None = None,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> list[Answer]:  # fmt: skip
    """How materials answer (None: all that are seen from a viewpoint), the weakest first. RequestError for names that do not exist."""
    drawables = renderer.geometry(build).drawables
    keys, places, usual = build.scene.material_keys, dict[str, list[InPlace]](), dict[str, float]()
    for number, viewpoint in enumerate(viewpoints):
        progress(f"light from around at {viewpoint}", number / (2 * len(viewpoints)))
        request = Request(viewpoint, DEFAULT_SIZE, None, target)
        shown = shown_of(renderer.frame(build, request, "linear"))
        usual[viewpoint] = usual_answer(renderer, build, request, shown)
        wanted = [
            int(d)
            for d in np.flatnonzero((shown.pixels > 0) & (shown.around >= 0))
            if drawables[d].material >= 0 and (materials is None or keys[drawables[d].material] in materials)
        ]
        for found in in_place(renderer, build, request, wanted):
            places.setdefault(keys[drawables[found.drawable].material], []).append(found)
    found_all = []
    wanted_keys = [k for k in keys if k in places] if materials is None else list(materials)
    for number, key in enumerate(wanted_keys):
        progress(f"{key} alone", 0.5 + number / (2 * max(len(wanted_keys), 1)))
        mine, told = sorted(places.get(key, []), key=lambda p: p.answer), dict[int, Tried]()
        by_itself = alone(renderer, build, key)
        if mine and mine[0].answer < WEAK * usual[mine[0].viewpoint]:
            request = Request(mine[0].viewpoint, DEFAULT_SIZE, None, target)
            told[0] = tried(renderer, build, request, mine[0], WEAK * usual[mine[0].viewpoint], progress)
        around = usual[mine[0].viewpoint] if mine else 1.0
        found_all.append(Answer(by_itself, tuple((p, told.get(k)) for k, p in enumerate(mine)), around))
    return sorted(found_all, key=lambda a: (VERDICTS.index(a.verdict), a.worst))
