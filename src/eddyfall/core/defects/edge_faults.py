"""blend.wrong-kind, blend.fringe, blend.coverage: edges of what has alpha that show a rim, or thin out far off.

A rim is measured by frames: as it is, with the picture read as what it holds, and with its colours multiplied by alpha before they are
averaged. Coverage is measured by asking each pixel of a cutout how much of it passes the test at the finest level."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.edge_symptoms import RIM, THINS
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, by_cause, region_of
from eddyfall.core.layers.coverage import Cover, cover_of
from eddyfall.core.layers.edges import STRAYS, WORDS, Pictured, Rim, pictured, put_right, read_right, rim, strays
from eddyfall.core.layers.pairs import LEAST_PIXELS
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, set_leaf
from eddyfall.core.scene.maps import drawn_materials
from eddyfall.core.scene.names import short_id
from eddyfall.core.shade.blend import KIND_NAMES, KINDS, REFRACTING, VOLUME

WRONG_KIND, FRINGE, COVERAGE = "blend.wrong-kind", "blend.fringe", "blend.coverage"
OFF_SHARE, LEAST_DUE = 0.1, 64  # of what is there; px of a cutout below which nothing is said


@dataclass(frozen=True)
class Edges:
    """A material with an alpha picture at a viewpoint: its number, kind, things in view; the picture, and what a frame is off by through it
    (None: it has none, or nothing that a frame could show); its coverage, if it is a cutout."""

    material: int
    kind: str
    things: tuple[str, ...]
    picture: Pictured | None
    rim: Rim | None
    cover: Cover | None

    @property
    def misread(self) -> np.ndarray | None:
        """(h, w) bool: where it is visibly misread, if that is anywhere to speak of."""
        return None if self.rim is None else _enough(self.rim.misread)

    @property
    def averaged(self) -> np.ndarray | None:
        """(h, w) bool: where it is visibly averaged wrongly, if that is anywhere to speak of."""
        return None if self.rim is None else _enough(self.rim.averaged)

    @property
    def thin(self) -> float:
        """By what share of what is there its coverage is off, if that is beyond the limit and there is enough of it; else 0."""
        c = self.cover
        if c is None or max(c.due, c.drawn) < LEAST_DUE:
            return 0.0
        share = abs(c.drawn - c.due) / max(c.due, 1.0)
        return share if share > OFF_SHARE else 0.0


def _enough(off: np.ndarray) -> np.ndarray | None:
    seen = off > VISIBLE_DIFFERENCE
    return seen if seen.sum() >= LEAST_PIXELS else None


def materials_at(survey: Survey, viewpoint: str) -> dict[int, list[int]]:
    """By material number, its drawables that are drawn as a cutout or blended and have a base picture."""
    s, materials = survey.stage(viewpoint).state, drawn_materials(survey.build)
    asked = s.drawn & s.colour_pass & ~s.camera_hidden & ~np.isin(s.blend, (KINDS["opaque"], REFRACTING, VOLUME))
    found: dict[int, list[int]] = {}
    for d in np.flatnonzero(asked):
        material = survey.geometry.drawables[d].material
        if material >= 0 and materials[material].base_texture is not None:
            found.setdefault(material, []).append(int(d))
    if survey.about is not None:
        names = [d.name for d in survey.geometry.drawables]
        return {m: things for m, things in found.items() if any(names[d] in survey.about for d in things)}
    return found


def kind_of(survey: Survey, drawable: int) -> str:
    """The name of a drawable's blend kind."""
    return KIND_NAMES[int(survey.stage().state.blend[drawable])]


def off_by(survey: Survey, material: int, kind: str) -> tuple[Pictured | None, bool]:
    """What is known of a material's picture, and whether a frame could show that it is drawn wrongly."""
    picture = pictured(survey.renderer, survey.build, material, kind)
    if picture is None:
        return None, False
    shown = survey.renderer.derive(strays, survey.build.scene.images[picture.image], picture).value
    return picture, bool(shown > STRAYS)


def edges_at(survey: Survey, viewpoint: str, at: tuple[int, int] | None = None) -> list[Edges]:
    """All materials with an alpha picture that are in view of a viewpoint; their rims told at a pixel (x, y), too."""
    there = materials_at(survey, viewpoint)
    if not there:
        return []
    frame = survey.frame(viewpoint, "depth")
    in_view, found = set(frame.buffers["in_view"].tolist()), []
    for material, drawables in there.items():
        seen = [d for d in drawables if d in in_view]
        if not seen:
            continue
        kind = kind_of(survey, seen[0])
        (picture, shown), told = off_by(survey, material, kind), None
        cover = cover_of(frame, seen) if kind == "cutout" else None
        if picture is not None and shown:
            told = rim(survey.renderer, survey.build, survey.request(viewpoint), material, picture, at)
        names = tuple(survey.geometry.drawables[d].name for d in seen)
        found.append(Edges(material, kind, names, picture, told, cover))
    return found


