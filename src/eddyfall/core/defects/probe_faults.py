"""reflect.probe, reflect.leak, reflect.stale, reflect.gloss, reflect.seam: reflection probes that show what is not there.

Each is measured at the places that take from the probe: against where things truly are (parallax), against what the probe can see at all
(leaks), against what it would show if it were captured now (stale), against what coats blur by themselves (gloss), and where it gives way
to another (seams)."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.bake.captures.capture import capture, fits
from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.reflection_ways import bytes_of, placed, rounded
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, set_leaves
from eddyfall.core.scene.names import short_id
from eddyfall.core.shade.columns import NORMAL_XYZ
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.shown import still_of
from eddyfall.core.truth.reflections.probed import Places, Probed, places_of, probe_names, probed, stops_of
from eddyfall.core.truth.reflections.rooms import best_place, fitted_box

LIMIT_STOPS = 0.25  # of the surfaces that take from a probe, on the mean (ours, changeable)
LIMIT_PX = 8.0  # that a texel may look wide where coats are sharper than it (ours, changeable)
LEAST_SHARE = 0.001  # of the frame that takes from a probe, for it to be judged
WRONG_SHARE = 0.05  # of its places, that it may show another thing than is due
SHARPER = 2.0  # times the width of what its coat blurs that a texel may be
MOST_SIZE = 512


@dataclass(frozen=True)
class Seen:
    """What is wrong with a probe at a viewpoint: code, of the probe, value and limit; why: more of it in words; pixels, region (x, y,
    width, height) px and picture of it."""

    code: str
    probe: Probed
    value: float
    limit: float
    why: str = ""
    pixels: int = 0
    region: tuple[int, int, int, int] = (0, 0, 1, 1)
    picture: np.ndarray | None = None


def observe(survey: Survey, viewpoint: str) -> list[Seen]:
    """What is wrong with probes that the frame takes from."""
    if not survey.build.setup.probes:
        return []
    found: list[Seen] = []
    request = survey.request(viewpoint)
    for p in probed(survey.renderer, survey.build, request):
        if p.pixels < LEAST_SHARE:
            continue
        found += judged(p)
        stale = _stale(survey, viewpoint, p)
        if stale is not None:
            found.append(stale)
    return [_shown(survey, viewpoint, s) for s in found]


def judged(p: Probed) -> list[Seen]:
    """What is wrong with a probe by what was measured of it."""
    found = []
    if p.parallax_stops > LIMIT_STOPS and p.wrong > WRONG_SHARE:
        found.append(Seen("reflect.probe", p, p.parallax_stops, LIMIT_STOPS))
    if p.leak_stops > LIMIT_STOPS and p.unseen > WRONG_SHARE:
        found.append(Seen("reflect.leak", p, p.leak_stops, LIMIT_STOPS))
    if p.texel_px > LIMIT_PX and p.blurs > SHARPER:
        found.append(Seen("reflect.gloss", p, p.texel_px, LIMIT_PX))
    if p.seam_stops > LIMIT_STOPS:
        found.append(Seen("reflect.seam", p, p.seam_stops, LIMIT_STOPS))
    return found


def _stale(survey: Survey, viewpoint: str, p: Probed) -> Seen | None:
    """How far off a probe is that no longer fits: the frame by it as it is, and captured anew."""
    light_set = survey.resolved(viewpoint).light_set
    fit = next((f for f in fits(survey.build, survey.geometry, survey.renderer, (p.name,)) if f.light_set == light_set), None)
    if fit is None or fit.fresh or fit.missing:
        return None
    now, _ = capture(survey.build, {(p.name, light_set)}, renderer=survey.renderer)
    before, after = survey.frame(viewpoint), survey.on(now).frame(viewpoint)
    names = probe_names(survey.renderer, survey.build, before)
    at = places_of(before)
    if at is None or p.name not in names:
        return None
    at = at.of(at.share[:, names.index(p.name)] > 0)
    change = np.abs((after.linear[at.y, at.x] - before.linear[at.y, at.x]).astype(np.float64) @ REC709_LUMA)
    stops = stops_of(float(change.sum()), float(at.drawn.sum()))
    return Seen("reflect.stale", p, stops, LIMIT_STOPS, "; ".join(fit.why)) if stops > LIMIT_STOPS else None


def _shown(survey: Survey, viewpoint: str, s: Seen) -> Seen:
    """The same with the pixels it concerns."""
    at = _places(survey, viewpoint, s)
    frame = survey.frame(viewpoint)
    drawables = np.unique(at.drawable) if at is not None else np.zeros(0, int)
    mask = np.isin(frame.drawable, drawables) & (frame.drawable >= 0)
    if s.code == "reflect.leak" and s.probe.leak_at is not None:
        x0, y0, x1, y1 = s.probe.leak_at
        inside = np.zeros_like(mask)
        inside[y0:y1, x0:x1] = True
        mask &= inside
    if not mask.any():
        return s
    return replace(s, pixels=int(mask.sum()), region=region_of(mask), picture=survey.painted(viewpoint, mask))


def _places(survey: Survey, viewpoint: str, s: Seen) -> Places | None:
    frame = survey.frame(viewpoint)
    at = places_of(frame)
    if at is None:
        return None
    names = probe_names(survey.renderer, survey.build, frame)
    at = at.of(at.share[:, names.index(s.probe.name)] > 0)
    if s.code != "reflect.leak":
        return at
    onto = [k for k, d in enumerate(frame.geometry.drawables) if d.name in s.probe.leaks_onto]
    return at.of(np.isin(at.drawable, onto))


def conclude(survey: Survey, seen: dict[str, list[Seen]]) -> list[Suspicion]:
    """One suspicion for each fault of each probe."""
    faults = sorted({(s.code, s.probe.name) for found in seen.values() for s in found})
    return [_suspicion(survey, code, name, seen) for code, name in faults]


def _suspicion(survey: Survey, code: str, name: str, seen: dict[str, list[Seen]]) -> Suspicion:
    where = {v: s for v, found in seen.items() for s in found if (s.code, s.probe.name) == (code, name)}
    view = max(where, key=lambda v: where[v].value)
    worst = where[view]
    p = worst.probe
    subjects = p.leaks_onto if code == "reflect.leak" else p.surfaces
    unit = "px" if code == "reflect.gloss" else "stops"
    return Suspicion(
        code=code, cause_kind="probe", cause=name, title=_title(code, name, worst, view), subjects=subjects[:8], value=worst.value,
        limit=worst.limit,
        evidence=(
            Evidence(measure=f"{MEASURES[code]} at {view}", value=worst.value, unit=unit, limit=worst.limit, picture=worst.picture),
            *_evidence(p, view),
        ),
        pixels={v: s.pixels for v, s in where.items()}, regions={v: s.region for v, s in where.items()},
        candidates=tuple(_candidates(survey, view, worst)) if survey.pictures else (), facts={"probe": name, "viewpoint": view},
    )  # fmt: skip


MEASURES = {
    "reflect.probe": "how far off what it shows is drawn",
    "reflect.leak": "how far off places are drawn that it does not see",
    "reflect.stale": "how far off what it shows is from what it would show now",
    "reflect.gloss": "how wide its texels look",
    "reflect.seam": "step where it gives way",
}


def _title(code: str, name: str, s: Seen, view: str) -> str:
    p = s.probe
    match code:
        case "reflect.probe":
            return f"Probe {name} shows things {p.parallax_px[0]:.0f} px off in {p.surfaces[0]} at {view}"
        case "reflect.leak":
            return f"Probe {name} lights {p.leaks_onto[0]} at {view}, which it does not see"
        case "reflect.stale":
            return f"Probe {name} shows what is no longer so: {s.why}"
        case "reflect.gloss":
            return f"Texels of probe {name} look {p.texel_px:.0f} px wide in {p.surfaces[0]} at {view}"
    to = f"probe {p.seam_with}" if p.seam_with else "what lights it otherwise"
    return f"Probe {name} gives way to {to} with a step of {p.seam_stops:.2f} stops at {view}"


def _evidence(p: Probed, view: str) -> Iterator[Evidence]:
    yield Evidence(measure=f"share of the frame that takes from it at {view}", value=p.pixels, unit="share")
    yield Evidence(measure="parallax, half of its places are off by less", value=p.parallax_px[0], unit="px")
    yield Evidence(measure="parallax, nineteen in twenty are off by less", value=p.parallax_px[1], unit="px")
    yield Evidence(measure="share of its places at which it shows another thing than is due", value=p.wrong, unit="share")
    yield Evidence(measure="share of its light that goes to places it does not see", value=p.unseen, unit="share")


def _candidates(survey: Survey, view: str, s: Seen) -> Iterator[Candidate]:
    for change, predicts, costs in ways(survey, view, s):
        yield Candidate(change=change, predicts=predicts, costs=costs)


def ways(survey: Survey, view: str, s: Seen) -> Iterator[tuple[Change, str, tuple[Cost, ...]]]:
    """(change, what it does, what it costs) of what may cure a fault of a probe."""
    name = s.probe.name
    probe = survey.build.setup.probes[name]
    frame = survey.frame(view)
    met = still_of(survey.renderer, frame)
    low, high = fitted_box(met, np.array(probe.place_m))
    fitted = {"low_m": rounded(low), "high_m": rounded(high)}
    if s.code in ("reflect.probe", "reflect.leak"):
        leaves: dict[tuple[str, ...], Any] = {(name, leaf): value for leaf, value in {**fitted, "boxed": True}.items()}
        change = probe_patch(survey.build, leaves, f"fit the box of probe {name} to its room")
        yield change, "what it shows lies where rays from it meet the room's walls", ()
    if s.code == "reflect.probe":
        if not probe.boxed:
            yield (
                probe_patch(survey.build, {(name, "boxed"): True}, f"put what probe {name} shows onto its box"),
                "parallax is made up for",
                (),
            )
    elif s.code == "reflect.leak":
        yield (
            probe_patch(survey.build, {(name, "sees"): True}, f"probe {name} leaves alone what it does not see"),
            "by the distances it captured, as far as they tell", (),
        )  # fmt: skip
        at = _places(survey, view, s)
        if at is not None and len(at.x):
            place = best_place(met, at.place, at.rows[:, NORMAL_XYZ].astype(np.float64))
            new = next(n for n in (f"{name} {k}" for k in range(2, 1000)) if n not in survey.build.setup.probes)
            yield (
                placed(met, new, place, probe.size, f"a probe of its own where {name} does not see",
                       others={name: {**fitted, "boxed": True}}),
                "it is captured where it sees these surfaces; both boxes are fitted to their rooms", (bytes_of(probe.size),),
            )  # fmt: skip
    elif s.code == "reflect.stale":
        yield captured_anew(name), "it shows what is there now", ()
    elif s.code == "reflect.gloss":
        size = probe.size
        while size < MOST_SIZE and s.value * probe.size / size > LIMIT_PX:
            size *= 2  # type: ignore[assignment]
        if size > probe.size:
            change = Change(
                id=short_id(f"probe {name} {size}"), title=f"capture probe {name} with {size} x {size} texels", scope="project",
                operation=Operation(name="probes.place", params={"probe": name, "set": {"size": size}}),
            )  # fmt: skip
            yield change, f"its texels look {s.value * probe.size / size:.1f} px wide", (bytes_of(size, probe.size),)
    elif s.code == "reflect.seam":
        yield from _blended(survey.build, name, s.probe.seam_with)


def _blended(build: Build, name: str, other: str) -> Iterator[tuple[Change, str, tuple[Cost, ...]]]:
    """Boxes that reach over each other, and give way over that."""
    probes = build.setup.probes
    size = min(h - low for n in (name, other or name) for low, h in zip(probes[n].low_m, probes[n].high_m))
    for over in (0.5, 1.0, 2.0):
        blend = round(min(over, size / 2), 3)
        title = f"probe {name} gives way over {2 * blend:g} m"
        leaves: dict[tuple[str, ...], Any] = {}
        for n in dict.fromkeys((name, other or name)):
            p = probes[n]
            leaves[n, "low_m"] = [round(v - blend, 4) for v in p.low_m]
            leaves[n, "high_m"] = [round(v + blend, 4) for v in p.high_m]
            leaves[n, "blend_m"] = 2 * blend
        yield probe_patch(build, leaves, title), "from one to the other over some metres", ()


def probe_patch(build: Build, leaves: dict[tuple[str, ...], Any], title: str) -> Change:
    """A change of some leaves of probes, (probe, leaf) -> value; told apart from others of the same leaves by its title."""
    change = set_leaves(build, {("probes", *path): value for path, value in leaves.items()}, scope="project", title=title)
    return change.model_copy(update={"id": short_id(title)})


def captured_anew(name: str) -> Change:
    """A change that captures a probe as things are now."""
    title = f"capture probe {name} anew"
    return Change(
        id=short_id(title), title=title, scope="project", operation=Operation(name="probes.capture", params={"probes": [name]})
    )


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Ways of the probes that the subject takes from."""
    if not survey.build.setup.probes:
        return []
    name = survey.geometry.drawables[subject].name
    found = []
    for p in probed(survey.renderer, survey.build, survey.request(viewpoint)):
        if name not in p.surfaces:
            continue
        for code in CODES:
            for change, predicts, _ in ways(survey, viewpoint, Seen(code, p, p.texel_px, LIMIT_PX)):
                found.append(
                    Lever(pass_name="indirect", change=change, predicts=predicts, because=f"it takes from probe {p.name}")
                )
    return list({lever.change.id: lever for lever in found}.values())


def _code(kind: str, words: str, limit: str, symptom: str = "wrong reflection", ends_with: str = "") -> Code:
    return Code(
        code=f"reflect.{kind}", words=words, kind="Reflection", sheet="light", symptom=symptom, limit=limit, ends_with=ends_with
    )  # fmt: skip


OF_SURFACES = f"stops that surfaces which take from it are off on the mean: {LIMIT_STOPS:g}"
CODES = tuple(MEASURES)
FAMILY = register(
    Family(
        "probes",
        (
            _code("probe", "A reflection probe shows things where they are not", OF_SURFACES),
            _code("leak", "A reflection probe lights what it does not see", OF_SURFACES),
            _code("stale", "A reflection probe shows what is no longer so", OF_SURFACES, "too dark", "they are captured again"),
            _code("gloss", "A reflection probe is coarser than what mirrors it", f"px that a texel may look wide: {LIMIT_PX:g}"),
            _code("seam", "Reflection probes give way to each other with a step", f"stops of the step: {LIMIT_STOPS:g}"),
        ),
        observe,
        conclude,
        levers,
        symptoms=("wrong reflection", "missing reflection", "too dark", "too bright"),
    )
)
