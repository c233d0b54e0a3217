"""bake.leak, bake.hidden-faces, bake.wasted, bake.banding, bake.denoise-lines, bake.uncovered, bake.stale: what went wrong in a bake.

Judged on what a bake gathers, for receivers that have a lightmap.
"""

from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from eddyfall.core.bake.banding import Bands, measure_bands
from eddyfall.core.bake.finish import Finish, finished
from eddyfall.core.bake.leaks import Leak, find_leaks
from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.lightmap_survey import Lightmaps, Seen, front_pixels, lightmaps_of, map_picture
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.defects.uv_charts import mesh_operation
from eddyfall.core.frame.lightmap_store import stored_map
from eddyfall.core.scene.changes import Change, Operation, set_leaf, set_leaves, set_resolved
from eddyfall.core.scene.receivers import Receiver
from eddyfall.core.scene.setup.bake import Encoding
from eddyfall.core.shade.lightmap_codes import BYTES_PER_TEXEL
from eddyfall.core.shade.srgb import luminance

DIFFERENT = 0.1  # a texel counts as spoilt if a cause changes it by a tenth
LEAST_TEXELS = 3
WASTED_LIMIT = 25.0


def conclude(survey: Survey, seen: Seen) -> list[Suspicion]:
    """One suspicion for each cause: occluder and receiver, setting, region, thing that changed."""
    if not survey.build.setup.lightmaps:
        return []
    maps = lightmaps_of(survey)
    result = list(_stale(maps, seen))
    result += _leaks(maps, seen)
    result += _hidden(maps, seen)
    result += _banding(maps, seen)
    result += _denoise(maps, seen)
    result += _uncovered(maps, seen)
    return result


def _worst_leaks(maps: Lightmaps, receiver: Receiver, sets: list[str | None]) -> dict[str, Leak]:
    """By occluder, the leak in the light set where it is strongest."""
    scenes = [maps.scene(light_set) for light_set in sets]
    return {leak.occluder: leak for leak in find_leaks(maps.build, maps.geometry, receiver, scenes, maps.bake)}


