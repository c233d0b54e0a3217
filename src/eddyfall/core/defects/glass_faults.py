"""glass.layer-lost, glass.chain-broken, order.stage-mismatch: what is not seen through what lets light through, and glass that lets none.

What is lost is measured by laying every layer of a pixel in its true order, with it and without it; whether glass lets light through by two
plates behind it. A broken chain is told by its links at pixels of the thing itself."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.glass_symptoms import VANISHES, WRONGLY, middle
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, by_cause, region_of
from eddyfall.core.frame.render import Frame
from eddyfall.core.layers.capture import panes_in, shows
from eddyfall.core.layers.chain import Chain, chain_at, meant
from eddyfall.core.layers.glass_here import Fix, mended
from eddyfall.core.layers.links import Link
from eddyfall.core.layers.lost import OFF, Lost, lost_in
from eddyfall.core.layers.pairs import LEAST_PIXELS
from eddyfall.core.layers.plates import plates
from eddyfall.core.passes.refract import Met
from eddyfall.core.scene.changes import Change, set_leaf, set_leaves, set_resolved
from eddyfall.core.scene.setup.sections.refract import MOST_LAYERS, Refract

LOST, BROKEN, STAGE = "glass.layer-lost", "glass.chain-broken", "order.stage-mismatch"
LEAST_KEPT = 0.1  # of what real glass keeps (ours, changeable)
INSIDE = "something behind in it"  # what is lost has a finding of its own
DIRT, DIRTY = 0.15, 0.3  # roughness that a remedy adds; share of light that another leaves
ASKED = (0.5, 0.1, 0.3, 0.7, 0.9)  # pixels of a thing, by their place among all of it, at which its chain is asked for


@dataclass(frozen=True)
class Shut:
    """Things of a material that is meant to let light through and does not: their names, where they lie (h, w) bool, the chain at one of
    their pixels, shares of what is behind that are kept there on the mean, and that real glass would keep."""

    things: tuple[str, ...]
    where: np.ndarray
    chain: Chain
    kept: float
    due: float

    @property
    def broken(self) -> tuple[Link, ...]:
        """Links that do not hold, but for what is lost behind it, which is told by itself."""
        return tuple(link for link in self.chain.broken if link.name != INSIDE)


@dataclass(frozen=True)
class Seen:
    """At a viewpoint: by name and way what is lost, with the names of panes before it; by material what is shut."""

    lost: dict[tuple[str, str], tuple[Lost, tuple[str, ...]]]
    shut: dict[str, Shut]


def observe(survey: Survey, viewpoint: str) -> Seen | None:
    """What is lost and what is shut in a viewpoint's frame."""
    build = survey.build
    wanted = meant(build)
    state = survey.stage(viewpoint).state
    if not any(wanted) and not state.refracts.any():
        return None
    request, names = survey.request(viewpoint), [d.name for d in survey.geometry.drawables]
    lost: dict[tuple[str, str], tuple[Lost, tuple[str, ...]]] = {
        (names[one.drawable], one.how): (one, tuple(dict.fromkeys(names[p] for p in one.panes)))
        for one in lost_in(survey.renderer, build, request)
        if (one.all_pixels if survey.masked else one.pixels) >= LEAST_PIXELS
    }
    return Seen(lost, shut_at(survey, viewpoint))


def shut_at(survey: Survey, viewpoint: str) -> dict[str, Shut]:
    """By material, what is in sight of a viewpoint and meant to let light through, and does not."""
    shut: dict[str, Shut] = {}
    if not any(meant(survey.build)):
        return shut
    frame = survey.frame(viewpoint)
    panes = panes_in(frame)
    for material in np.flatnonzero(meant(survey.build)):
        things = [i for i, d in enumerate(survey.geometry.things) if d.material == material]
        found = _shut(survey, viewpoint, frame, panes, things)
        if found is not None:
            shut[survey.build.scene.material_keys[material]] = found
    return shut


def _shut(survey: Survey, viewpoint: str, frame: Frame, panes: Met | None, things: list[int]) -> Shut | None:
    where = shows(frame, things, panes)
    if where.sum() < LEAST_PIXELS:
        return None
    pixels, names = np.flatnonzero(where), [d.name for d in survey.geometry.drawables]
    chains = []
    for share in ASKED:
        y, x = divmod(int(pixels[int(share * (len(pixels) - 1))]), frame.pixels.shape[1])
        subject = next((n for n in (names[i] for i in things) if _lies(survey, viewpoint, n, x, y)), None)
        if subject is not None:
            chains.append(chain_at(survey.renderer, survey.build, survey.request(viewpoint), x, y, subject))
    broken = [c for c in chains if any(link.name != INSIDE for link in c.broken)]
    if 2 * len(broken) <= len(chains):
        return None
    k = plates(survey.renderer, survey.build, survey.request(viewpoint), [i for i in things if i in frame.buffers["in_view"]]).k
    kept, due = float(k[where].mean()), float(np.mean([c.due for c in chains]))
    if kept >= LEAST_KEPT * due:
        return None
    there = tuple(dict.fromkeys(names[i] for i in things if i in frame.buffers["in_view"]))
    return Shut(there, where, broken[0], kept, due)


