"""What one viewpoint shows of shadows that are not as they should be, by cause."""

from dataclasses import dataclass, field, replace

import numpy as np

from eddyfall.core.defects.contract import Evidence
from eddyfall.core.defects.shadow_chain.detached import detached
from eddyfall.core.defects.survey import Survey, mask_of, region_of
from eddyfall.core.frame.render import Frame
from eddyfall.core.passes.contract import LightState
from eddyfall.core.passes.frustum import ball_radius_m, limit_range_m, padding_needed_m, range_m
from eddyfall.core.scene.setup.sections.shadow import Shadow, size_limit
from eddyfall.core.truth.bias.solve import LEAST_PX
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.judge import SHADOWED
from eddyfall.core.truth.shadow_classes import Class, Disagreement, Lost, OfLight, Wrote
from eddyfall.core.truth.shadow_tests import BIAS_UNITS, bias_leaves
from eddyfall.core.truth.widths import Thin, thin_casters

CULLED, MISSING_PASS, ONE_SIDED = "shadow.culled", "shadow.missing-pass", "shadow.one-sided"
UNASKED, ACNE, DETACHED, THIN = "shadow.unasked", "shadow.acne", "shadow.detached", "shadow.thin"
EVERY = 2  # pixels across and down that one ray stands for
LEAST = {CULLED: 3, MISSING_PASS: 3, ONE_SIDED: 3, UNASKED: 3, ACNE: LEAST_PX, DETACHED: 3, THIN: LEAST_PX}
DARKER = 2**-0.25  # a quarter of a stop less light is seen
ACNE_SHARE = 0.05  # of what a light shows of a surface
TECHNIQUE_WORDS = {
    "cascades": "the cascades' frame cull",
    "paged": "the paged map's size limit",
    "rays": "the ray tier's size limit",
}


@dataclass(frozen=True)
class Seen:
    """One cause at one viewpoint: pixels it spoils, where, the drawables that cast and that receive; light and technique; numbers to
    show."""

    pixels: int
    region: tuple[int, int, int, int]
    casters: frozenset[int]
    receivers: frozenset[int]
    light: str
    technique: str
    picture: np.ndarray | None
    measures: tuple[Evidence, ...] = field(default=())
    lost_mm: float = 0.0
    limit_mm: float = 0.0
    thin: Thin | None = None


def observe(survey: Survey, viewpoint: str) -> dict[tuple[str, str], Seen]:
    """Causes (code, cause) that a viewpoint shows; a cause of several lights is told for the one it spoils most of."""
    frame = survey.frame(viewpoint, SHADOWED, survey.spot)
    if not len(frame.stage.lights):
        return {}
    found: dict[tuple[str, str], Seen] = {}
    whole = disagreement(survey.renderer, frame, EVERY)
    for number, light in enumerate(whole.lights):
        for key, (rows, casters) in _causes(survey, frame, whole, light).items():
            seen = _seen(survey, viewpoint, frame, whole, number, key[0], rows, casters)
            if seen.pixels > LEAST[key[0]] and (key not in found or found[key].pixels < seen.pixels):
                found[key] = seen
        off = detached(survey, frame, whole, number)
        if off is not None:
            seen = _seen(survey, viewpoint, frame, whole, number, DETACHED, off.rows, off.casters)
            seen = replace(seen, lost_mm=off.loss.lost_m * 1000, limit_mm=off.loss.limit_m * 1000)
            key = DETACHED, bias_of(frame.stage.lights[number])
            if seen.pixels > LEAST[DETACHED] and (key not in found or found[key].lost_mm < seen.lost_mm):
                found[key] = seen
        for thin in thin_casters(survey.renderer, frame, whole, number):
            key = THIN, frame.geometry.drawables[thin.drawable].node
            at_fault = np.full(len(thin.rows), thin.drawable)
            seen = replace(_seen(survey, viewpoint, frame, whole, number, THIN, thin.rows, at_fault), thin=thin)
            if seen.pixels > LEAST[THIN] and (key not in found or found[key].pixels < seen.pixels):
                found[key] = seen
    return found


def bias_of(light: LightState) -> str:
    """What sets a light's bias: the project, or the light itself."""
    own = light.look_up
    return "shadow.bias_texels" if own.over > 0 and own.constant_m == 0 and own.slope == 0 else f"lights.{light.name}"


