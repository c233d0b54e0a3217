"""bounce.off-screen, bounce.missed, reflect.off-screen, reflect.missed: light that a pass loses which has the frame alone.

Told by rays whose true end is known: what is not on the frame no dial of the pass can find; what is on it, dials can. Judged surface by
surface, and only as far as the surface really is drawn darker than is due."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.mirror_gaps import GAPS, gap_suspicions, mirror_gaps, mirror_levers
from eddyfall.core.defects.moving_symptom import sway_drift
from eddyfall.core.defects.reflection_ways import ways_around
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.frame.held import held_at
from eddyfall.core.scene.changes import Change, apply_change, set_resolved
from eddyfall.core.scene.setup.sections.screen import Bounce, Marched, Reflect
from eddyfall.core.truth.reference.answers import FELL_BACK, MISSED, WRONG
from eddyfall.core.truth.reference.classes import CLASSES, HIDDEN, NOT_COPIED, OFF, ON, OTHER_SIDE, SKY
from eddyfall.core.truth.reference.where import Where, where_light

LIMIT_STOPS = 0.25  # of a surface, that it may be drawn darker for what is not found (ours, changeable)
PLACES, SAMPLES, BOUNCES = 1024, 16, 4
LEAST_PLACES = 24  # at which a surface is seen, to be judged
MOST_STOPS = 10.0  # where nothing is left
ENOUGH_OF_MARGIN = 0.9  # of what the widest margin would hold
SECTIONS: dict[str, type[Bounce] | type[Reflect]] = {"bounce": Bounce, "reflect": Reflect}
WORDS = {"bounce": "bounced light", "reflect": "its reflection"}
A_MARGIN = "a margin as wide as can be"
# The most that each kind of remedy has of what is lost, by where it is.
REMEDIES = (
    ("dials alone", ()),
    (A_MARGIN, (CLASSES[OFF],)),
    ("a second layer of depth", (CLASSES[HIDDEN], CLASSES[OTHER_SIDE])),
    ("a later copy", (CLASSES[NOT_COPIED],)),
    ("rays into the world, a probe, a bake", CLASSES),
)
NOT_ON = [k for k in range(len(CLASSES)) if k not in (ON, SKY)]


@dataclass(frozen=True)
class Lost:
    """What a pass loses at a viewpoint. surfaces: (name, stops darker) of those beyond the limit, first what loses most of the frame's
    light; of that one nits by class, and ceilings: (what, stops that it would still be darker) [predictions]; margin: px that hold most of
    what lies beside the frame, 0: that would be too little; pixels, region, picture of all of them."""

    surfaces: tuple[tuple[str, float], ...]
    by_class: tuple[tuple[str, float], ...]
    margin_px: int
    ceilings: tuple[tuple[str, float], ...]
    pixels: int
    region: tuple[int, int, int, int]
    picture: np.ndarray | None


def observe(survey: Survey, viewpoint: str) -> dict[str, Any]:
    """By code: what is lost there; what mirrors leave out."""
    gaps = mirror_gaps(survey, viewpoint)
    return {**_lost_by_code(survey, viewpoint), **({GAPS: gaps} if gaps else {})}


def _lost_by_code(survey: Survey, viewpoint: str) -> dict[str, Lost]:
    resolved = survey.resolved(viewpoint)
    on = [name for name, kind in SECTIONS.items() if resolved[kind].enabled]
    if not on:
        return {}
    where = where_light(
        survey.renderer, survey.build, survey.request(viewpoint), samples=SAMPLES, bounces=BOUNCES, places=PLACES
    )  # fmt: skip
    found = {}
    for name in on:
        for kind, classes in (("off-screen", NOT_ON), ("missed", [ON])):
            lost = _lost(survey, viewpoint, where, name, classes)
            if lost is not None:
                found[f"{name}.{kind}"] = lost
    return found


def _lost(survey: Survey, viewpoint: str, where: Where, name: str, classes: list[int]) -> Lost | None:
    answer = next(a for a in where.answers if a.name == name)
    outcomes = [MISSED, WRONG] + ([FELL_BACK] if answer.fallback != "world" else [])
    gone = answer.by_surface[:, classes][:, :, outcomes].sum(axis=2)  # (drawables, classes)
    with np.errstate(divide="ignore", invalid="ignore"):
        without = _stops(gone.sum(axis=1), where.due_of)
        darker = np.log2(where.due_of / np.maximum(where.drawn_of, where.due_of * 2.0**-MOST_STOPS))
    stops = np.where((where.seen >= LEAST_PLACES) & (where.due_of > 0), np.minimum(without, darker), 0.0)
    worst = [int(d) for d in np.argsort(-gone.sum(axis=1) * where.seen) if stops[d] > LIMIT_STOPS]
    if not worst:
        return None
    frame = survey.frame(viewpoint)
    mask = np.isin(frame.drawable, worst)
    if not mask.any():
        return None
    names = [d.name for d in frame.geometry.drawables]
    by_class = tuple((CLASSES[k], float(v)) for k, v in zip(classes, gone[worst[0]]) if v > 0)
    due, still = float(where.due_of[worst[0]]), float(gone[worst[0]].sum())
    ceilings = tuple((words, _stops(still - sum(v for c, v in by_class if c in has), due)) for words, has in REMEDIES)
    held = [nits for _, _, nits in where.margin]
    beside = [px for (px, _, _), nits in zip(where.margin, held) if nits - held[0] >= ENOUGH_OF_MARGIN * (held[-1] - held[0])]
    margin = beside[0] if dict(ceilings)[A_MARGIN] <= LIMIT_STOPS and held[-1] > held[0] else 0
    return Lost(
        tuple((names[d], float(stops[d])) for d in worst), by_class, margin, ceilings if classes is NOT_ON else (),
        int(mask.sum()), region_of(mask), survey.painted(viewpoint, mask),
    )  # fmt: skip


def _stops(lost: Any, due: Any) -> Any:
    """Stops darker for so many nits that are lost of what is due."""
    return np.maximum(-np.log2(np.maximum(1 - lost / due, 2.0**-MOST_STOPS)), 0.0)


def conclude(survey: Survey, seen: dict[str, dict[str, Any]]) -> list[Suspicion]:
    """One suspicion for each pass, and whether what it loses is on the frame; one for each base shader that mirrors leave out."""
    codes = sorted({code for found in seen.values() for code in found} - {GAPS})
    gaps = {v: found[GAPS] for v, found in seen.items() if GAPS in found}
    return [*gap_suspicions(survey, gaps), *_told(survey, seen, codes)]


def _told(survey: Survey, seen: dict[str, dict[str, Any]], codes: list[str]) -> list[Suspicion]:
    return [_suspicion(survey, code, {v: found[code] for v, found in seen.items() if code in found}) for code in codes]


def _suspicion(survey: Survey, code: str, where: dict[str, Lost]) -> Suspicion:
    name, kind = code.split(".")
    worst = max(where, key=lambda v: where[v].surfaces[0][1])
    lost = where[worst]
    surface, stops = lost.surfaces[0]
    told = f"loses all of {WORDS[name]}" if stops >= MOST_STOPS else f"loses {stops:.2f} stops of {WORDS[name]}"
    most = max(lost.by_class, key=lambda c: c[1])[0]
    why = f"most of it {most}" if kind == "off-screen" else "though it is on the frame"
    evidence = [
        Evidence(
            measure=f"stops that {surface} is darker at {worst} for what {name} does not find", value=stops, unit="stops",
            limit=LIMIT_STOPS, source=f"{PLACES} places, {SAMPLES} paths each", picture=lost.picture,
        ),
        *(Evidence(measure=f"{s} at {v}", value=x, unit="stops", limit=LIMIT_STOPS) for v in where for s, x in where[v].surfaces[:4]
          if (s, v) != (surface, worst)),
        *(Evidence(measure=f"of it {where_it_is}", value=nits, unit="nit") for where_it_is, nits in lost.by_class),
        *(Evidence(measure=f"that {surface} is still darker with {what}", value=still, unit="stops", limit=LIMIT_STOPS, predicted=True)
          for what, still in lost.ceilings),
    ]  # fmt: skip
    if kind == "off-screen" and survey.pictures:
        names = [d.name for d in survey.geometry.drawables]
        drift = sway_drift(survey.renderer, survey.build, survey.request(worst), names.index(surface))
        measure = f"drift of {surface} while the camera sways at {worst}"
        evidence.append(Evidence(measure=measure, value=drift, unit="stops", limit=LIMIT_STOPS, predicted=True))
    return Suspicion(
        code=code,
        cause_kind="pass",
        cause=name,
        title=f"{surface} {told} at {worst}, {why}",
        subjects=tuple(dict.fromkeys(s for v in where.values() for s, _ in v.surfaces)),
        value=stops,
        limit=LIMIT_STOPS,
        evidence=tuple(evidence),
        pixels={v: found.pixels for v, found in where.items()},
        regions={v: found.region for v, found in where.items()},
        candidates=tuple(_candidates(survey, name, kind, worst, lost)) if survey.pictures else (),
        facts={"pass": name, "viewpoint": worst},
    )


def _candidates(survey: Survey, name: str, kind: str, viewpoint: str, lost: Lost) -> Iterator[Candidate]:
    for change, predicts in _ways(survey, name, kind, viewpoint, lost.margin_px):
        yield Candidate(change=change, predicts=predicts, costs=_costs(survey, name, viewpoint, change))
    if (name, kind) == ("reflect", "off-screen"):
        for change, predicts, costs in ways_around(survey, viewpoint, [s for s, _ in lost.surfaces]):
            yield Candidate(change=change, predicts=predicts, costs=costs)


def _ways(survey: Survey, name: str, kind: str, viewpoint: str, margin_px: int) -> Iterator[tuple[Change, str]]:
    """(change, what it does): of what is not on the frame a margin and rays into the world; of what is on it the dials."""
    resolved = survey.resolved(viewpoint)
    setting = resolved[SECTIONS[name]]

    def change(title: str, **leaves: object) -> Change:
        return set_resolved(survey.build, resolved, {f"{name}.{leaf}": value for leaf, value in leaves.items()}, title=title)

    if kind == "off-screen":
        if margin_px > setting.margin_px:
            yield (
                change(f"{name} with a margin of {margin_px} px", margin_px=margin_px),
                "what lies so far beside the frame is drawn for it",
            )
        if setting.fallback != "world":
            yield (
                change(f"{name} falls back on rays into the world", fallback="world"),
                "a ray that finds nothing meets what is really there, at its mean colour under direct light",
            )
        return
    if setting.steps < 512:
        steps = min(setting.steps * 4, 512)
        yield change(f"{name} in {steps} steps", steps=steps), "steps so small that things are no longer stepped over"
    yield (
        change(f"{name} takes things to be {setting.thickness_m * 4:g} m thick", thickness_m=setting.thickness_m * 4),
        "less is stepped over, more is met that is only near",
    )
    yield change(f"{name} reaches {setting.reach_m * 4:g} m", reach_m=setting.reach_m * 4), "what is farther away is reached"


def _costs(survey: Survey, name: str, viewpoint: str, change: Change) -> tuple[Cost, ...]:
    """Bytes of targets, places looked at along rays, rays into the world at the most, that a change adds to a frame."""
    after = survey.on(apply_change(survey.build, change))
    (bytes_a, steps_a, rays_a), (bytes_b, steps_b, rays_b) = (_spent(s, name, viewpoint) for s in (survey, after))
    found = (
        Cost("memory", bytes_b - bytes_a, "bytes"),
        Cost("steps", steps_b - steps_a, "steps"),
        Cost("rays", rays_b - rays_a, "rays"),
    )
    return tuple(c for c in found if c.value)


def _spent(survey: Survey, name: str, viewpoint: str) -> tuple[float, float, float]:
    setting: Marched = survey.resolved(viewpoint)[SECTIONS[name]]
    width, height = (-(-(edge + 2 * setting.margin_px) // setting.divisor) for edge in survey.size)
    rays = float(width * height * setting.rays)
    held = sum(h.bytes for h in held_at(survey.stage(viewpoint), survey.size))
    return float(held), rays * setting.steps, rays if setting.fallback == "world" else 0.0


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """The same ways as single trials, of the passes that are on."""
    found = mirror_levers(survey, subject, viewpoint)
    for name, kind in SECTIONS.items():
        if not survey.resolved(viewpoint)[kind].enabled:
            continue
        for code_kind in ("off-screen", "missed"):
            for change, predicts in _ways(survey, name, code_kind, viewpoint, 128):
                found.append(Lever(pass_name=name, change=change, predicts=predicts, because=f"{name} has the frame alone"))
    if survey.resolved(viewpoint)[Reflect].enabled:
        for change, predicts, _ in ways_around(survey, viewpoint, [survey.geometry.drawables[subject].name]):
            because = "neither needs what is mirrored on the frame"
            found.append(Lever(pass_name="indirect", change=change, predicts=predicts, because=because))
    return found


def _code(name: str, kind: str, words: str) -> Code:
    return Code(
        code=f"{name}.{kind}", words=words, kind="Light" if name == "bounce" else "Reflection", sheet="light",
        symptom="too dark" if name == "bounce" else "missing reflection",
        limit=f"stops that a surface is drawn darker for it: {LIMIT_STOPS:g}",
    )  # fmt: skip


FAMILY = register(
    Family(
        "light not found",
        (
            _code("bounce", "off-screen", "Bounced light is lost that comes from what the frame does not show"),
            _code("bounce", "missed", "Bounced light is lost that comes from what the frame shows"),
            _code("reflect", "off-screen", "Reflections are lost of what the frame does not show"),
            _code("reflect", "missed", "Reflections are lost of what the frame shows"),
        ),
        observe,
        conclude,
        levers,
        symptoms=("too dark", "missing reflection", "wrong reflection", "drifts while moving"),
    )
)