def _lies(survey: Survey, viewpoint: str, name: str, x: int, y: int) -> bool:
    front = survey.frame(viewpoint).front[y, x]
    number = survey.geometry.names[name]
    return bool(front == number or survey.stage(viewpoint).state.blended[number])


def conclude(survey: Survey, seen: dict[str, Seen | None]) -> list[Suspicion]:
    """One suspicion for each thing that is lost in a way, and for each material that is shut."""
    there = {v: s for v, s in seen.items() if s is not None}
    result = []
    for (name, how), found in by_cause({v: s.lost for v, s in there.items()}).items():
        view = max(found, key=lambda v: found[v][0].pixels)
        one, panes = found[view]
        before = " and ".join(panes)
        over, deep = how == "drawn over it", max(f[0].layers for f in found.values())
        title = f"{name} is drawn over {before}, which lies before it" if over else f"{_behind(name, panes)}: {how}"
        result.append(
            Suspicion(
                code=STAGE if over else LOST, cause_kind="thing", cause=name, title=title, subjects=tuple(dict.fromkeys((name, *panes))),
                value=float(one.pixels), limit=LEAST_PIXELS,
                evidence=(
                    Evidence(measure=f"pixels that are off at {view}", value=one.pixels, unit="px", limit=LEAST_PIXELS,
                             source=f"off by more than {OFF:.0%} of the light due, or CIEDE2000 above 2",
                             picture=survey.painted(view, one.where)),
                    Evidence(measure="light there, more than is due", value=one.brighter, unit="share"),
                    Evidence(measure=f"pixels in which {name} is lost", value=one.all_pixels, unit="px"),
                ),
                pixels={v: f[0].pixels for v, f in found.items()},
                regions={v: region_of(f[0].where) for v, f in found.items()},
                candidates=tuple(
                    Candidate(change=c, predicts=p, costs=costs) for c, p, costs in _lost_ways(survey, view, name, how, panes, deep)
                ),
                facts={"panes": list(panes), "how": how, "nit_px": one.nit_px}, masked=one.pixels < LEAST_PIXELS,
            )
        )  # fmt: skip
    for material, shut in by_cause({v: s.shut for v, s in there.items()}).items():
        view = max(shut, key=lambda v: int(shut[v].where.sum()))
        told = shut[view]
        broken = told.broken
        fixes = [link.fix for link in broken if link.fix is not None]
        pixels = {v: int(s.where.sum()) for v, s in shut.items()}
        result.append(
            Suspicion(
                code=BROKEN, cause_kind="material", cause=material,
                title=f"{material} lets no light through: {' and '.join(link.name for link in broken)}",
                subjects=told.things, value=1 - told.kept / told.due, limit=1 - LEAST_KEPT,
                evidence=(
                    Evidence(measure=f"share of what is behind that is kept at {view}, by two plates", value=told.kept, unit="share",
                             limit=LEAST_KEPT * told.due, at_least=True, source=f"{LEAST_KEPT:g} of what real glass of its kind keeps",
                             picture=survey.painted(view, told.where)),
                    Evidence(measure="share that real glass of its kind keeps", value=told.due, unit="share", predicted=True,
                             source="Fresnel's equations with all reflections inside"),
                    Evidence(measure="links of its chain that do not hold", value=len(broken), unit="links", limit=0,
                             source="; ".join(f"{link.name}: {link.value}, needs {link.need} ({link.decides})" for link in broken)),
                ),
                pixels=pixels, regions={v: region_of(s.where) for v, s in shut.items()},
                candidates=_chain_ways(survey, fixes, len(broken)),
                facts={"broken": [link.name for link in broken], "at": list(told.chain.pixel)},
            )
        )  # fmt: skip
    return result


def _chain_ways(survey: Survey, fixes: list[Fix], broken: int) -> tuple[Candidate, ...]:
    """All that is broken put right at once: a link alone is of no use while another is broken."""
    if len(fixes) < broken:
        return ()
    return (Candidate(change=mended(survey.build, fixes), predicts="what is behind it is seen through it"),)


Way = tuple[Change, str, tuple[Cost, ...]]


def _behind(name: str, panes: tuple[str, ...]) -> str:
    if panes == (name,):
        return f"the far side of {name} is not seen through its near side"
    return f"{name} is not seen through {' and '.join(panes)}"