def _causes(
    survey: Survey, frame: Frame, whole: Disagreement, light: OfLight
) -> dict[tuple[str, str], tuple[np.ndarray, np.ndarray]]:
    """(rows of the surfaces spoilt, the drawable at fault of each) by code and cause."""
    drawables, keys = frame.geometry.drawables, frame.stage.state.shader
    found: dict[tuple[str, str], tuple[np.ndarray, np.ndarray]] = {}

    def split(code: str, rows: np.ndarray, at_fault: np.ndarray, name_of: list[str]) -> None:
        names = np.array(name_of, object)[at_fault]
        for name in sorted(set(names)):
            mine = names == name
            found[code, str(name)] = rows[mine], at_fault[mine]

    nodes, materials = [d.node for d in drawables], [*survey.build.scene.material_keys, "(default)"]
    for code, test, name_of in (
        (CULLED, Lost.CULLED, nodes),
        (MISSING_PASS, Lost.PASS, list(keys)),
        (ONE_SIDED, Lost.FACE, [materials[d.material] for d in drawables]),
    ):
        rows = np.flatnonzero((light.lost == test) & (light.caster >= 0))
        split(code, rows, light.caster[rows], name_of)
    rows = np.flatnonzero((light.wrote == Wrote.UNSEEN) & (light.writer >= 0))
    split(UNASKED, rows, light.writer[rows], nodes)
    rows = _acne(whole, light)
    if len(rows):
        state = next(v for v in frame.stage.lights if v.name == light.light)
        found[ACNE, bias_of(state)] = rows, light.writer[rows]
    return found


def _acne(whole: Disagreement, light: OfLight) -> np.ndarray:
    """Rows of surfaces that their own depth darkens visibly, of drawables of which it does so to a twentieth of what the light shows."""
    own = (light.wrote == Wrote.OWN_SURFACE) & (light.drawn < DARKER)
    if not own.any():
        return np.zeros(0, np.int64)
    shown = (light.classes >= Class.AGREE) & (light.true > 0)
    drawable, count = whole.surfaces.drawable, int(whole.surfaces.drawable.max()) + 1
    share = np.bincount(drawable[own], minlength=count) / np.maximum(np.bincount(drawable[shown], minlength=count), 1)
    return np.flatnonzero(own & (share[drawable] >= ACNE_SHARE))


def _seen(
    survey: Survey,
    viewpoint: str,
    frame: Frame,
    whole: Disagreement,
    number: int,
    code: str,
    rows: np.ndarray,
    casters: np.ndarray,
) -> Seen:
    light, s = frame.stage.lights[number], whole.surfaces.of(rows)
    mask = mask_of(frame.pixels.shape, s.pixels, EVERY)
    technique = TECHNIQUE_WORDS[light.technique]
    measures = _measures(frame, number, code, casters)
    picture = survey.painted(viewpoint, mask) if survey.spot is None else None
    return Seen(
        len(rows) * whole.each, region_of(mask), frozenset(int(d) for d in np.unique(casters)),
        frozenset(int(d) for d in np.unique(s.drawable)), light.name, technique, picture, measures,
    )  # fmt: skip


def _measures(frame: Frame, number: int, code: str, casters: np.ndarray) -> tuple[Evidence, ...]:
    """Beside the pixels: for a size limit how far beyond it the caster stands, and the padding that would do."""
    light, shadow, d = frame.stage.lights[number], frame.stage.resolved[Shadow], int(np.bincount(casters).argmax())
    if code in (ACNE, DETACHED):
        return tuple(
            Evidence(measure="shadow bias as set", value=value, unit=BIAS_UNITS[leaf.rpartition(".")[2]], source=leaf)
            for leaf, value in bias_leaves(light, shadow).items()
            if value > 0 or leaf == "shadow.bias_texels"
        )
    if code != CULLED or light.technique == "cascades":
        return ()
    padding = frame.stage.state.padding_m
    away, radius = float(range_m(frame.geometry, frame.camera)[d]), float(ball_radius_m(frame.geometry, padding)[d])
    leaf, limit_deg = size_limit(shadow, light.technique)
    reach = float(limit_range_m(radius, limit_deg))
    needed = float(padding_needed_m(radius - float(padding[d]), away, limit_deg))
    where = f"{leaf} = {limit_deg:g} deg, ball of {radius:.3g} m"
    return (
        Evidence(measure="range at which it is left out", value=away, unit="m", limit=reach, source=where),
        Evidence(measure="padding that would keep it", value=needed, unit="m", source=where, predicted=True),
    )  # fmt: skip