def all_put_right(survey: Survey, viewpoint: str) -> Build:
    """The build with every picture with alpha that is drawn at a viewpoint read and averaged right."""
    build = survey.build
    for material, drawables in materials_at(survey, viewpoint).items():
        picture, shown = off_by(survey, material, kind_of(survey, drawables[0]))
        if picture is not None and shown:
            build = put_right(build, material, picture, "premultiplied")
    return build


def observe(survey: Survey, viewpoint: str) -> dict[int, Edges]:
    """Materials whose edges are off at a viewpoint."""
    found = edges_at(survey, viewpoint)
    return {e.material: e for e in found if e.misread is not None or e.averaged is not None or e.thin > 0}


def conclude(survey: Survey, seen: dict[str, dict[int, Edges]]) -> list[Suspicion]:
    """For each material: one suspicion for a picture that is misread, one for a rim, one for coverage."""
    result = []
    for material, there in by_cause(seen).items():
        name = survey.build.scene.material_keys[material]
        things = tuple(dict.fromkeys(t for edges in there.values() for t in edges.things))
        for code in (WRONG_KIND, FRINGE):
            masks = {v: mask for v, e in there.items() if (mask := e.misread if code == WRONG_KIND else e.averaged) is not None}
            if masks:
                result.append(_rim_found(survey, code, name, things, masks, there))
        thin = {v: e for v, e in there.items() if e.thin > 0}
        if thin:
            result.append(_coverage_found(survey, name, things, thin))
    return result


def _rim_found(
    survey: Survey,
    code: str,
    name: str,
    things: tuple[str, ...],
    masks: dict[str, np.ndarray],
    there: dict[str, Edges],
) -> Suspicion:
    view = max(masks, key=lambda v: int(masks[v].sum()))
    kind, of, rim_there, n = there[view].kind, there[view].picture, there[view].rim, int(masks[view].sum())
    assert of is not None and rim_there is not None
    worst = float((rim_there.misread if code == WRONG_KIND else rim_there.averaged).max())
    if code == WRONG_KIND:
        title = f"{name}: its picture's colours are {WORDS[of.due.holds]}, they are drawn as if they were {WORDS[of.now.holds]}"
    else:
        title = f"{name} shows a rim: colours of what is clear in its picture are averaged in"
    steps = ", ".join(f"{WORDS[h]} {v:.3f}" for h, v in of.told.steps.items() if np.isfinite(v))
    return Suspicion(
        code=code, cause_kind="material", cause=name, title=title, subjects=things, value=float(n), limit=LEAST_PIXELS,
        evidence=(
            Evidence(measure=f"pixels whose colour is off at {view}", value=n, unit="px", limit=LEAST_PIXELS,
                     source=f"CIEDE2000 above {VISIBLE_DIFFERENCE:g} beside a frame with it put right",
                     picture=survey.painted(view, masks[view])),
            Evidence(measure="the worst of them", value=worst, unit="CIEDE2000", limit=VISIBLE_DIFFERENCE),
            Evidence(measure="step of its colour from texel to texel of another alpha, as it is read", unit="share",
                     value=float(min(of.told.steps[of.now.holds], 1.0)), source=f"if its colours are {steps}"),
        ),
        pixels={v: int(m.sum()) for v, m in masks.items()}, regions={v: region_of(m) for v, m in masks.items()},
        candidates=_kind_ways(survey, name, kind, of) if code == WRONG_KIND else _rim_ways(survey, name, of),
        facts={"holds": of.due.holds, "read_as": of.now.holds, "told_by_pairs": of.told.pairs},
    )  # fmt: skip


def _kind_ways(survey: Survey, name: str, kind: str, of: Pictured) -> tuple[Candidate, ...]:
    ways = [Candidate(change=read_right(survey.build, name, of), predicts="its colours are converted when it is loaded")]
    other = {("blended", "premultiplied"): "premultiplied", ("premultiplied", "straight"): "blended"}.get((kind, of.due.holds))
    if other:
        change = set_leaf(survey.build, ("materials", name, "blend"), other, scope="material", title=f"draw {name} as {other}")
        ways.insert(0, Candidate(change=change, predicts="the blend takes the colours as they are"))
    return tuple(ways)


def _rim_ways(survey: Survey, name: str, of: Pictured) -> tuple[Candidate, ...]:
    image = survey.build.scene.image_keys[of.image]
    ways = [Candidate(change=filter_multiplied(survey, name), predicts="what is clear brings no colour with it")]
    if of.now.holds == "straight":
        spread = Change(
            id=short_id(f"texture.spread_colour {image}"), title=f"spread the colours of {image} into what is clear", scope="material",
            reason="clear texels take part in averages", operation=Operation(name="texture.spread_colour", params={"image": image}),
        )  # fmt: skip
        ways.append(Candidate(change=spread, predicts="what is averaged in has the colour of what is beside it"))
    return tuple(ways)


def filter_multiplied(survey: Survey, name: str) -> Change:
    """Averages of colours that are multiplied by alpha."""
    return set_leaf(
        survey.build, ("materials", name, "filtered"), "premultiplied", scope="material",
        title=f"average the colours of {name} multiplied by alpha",
    )  # fmt: skip