def _leaks(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    for receiver in maps.baked:
        sets = maps.sets_with_map(receiver)
        found: dict[str, Leak] = maps.judged("leaks", receiver, (), partial(_worst_leaks, maps, receiver, sets))
        for occluder, leak in sorted(found.items()):
            mesh = maps.mesh_of(receiver)
            picture = None
            if maps.survey.pictures:
                mark = np.zeros((receiver.resolution, receiver.resolution), bool)
                mark.reshape(-1)[leak.texels] = True
                picture = map_picture(maps.raw(receiver, sets[0]).mean, mark)
            split = mesh_operation(
                "uv.split",
                mesh,
                f"cut {mesh} at {occluder} and part its charts there",
                "its texels hold both sides",
                node=maps.node_of(receiver),
                point_m=[round(float(v), 6) for v in leak.point_m],
                normal=[round(float(v), 6) for v in leak.normal],
            )
            double = set_leaf(
                maps.build,
                ("nodes", maps.node_of(receiver), "lightmap_size"),
                receiver.resolution * 2,
                scope="node",
                title=f"lightmap of {maps.node_of(receiver)} twice as fine",
                reason="texels hold both sides of an occluder",
            )
            more = float(3 * maps.bytes_of(receiver, maps.bake.encoding))
            evidence = (
                Evidence(
                    "light reaches past it, linear", leak.reach_linear_mm, "mm", 0.0, "no texel may hold both sides", picture
                ),
                Evidence("light reaches past it, nearest", leak.reach_nearest_mm, "mm", 0.0, "the mixed texel itself"),
                Evidence("brighter than the dark side", leak.contrast, "times", 1.0 + DIFFERENT, "a tenth shows"),
                Evidence("mixed texels", float(len(leak.texels)), "texels", 0.0, "sides that cannot see each other"),
            )
            yield Suspicion(
                "bake.leak",
                "pair",
                f"{receiver.name} | {occluder}",
                f"light leaks past {occluder} on {receiver.name}",
                maps.subjects([receiver]),
                leak.reach_linear_mm,
                0.0,
                evidence,
                maps.shown([receiver], seen),
                {},
                (
                    Candidate(
                        split,
                        "no texel holds both sides",
                        (Cost("triangles", float(leak.cut_triangles), "triangles"),),
                        ("charts are packed anew; the bake must be made again",),
                        ("the denoiser reaches across gaps: it darkens the new border too, until it is told not to",)
                        if maps.bake.denoise == "across_gaps"
                        else (),
                    ),
                    Candidate(
                        double,
                        f"a reach of {leak.reach_linear_mm / 2:.0f} mm is left: a larger map only narrows it",
                        (Cost("memory", more, "bytes"),),
                    ),
                ),
                facts={"receiver": receiver.name, "occluder": occluder, "texels": [int(t) for t in leak.texels[:64]]},
            )


def _hidden(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    spoilt: list[tuple[Receiver, np.ndarray]] = []
    for receiver in maps.baked:
        if not maps.sets_with_map(receiver):
            continue
        covered, wasted, marks = maps.judged("hidden", receiver, (maps.bake.dilate_texels,), partial(_hidden_of, maps, receiver))
        if maps.bake.hidden == "keep" and int(marks.sum()) >= LEAST_TEXELS:
            spoilt.append((receiver, marks))
        if wasted > WASTED_LIMIT:
            yield _wasted(maps, receiver, wasted, covered, seen)
    if spoilt:
        yield _hidden_finding(maps, spoilt, seen)


def _hidden_of(maps: Lightmaps, receiver: Receiver) -> tuple[int, float, np.ndarray]:
    """(covered texels, per cent of them that nothing can see, (h, w) bool seen texels that hidden samples darken by a tenth)."""
    raws = [maps.raw(receiver, s) for s in maps.sets_with_map(receiver)]
    covered = int(raws[0].covered.sum())
    wasted = int(raws[0].hidden_texels.sum()) / max(covered, 1) * 100
    marks = np.zeros(raws[0].covered.shape, bool)
    if (raws[0].hidden > 0).any():
        how = Finish("keep", "off", maps.bake.dilate_texels)
        for raw in raws:
            low, high = luminance(finished(raw, how)), luminance(finished(raw, replace(how, hidden="mask")))
            marks |= raw.covered & (raw.hidden < 0.9) & (np.abs(low - high) > DIFFERENT * np.maximum(high, 1e-9))
            marks |= _next_to(raw.hidden_texels) & raw.covered & (raw.hidden < 0.5) & (luminance(raw.mean) > 0)
    return covered, wasted, marks


def _next_to(mask: np.ndarray) -> np.ndarray:
    from scipy.ndimage import binary_dilation

    return np.asarray(binary_dilation(mask, np.ones((3, 3), bool)) & ~mask)


def _hidden_finding(maps: Lightmaps, spoilt: list[tuple[Receiver, np.ndarray]], seen: Seen) -> Suspicion:
    mine = [r for r, _ in spoilt]
    worst, marks = max(spoilt, key=lambda s: int(s[1].sum()))
    values = maps.raw(worst, maps.sets_with_map(worst)[0]).mean if maps.survey.pictures else np.zeros((1, 1, 3))
    texels = sum(int(m.sum()) for _, m in spoilt)
    change = set_resolved(
        maps.build,
        maps.survey.resolved(maps.survey.viewpoints[0]),
        {"bake.hidden": "mask"},
        title="fill texels that nothing can see from their neighbours",
        reason="unseen black faces bleed into joins",
    )
    delete = [
        mesh_operation(
            "face.delete_hidden",
            maps.mesh_of(r),
            f"delete the faces of {maps.mesh_of(r)} that nothing can see",
            "they bake black",
            node=maps.node_of(r),
        )
        for r in mine[:1]
    ]
    evidence = (
        Evidence(
            "texels darkened by hidden faces",
            float(texels),
            "texels",
            0.0,
            "hidden samples left out change them by a tenth",
            map_picture(values, marks) if maps.survey.pictures else None,
        ),
        Evidence(f"of them on {worst.name}", float(marks.sum()), "texels"),
    )
    return Suspicion(
        "bake.hidden-faces",
        "setting",
        "bake.hidden",
        "hidden faces bleed black into joins: " + ", ".join(r.name for r in mine[:4]),
        maps.subjects(mine),
        float(texels),
        0.0,
        evidence,
        maps.shown(mine, seen),
        {},
        (
            Candidate(
                change,
                "joins as bright as what is seen beside them",
                (Cost("memory", 0.0, "bytes"),),
                ("all lightmaps are made again",),
            ),
            *(Candidate(d, "no hidden face is left", (), ("old bakes are stale",)) for d in delete),
        ),
    )


def _wasted(maps: Lightmaps, receiver: Receiver, wasted: float, covered: int, seen: Seen) -> Suspicion:
    mesh = maps.mesh_of(receiver)
    change = mesh_operation(
        "face.delete_hidden",
        mesh,
        f"delete the faces of {mesh} that nothing can see and pack the rest",
        "their texels are never seen",
        node=maps.node_of(receiver),
        pack=True,
    )
    evidence = (
        Evidence("texels on faces that nothing can see", wasted, "%", WASTED_LIMIT, "common practice"),
        Evidence("covered texels", float(covered), "texels"),
    )
    return Suspicion(
        "bake.wasted",
        "mesh",
        mesh,
        f"{receiver.name}: a lightmap spent on hidden faces",
        maps.subjects([receiver]),
        wasted,
        WASTED_LIMIT,
        evidence,
        maps.shown([receiver], seen),
        {},
        (Candidate(change, "all texels lie on faces that can be seen", (), ("old bakes are stale",)),),
        "nothing of it is seen: it costs memory and time only",
    )


def _banding(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    b = maps.bake
    found: list[tuple[Receiver, Bands, Encoding, np.ndarray]] = []
    for receiver in maps.baked:
        for light_set in maps.sets_with_map(receiver):
            settings = (light_set, Finish.of(b), b.encoding, b.range_lux, b.dither)
            bands, coarse, smooth = maps.judged("bands", receiver, settings, partial(_bands, maps, receiver, light_set))
            if bands.width_texels > 1.0 and bands.share > 0.02:
                found.append((receiver, bands, coarse, smooth))
                break
    if not found:
        return
    mine = [r for r, *_ in found]
    worst, bands, coarse, smooth = max(found, key=lambda f: f[1].width_texels * f[1].step)
    resolved = maps.survey.resolved(maps.survey.viewpoints[0])
    texels = sum(r.resolution**2 for r in maps.baked) * len(maps.sets)
    extra = float((BYTES_PER_TEXEL["half"] - BYTES_PER_TEXEL[coarse]) * texels)
    reason = "8-bit steps show in dim gradients"
    dither = set_resolved(maps.build, resolved, {"bake.dither": True}, title="dither lightmaps", reason=reason)
    half = set_resolved(maps.build, resolved, {"bake.encoding": "half"}, title="store lightmaps as half floats", reason=reason)
    stored_again = ("all lightmaps are stored again",)
    picture = map_picture(smooth, np.zeros(smooth.shape[:2], bool)) if maps.survey.pictures else None
    evidence = (
        Evidence("width of the steps", bands.width_texels, "texels", 1.0, "wider steps show", picture),
        Evidence("height of a step", bands.step * 100, "%", 3.0, "Weber fraction, common practice"),
        Evidence("texels in such steps", bands.share * 100, "%", 2.0, f"of the chart of {worst.name}"),
        Evidence("codes that the map spans", bands.steps, "codes"),
    )
    yield Suspicion(
        "bake.banding",
        "setting",
        "bake.encoding",
        "dim light in visible steps: " + ", ".join(r.name for r in mine[:4]),
        maps.subjects(mine),
        bands.width_texels,
        1.0,
        evidence,
        maps.shown(mine, seen),
        {},
        (
            Candidate(half, "no step shows", (Cost("memory", extra, "bytes"),), stored_again),
            Candidate(
                dither,
                "steps dissolve into noise of one code",
                (Cost("memory", 0.0, "bytes"),),
                stored_again,
            ),
        ),
    )


def _bands(maps: Lightmaps, receiver: Receiver, light_set: str | None) -> tuple[Bands, Encoding, np.ndarray]:
    """(bands of a map as the target stores it, that encoding, the map before it was rounded)."""
    found = stored_map(maps.build, receiver.name, light_set)
    assert found is not None
    raw = maps.raw(receiver, light_set)
    rounded = found.record.encoding == "srgb8"
    smooth = finished(raw, Finish.of(maps.bake)) if rounded or found.values.shape[0] != receiver.resolution else found.values
    coarse: Encoding = "srgb8" if rounded else maps.bake.encoding
    largest = float(smooth.max()) or 1.0
    scale = maps.bake.range_lux or (found.record.scale_lux if found.record.encoding != "half" else largest)
    return measure_bands(smooth, raw.covered, coarse, scale, maps.bake.dither), coarse, smooth


def _denoise(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    if maps.bake.denoise != "across_gaps":
        return
    spoilt = []
    for receiver in maps.baked:
        if not maps.sets_with_map(receiver):
            continue
        marks, across = maps.judged("denoise", receiver, (Finish.of(maps.bake),), partial(_darkened, maps, receiver))
        if int(marks.sum()) >= LEAST_TEXELS:
            spoilt.append((receiver, marks, across))
    if not spoilt:
        return
    mine = [r for r, _, _ in spoilt]
    resolved = maps.survey.resolved(maps.survey.viewpoints[0])

    def change(value: str, title: str) -> Change:
        return set_resolved(
            maps.build, resolved, {"bake.denoise": value}, title=title, reason="the denoiser darkens borders of charts"
        )

    texels = sum(int(m.sum()) for _, m, _ in spoilt)
    worst = max(spoilt, key=lambda s: int(s[1].sum()))
    yield Suspicion(
        "bake.denoise-lines",
        "setting",
        "bake.denoise",
        "black lines where the denoiser reaches across gaps: " + ", ".join(r.name for r in mine[:4]),
        maps.subjects(mine),
        float(texels),
        0.0,
        (
            Evidence(
                "texels darkened along borders",
                float(texels),
                "texels",
                0.0,
                "by a tenth",
                map_picture(worst[2], worst[1]) if maps.survey.pictures else None,
            ),
        ),
        maps.shown(mine, seen),
        {},
        (
            Candidate(
                change("within_charts", "denoise each chart by itself"),
                "no dark borders, noise stays smoothed",
                (Cost("memory", 0.0, "bytes"),),
            ),
            Candidate(change("off", "no denoising"), "no dark borders", (Cost("memory", 0.0, "bytes"),), ("noise comes back",)),
        ),
    )


def _darkened(maps: Lightmaps, receiver: Receiver) -> tuple[np.ndarray, np.ndarray]:
    """((h, w) bool texels that a denoiser across gaps darkens by a tenth, the map it makes)."""
    raw = maps.raw(receiver, maps.sets_with_map(receiver)[0])
    how = Finish.of(maps.bake)
    across, within = finished(raw, how), finished(raw, replace(how, denoise="within_charts"))
    low, high = luminance(across), luminance(within)
    return raw.covered & (high > 0) & (high - low > DIFFERENT * high), across


def _uncovered(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    regions = maps.build.setup.focus_regions
    if not regions:
        return
    geometry = maps.geometry
    outside: list[tuple[Receiver, float]] = []
    boxes = np.array([(r.low_m, r.high_m) for r in regions.values()])
    for receiver in maps.baked:
        report = maps.report(receiver)
        area = np.linalg.norm(
            np.cross(report.corners[:, 1] - report.corners[:, 0], report.corners[:, 2] - report.corners[:, 0]), axis=1
        )
        corners = report.corners[:, None]
        low_side, high_side = corners >= boxes[:, 0][:, None] - 1e-6, corners <= boxes[:, 1][:, None] + 1e-6
        inside = np.asarray(np.asarray((low_side & high_side).all(axis=(2, 3))).any(axis=1))
        share = float(area[~inside].sum() / max(area.sum(), 1e-30))
        if share > 0.001:
            outside.append((receiver, share))
    if not outside:
        return
    mine = [r for r, _ in outside]
    low = np.min([geometry.bounds[d, 0] for r in maps.baked for d in r.drawables], axis=0) - 0.01
    high = np.max([geometry.bounds[d, 1] for r in maps.baked for d in r.drawables], axis=0) + 0.01
    name, region = next(iter(regions.items()))
    values: dict[tuple[str, ...], Any] = {
        ("focus_regions", name, "low_m"): [float(v) for v in np.minimum(low, region.low_m)],
        ("focus_regions", name, "high_m"): [float(v) for v in np.maximum(high, region.high_m)],
    }
    change = set_leaves(
        maps.build,
        values,
        scope="project",
        title=f"widen the bake focus region {name}",
        reason="lightmaps outside get no bounced light",
    )
    worst = max(s for _, s in outside)
    yield Suspicion(
        "bake.uncovered",
        "setting",
        "focus_regions",
        "outside every bake focus region: " + ", ".join(r.name for r in mine[:4]),
        maps.subjects(mine),
        worst * 100,
        0.0,
        (Evidence("surface outside", worst * 100, "%", 0.1, "no bounced light is gathered there"),),
        maps.shown(mine, seen),
        {},
        (
            Candidate(
                change, "every lightmap gets bounced light", (), ("more texels gather bounced light: the bake takes longer",)
            ),
        ),
    )


def _stale(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    causes: dict[str, dict[str, Any]] = {}
    by_name = {r.name: r for r in maps.receivers}
    for light_set in maps.sets:
        for state in maps.stale(light_set):
            whys = ("was never baked",) if state.missing else state.why[:1]
            for why in whys:
                key = f"{why}"
                if state.missing or "receiver" in why:
                    key = state.receiver.name
                entry = causes.setdefault(key, {"receivers": {}, "why": why, "texels": 0})
                entry["receivers"][state.receiver.name] = by_name[state.receiver.name]
                entry["texels"] += int(state.texels.sum()) if state.texels is not None else 0
    for key, entry in sorted(causes.items()):
        mine: list[Receiver] = list(entry["receivers"].values())
        names = sorted(entry["receivers"])
        change = Change(
            id=f"bake.run:{key}"[:200],
            title=f"bake {', '.join(names[:3])}{f' and {len(names) - 3} more' if len(names) > 3 else ''} again",
            scope="node",
            reason=entry["why"],
            operation=Operation(name="bake.run", params={"receivers": names}),
        )
        evidence = (
            Evidence("stale lightmaps", float(len(mine)), "lightmaps", 0.0, entry["why"]),
            Evidence("stale texels", float(entry["texels"]), "texels"),
        )
        shown_as = f"{names[0]}: {entry['why']}" if len(names) == 1 else f"{entry['why']}: {len(names)} lightmaps are stale"
        yield Suspicion(
            "bake.stale",
            "baked from",
            key,
            shown_as,
            maps.subjects(mine),
            float(len(mine)),
            0.0,
            evidence,
            maps.shown(mine, seen),
            {},
            (
                Candidate(
                    change,
                    "the lightmaps fit the scene again",
                    (Cost("lightmaps baked", float(len(mine) * len(maps.sets)), "maps"),),
                ),
            ),
        )


FAMILY = Family(
    "bake_faults",
    {
        "bake.stale": "lightmaps baked from something else",
        "bake.leak": "texels that hold both sides of an occluder",
        "bake.hidden-faces": "hidden faces that bleed black",
        "bake.wasted": "texels on faces that nothing can see",
        "bake.banding": "bit depth that shows as steps",
        "bake.denoise-lines": "a denoiser that reaches across gaps",
        "bake.uncovered": "lightmaps outside every bake focus region",
    },
    front_pixels,
    conclude,
)
register(FAMILY)