def _lost_ways(survey: Survey, viewpoint: str, name: str, how: str, panes: tuple[str, ...], layers: int) -> list[Way]:
    """What may bring a lost thing back, or only hide that it is lost; layers: how many would hold it."""
    build, resolved, number = survey.build, survey.resolved(viewpoint), survey.geometry.names
    keys = build.scene.material_keys

    def key(thing: str) -> str | None:
        material = survey.geometry.drawables[number[thing]].material
        return keys[material] if material >= 0 else None

    ways: list[Way] = []
    before = [k for k in dict.fromkeys(key(p) for p in panes) if k is not None]
    if how == "in no copy":
        now, deep = resolved[Refract].layers, min(layers, MOST_LAYERS)
        if now < deep:
            ways.append((
                set_resolved(build, resolved, {"refract.layers": deep}, title=f"draw {deep} layers that let light through"),
                "the copy is taken anew for each layer", (Cost("copies of the picture for each frame", deep - now, "copies"),),
            ))  # fmt: skip
        mine = key(name)
        if mine is not None and panes != (name,):
            change = set_leaf(
                build,
                ("materials", mine, "inside"),
                "blend",
                scope="material",
                title=f"lay {mine} straight, before the copy is taken",
            )
            ways.append((change, "it is in the copy, and bends nothing itself", ()))
    else:
        hides = how == "drawn over it"
        leaves: dict[tuple[str, ...], object] = {("materials", k, "hides"): hides for k in before}
        if leaves:
            title = f"let {' and '.join(before)} {'hide' if hides else 'not hide'} what is blended behind"
            says = "what is blended behind it is hidden" if hides else "what is blended is drawn over it, as if it were before it"
            ways.append((set_leaves(build, leaves, scope="material", title=title), says, ()))
    if before and how != "drawn over it":
        rough: dict[tuple[str, ...], object] = {("materials", k, "rougher"): DIRT for k in before}
        title = f"roughen {' and '.join(before)} by {DIRT:g}"
        ways.append((set_leaves(build, rough, scope="material", title=title), "less is seen of what is lost", ()))
        dirty: dict[tuple[str, ...], object] = {("materials", k, "transmission"): DIRTY for k in before}
        title = f"dirty {' and '.join(before)}: {DIRTY:.0%} goes through"
        ways.append((set_leaves(build, dirty, scope="material", title=title), "less is seen of what is lost", ()))
    return ways


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """What would mend the subject's chain, link by link and all at once; what would bring back what it loses, or it itself."""
    if not any(meant(survey.build)) and not survey.stage(viewpoint).state.refracts.any():
        return []
    name, result = survey.geometry.drawables[subject].name, []
    if meant(survey.build)[survey.geometry.drawables[subject].material]:
        where = shows(survey.frame(viewpoint), [subject])
        if where.any():
            told = chain_at(survey.renderer, survey.build, survey.request(viewpoint), *middle(where), subject=name)
            fixes = [link.fix for link in told.broken if link.fix is not None and link.name != INSIDE]
            for several in ([fixes] if len(fixes) > 1 else []) + [[fix] for fix in fixes]:
                broken = ", ".join(link.name for link in told.broken if link.fix in several)
                result.append(
                    Lever("refract", mended(survey.build, several), "what is behind it is seen through it", f"broken: {broken}")
                )
    names = [d.name for d in survey.geometry.drawables]
    for one in lost_in(survey.renderer, survey.build, survey.request(viewpoint)):
        panes = tuple(dict.fromkeys(names[p] for p in one.panes))
        if one.pixels >= LEAST_PIXELS and name in (names[one.drawable], *panes):
            because = f"{names[one.drawable]} is lost behind {' and '.join(panes)}: {one.how}"
            for change, predicts, _ in _lost_ways(survey, viewpoint, names[one.drawable], one.how, panes, one.layers):
                result.append(Lever("refract", change, predicts, because))
    return result


FAMILY = register(
    Family(
        "glass",
        (
            Code(code=LOST, words="What lies behind glass is not seen in it", kind="Transparency", symptom=VANISHES.name,
                 sheet="draw-order", limit=f"{LEAST_PIXELS} px off by more than {OFF:.0%} of the light due, or visibly"),
            Code(code=BROKEN, words="Glass lets no light through", kind="Transparency", symptom=WRONGLY.name, sheet="draw-order",
                 limit=f"{LEAST_KEPT:g} of what real glass of its kind keeps"),
            Code(code=STAGE, words="A blended thing behind glass is drawn over it", kind="Transparency", symptom=VANISHES.name,
                 sheet="draw-order", limit=f"{LEAST_PIXELS} px off by more than {OFF:.0%} of the light due, or visibly"),
        ),
        observe,
        conclude,
        levers,
        (VANISHES.name, WRONGLY.name),
    )
)  # fmt: skip