def keep_coverage(survey: Survey, name: str) -> Change:
    """Mips that keep how much passes."""
    return set_leaf(
        survey.build,
        ("materials", name, "coverage_kept"),
        True,
        scope="material",
        title=f"keep the coverage of {name} in its mips",
    )


def cut_by(survey: Survey, name: str, by: str) -> Change:
    """Alpha that is held against a pattern, or scattered numbers."""
    words = {"pattern": f"cut {name} by a pattern of its alpha", "scattered": f"scatter the alpha test of {name}"}
    return set_leaf(survey.build, ("materials", name, "cut_by"), by, scope="material", title=words[by])


def _coverage_found(survey: Survey, name: str, things: tuple[str, ...], thin: dict[str, Edges]) -> Suspicion:
    covers = {v: e.cover for v, e in thin.items() if e.cover is not None}
    view = max(covers, key=lambda v: abs(covers[v].drawn - covers[v].due))
    cover, share = covers[view], thin[view].thin
    masks = {v: np.abs(c.where) > 0.5 for v, c in covers.items()}
    does = "thins out" if cover.drawn < cover.due else "fills up"
    worst = max(cover.levels, key=lambda v: abs(v.drawn - v.due))
    blended = set_leaf(survey.build, ("materials", name, "blend"), "blended", scope="material", title=f"draw {name} as blended")
    return Suspicion(
        code=COVERAGE, cause_kind="material", cause=name, subjects=things, value=share, limit=OFF_SHARE, restores=True,
        title=f"{name} {does} far off: {cover.drawn} px of it are drawn, {cover.due:.0f} are there",
        evidence=(
            Evidence(measure=f"coverage at {view}, off by", value=share, unit="share", limit=OFF_SHARE,
                     source="of what passes the test at the finest level, 16 places a pixel", picture=survey.painted(view, masks[view])),
            Evidence(measure=f"drawn of its {worst.pixels} px that are tested at mip level {worst.level}", value=float(worst.drawn),
                     unit="px", source=f"{worst.due:.0f} px are due"),
        ),
        pixels={v: int(m.sum()) for v, m in masks.items()}, regions={v: region_of(m) for v, m in masks.items()},
        candidates=(
            Candidate(change=keep_coverage(survey, name), predicts="as much passes at every level"),
            *(Candidate(change=cut_by(survey, name, by), predicts="each pixel is drawn as often as it is covered",
                        side_effects=("a pattern or grain shows, less of it with more samples",)) for by in ("pattern", "scattered")),
            Candidate(change=blended, predicts="each pixel shows its share", costs=(Cost("sorted draws", len(things), "draws"),),
                      side_effects=("it writes no depth and has to be sorted",)),
        ),
        facts={"levels": [{"level": v.level, "pixels": v.pixels, "drawn": v.drawn, "due": round(v.due, 1)} for v in cover.levels]},
    )  # fmt: skip


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """What puts the edges of the subject's material right, where its picture asks for it."""
    material = survey.geometry.drawables[subject].material
    if material not in materials_at(survey, viewpoint):
        return []
    kind, name, found = kind_of(survey, subject), survey.build.scene.material_keys[material], []
    where = "opaque" if kind == "cutout" else "blended"
    picture, shown = off_by(survey, material, kind)
    if picture is not None and shown:
        if picture.misread:
            ways = _kind_ways(survey, name, kind, picture)
            found += [Lever(where, w.change, w.predicts, f"its colours are {WORDS[picture.due.holds]}") for w in ways]
        if picture.now.stored == "straight":
            ways = _rim_ways(survey, name, picture)
            found += [Lever(where, w.change, w.predicts, "colours of what is clear are averaged in") for w in ways]
    if kind == "cutout":
        found.append(Lever("opaque", keep_coverage(survey, name), "as much passes at every level", "averaged alpha is tested"))
        found.append(
            Lever("opaque", cut_by(survey, name, "pattern"), "each pixel as often as it is covered", "averaged alpha is tested")
        )
    return found


FAMILY = register(
    Family(
        "edges of what has alpha",
        (
            Code(code=WRONG_KIND, words="Colours are taken for multiplied by alpha and are not, or the other way round",
                 kind="Transparency", symptom="rim", sheet="draw-order",
                 limit=f"pixels that are off by more than CIEDE2000 {VISIBLE_DIFFERENCE:g}: {LEAST_PIXELS}"),
            Code(code=FRINGE, words="Colours of what is clear are averaged into an edge", kind="Transparency", symptom="rim",
                 sheet="draw-order", limit=f"pixels that are off by more than CIEDE2000 {VISIBLE_DIFFERENCE:g}: {LEAST_PIXELS}"),
            Code(code=COVERAGE, words="A cutout thins out or fills up far off", kind="Transparency", symptom="thins out far off",
                 sheet="draw-order", limit=f"share of what is there: {OFF_SHARE:g}"),
        ),
        observe,
        conclude,
        levers,
        symptoms=(RIM.name, THINS.name),
        colours=frozenset({"colours_hold", "filtered"}),
    )
)  # fmt: skip
