"""Codes shadow.*: culled, missing-pass, one-sided, unasked, acne, detached, thin. Shadows that are missing or false, by the first test
of the chain that failed.

One mechanism for all: every surface's shadow is held against rays (`core.truth`), what disagrees is laid to its cause, and a cause is one
finding with all that it spoils."""

from typing import Any

from eddyfall.core.defects.contract import Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.shadow_chain.remedies import candidates_of, levers_of
from eddyfall.core.defects.shadow_chain.seen import (
    ACNE,
    CULLED,
    DETACHED,
    LEAST,
    MISSING_PASS,
    ONE_SIDED,
    THIN,
    UNASKED,
    Seen,
    observe,
)
from eddyfall.core.defects.survey import Survey, by_cause
from eddyfall.core.truth.widths import LEAST_TEXELS

TITLES = {
    CULLED: "{cause} throws no shadow: {technique} leaves it out",
    MISSING_PASS: "What {cause} draws throws no shadow: it has no shadow pass",
    ONE_SIDED: "{cause} throws no shadow where the light meets its back",
    UNASKED: "{cause} is seen by no camera and still throws a shadow",
    ACNE: "Surfaces shade themselves: the shadow bias is too small",
    DETACHED: "Shadows of {light} stand off what throws them: its bias is too large",
    THIN: "{cause} is thinner than a texel of the maps of {light}: its shadow is lost",
}
OWN_BIAS = "Surfaces shade themselves in the light of {light}: its shadow bias is too small"
KINDS = {
    CULLED: "node",
    MISSING_PASS: "shader",
    ONE_SIDED: "material",
    UNASKED: "node",
    ACNE: "setting",
    DETACHED: "setting",
    THIN: "node",
}


def conclude(survey: Survey, seen: dict[str, dict[tuple[str, str], Seen]]) -> list[Suspicion]:
    """One suspicion for each cause, with everything that it spoils at every viewpoint."""
    return [_suspicion(survey, code, cause, where) for (code, cause), where in sorted(by_cause(seen).items())]


def _suspicion(survey: Survey, code: str, cause: str, where: dict[str, Seen]) -> Suspicion:
    worst = max(where, key=lambda v: where[v].lost_mm if code == DETACHED else where[v].pixels)
    most, drawables = where[worst], survey.geometry.drawables
    casters = tuple(sorted({drawables[d].name for s in where.values() for d in s.casters}))
    receivers = tuple(sorted({drawables[d].name for s in where.values() for d in s.receivers}))
    what = (
        "pixels where a shadow is missing"
        if code in (CULLED, MISSING_PASS, ONE_SIDED, DETACHED, THIN)
        else "pixels that are falsely dark"
    )
    evidence = [
        Evidence(
            measure=f"{what} at {worst}", value=float(most.pixels), unit="px", limit=float(LEAST[code]),
            source="rays to each light against what is drawn", picture=most.picture,
        )
    ]  # fmt: skip
    evidence += [
        Evidence(measure=m.measure, value=m.value, unit=m.unit, limit=m.limit, source=m.source, predicted=m.predicted)
        for m in most.measures
    ]
    value, limit = float(most.pixels), float(LEAST[code])
    if code == DETACHED:
        value, limit = most.lost_mm, most.limit_mm
        contact = "lost contact at a shadow's foot, the median of its caster"
        source = "20 mm, or two pixels there"
        evidence.insert(0, Evidence(measure=f"{contact}, at {worst}", value=value, unit="mm", limit=limit, source=source))
    if most.thin is not None:
        value, limit = most.thin.texels, LEAST_TEXELS
        evidence += [
            Evidence(
                measure=f"width across the light's rays, in texels of the map that serves its shadow at {worst}", value=value,
                unit="texel", limit=limit, at_least=True, source=f"texels of {most.thin.texel_m * 1000:.0f} mm there",
            ),
            Evidence(measure="width of the caster across the light's rays", value=most.thin.width_m * 1000, unit="mm"),
        ]  # fmt: skip
    words = OWN_BIAS if code == ACNE and cause.startswith("lights.") else TITLES[code]
    title = words.format(cause=cause, technique=most.technique, light=most.light)
    return Suspicion(
        code=code,
        cause_kind=KINDS[code],
        cause=cause,
        title=title,
        subjects=tuple(dict.fromkeys((*casters, *receivers))),
        value=value,
        limit=limit,
        evidence=tuple(evidence),
        pixels={v: s.pixels for v, s in where.items()},
        regions={v: s.region for v, s in where.items()},
        # When a remedy is tried only what is still found matters.
        candidates=tuple(candidates_of(survey, code, cause, worst, where)) if survey.pictures else (),
        facts={"light": most.light, "technique": most.technique},
    )


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """The remedies of what disagrees on the subject at the spot, or of what its own shadow lacks."""
    found: dict[tuple[str, str], Any] = observe(survey, viewpoint)
    mine = {key: s for key, s in found.items() if subject in s.receivers or subject in s.casters}
    return levers_of(survey, viewpoint, mine)


def _code(code: str, words: str, symptom: str, limit: str) -> Code:
    return Code(code=code, words=words, kind="Shadow", symptom=symptom, limit=limit, sheet="shadow-reach")


FAMILY = register(
    Family(
        "shadow chain",
        (
            _code(
                CULLED,
                "A caster is left out by the shadow technique's cull",
                "missing shadow",
                "no more than 3 px may lack its shadow",
            ),
            _code(
                MISSING_PASS,
                "A shader draws things that no shadow map holds",
                "missing shadow",
                "no more than 3 px may lack a shadow",
            ),
            _code(
                ONE_SIDED,
                "Faces turned away from the light cast nothing",
                "missing shadow",
                "no more than 3 px may lack a shadow",
            ),
            _code(
                UNASKED, "Something that no camera draws casts a shadow", "false shadow", "no more than 3 px may be dark for it"
            ),
            _code(
                ACNE, "Surfaces shade themselves (shadow acne)", "false shadow", "no more than 16 px, or 5 % of a surface, may be"
            ),
            _code(
                DETACHED,
                "A shadow's foot is passed by, so that it stands off what throws it",
                "missing shadow",
                "no more than 20 mm, or what two pixels cover, may be lost",
            ),
            _code(
                THIN,
                "A caster is thinner than a texel of the map that holds its shadow",
                "missing shadow",
                "a caster must be a texel wide where 16 px or more of its shadow are due",
            ),
        ),
        observe,
        conclude,
        levers,
        ("missing shadow", "false shadow"),
    )
)
