"""From a build to what the passes are given: geometry, material tables, states by drawable, lights, cameras."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.hashing import freeze
from eddyfall.core.passes.contract import Camera, DrawableState, LightState, LookUp, Stage, Textures
from eddyfall.core.passes.display import exposure_scale
from eddyfall.core.passes.draw_order import TRIANGLES
from eddyfall.core.raster.coverage import with_coverage_kept
from eddyfall.core.raster.rasterise import DITHERED, Cutouts, cut_as
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.maps import Over, shader_of, with_maps
from eddyfall.core.scene.model import Material, Scene, turned_by, vec3
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup import STOCK_SHADERS
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.core.scene.setup.sections.shadow import Shadow, Technique
from eddyfall.core.scene.setup.sections.textures import Textures as TextureSettings
from eddyfall.core.scene.setup.tables import (
    CUTS_BY,
    SHADOWS_THROUGH,
    THICKNESSES,
    VOLUME_SORTS,
    WRITES_DEPTH,
    CutBy,
    LightSetup,
    MaterialSetup,
    NodeSetup,
    Shader,
    ShadowThrough,
    Thickness,
    Transmits,
    Triangles,
    WritesDepth,
)
from eddyfall.core.shade.alpha_forms import Form, form_of
from eddyfall.core.shade.blend import KINDS, REFRACTING, VOLUME
from eddyfall.core.shade.clear_coat import NO_COATS, Coats, make_coats
from eddyfall.core.shade.columns import BASE_ALPHA
from eddyfall.core.shade.lights import DIRECTIONAL, POINT, SPOT
from eddyfall.core.shade.srgb import decode
from eddyfall.core.shade.surface import Surfaces, material_factors
from eddyfall.core.shade.textures import TextureStore, build_store

WHOLE = (
    "material",
    "rank",
    "sort_member",
    "sort_mesh",
    "triangles",
    "thickness",
    "volume_sort",
    "shadow_through",
    "writes_depth",
)
REAL = ("padding_m", "draw_distance_m", "key_shift_m", "sort_place", "transmission", "rougher", "per_m", "volume_rgb")
Paint = tuple[tuple[int, tuple[float, float, float]], ...]
SOLID = ("opaque", "cutout")  # kinds that block light unless their material says otherwise
BLEND_OF_MODE = {"OPAQUE": "opaque", "MASK": "cutout", "BLEND": "blended"}


@dataclass(frozen=True)
class MaterialState:
    """What glTF and setup together say of one material."""

    key: str
    blend: str
    double_sided: bool
    shader: str
    cutoff: float
    casts_both: bool = False
    triangles: Triangles = "file"
    transmits: Transmits = "none"
    transmission: float = 0.0
    thickness: Thickness = "value"
    inside: str = "refract"
    rougher: float = 0.0
    hides: bool = True
    writes_depth: WritesDepth = "no"
    shadow_through: ShadowThrough = "none"


def transmits(material: Material, entry: MaterialSetup) -> Transmits:
    """How a material lets light through, by setup and file; one that is not lit never does."""
    lets = material.transmission if entry.transmission is None else entry.transmission
    of_file: Transmits = "none" if lets <= 0 else "solid" if material.thickness_m > 0 else "thin"
    return "none" if material.unlit else entry.transmits or of_file


def shadow_through(material: Material, entry: MaterialSetup) -> ShadowThrough:
    """What light makes of a material: blocked by what is solid, as the setup says by the rest, else passing what is blended by."""
    solid = (entry.blend or BLEND_OF_MODE[material.alpha_mode]) in SOLID
    if solid and transmits(material, entry) == "none":
        return "whole"
    return entry.shadow_through or ("whole" if solid else "none")


def material_states(build: Build) -> list[MaterialState]:
    """By material index; the last one is the default material of parts that have none."""
    states = []
    for key, material in zip(build.scene.material_keys, build.scene.materials):
        entry = build.setup.materials.get(key, MaterialSetup())
        double_sided = material.double_sided if entry.double_sided is None else entry.double_sided
        states.append(
            MaterialState(
                key,
                entry.blend or BLEND_OF_MODE[material.alpha_mode],
                double_sided,
                shader_of(material, entry),
                material.alpha_cutoff,
                double_sided if entry.casts_both_sides is None else entry.casts_both_sides,
                entry.triangles,
                transmits(material, entry),
                material.transmission if entry.transmission is None else entry.transmission,
                entry.thickness or ("value" if material.thickness_texture is None else "map"),
                entry.inside,
                entry.rougher,
                entry.hides,
                entry.writes_depth,
                shadow_through(material, entry),
            )
        )
    return [*states, MaterialState("(default)", "opaque", False, STOCK_SHADERS["OPAQUE"], 0.5, shadow_through="whole")]


def refracts(m: MaterialState, shader: Shader) -> bool:
    """Whether a material is drawn from a copy of what is behind, if the project does that."""
    return m.blend == "opaque" and m.transmits != "none" and m.transmission > 0 and shader.passes.refract


def make_state(
    build: Build,
    geometry: Geometry,
    hidden: frozenset[int],
    plate: bool,
    mapped: frozenset[int] = frozenset(),
    refract: bool = False,
) -> DrawableState:
    """States of all drawables; `mapped` ones have a lightmap; refract: whether what lets light through is drawn so.

    `hidden` ones are left out of camera passes, the plate too unless asked for."""
    materials = material_states(build)
    mirroring = {m.node for m in build.setup.mirrors.values() if m.on}
    shared = {
        node: (point.place_m, k, number * (point.one_mesh == "sorted"))
        for number, point in enumerate(build.setup.sort_points.values(), start=1)
        for k, node in enumerate(point.members)
    }
    alone = ((np.nan,) * 3, 0, 0)
    dense = {key for key, entry in build.setup.meshes.items() if entry.dense}
    filled = {volume.node: volume for volume in build.setup.volumes.values() if volume.on}
    rows: list[dict[str, Any]] = []
    for i, d in enumerate(geometry.drawables):
        m = materials[d.material]
        shader = build.setup.shaders.get(m.shader, Shader())
        node = build.setup.nodes.get(d.node, NodeSetup())
        is_plate = i == geometry.plate
        volume = filled.get(d.node)
        rows.append(
            {
                "blend": VOLUME if volume else REFRACTING if refract and refracts(m, shader) else KINDS[m.blend],
                "double_sided": (m.double_sided and volume is None) or is_plate,
                "material": d.material % len(materials),
                "shader": m.shader,
                "colour_pass": shader.passes.colour,
                "depth_pass": shader.passes.depth,
                "shadow_pass": shader.passes.shadow,
                "fogs": shader.fogs,
                "answers_direct": shader.answers.direct,
                "answers_ambient": shader.answers.ambient,
                "drawn": node.drawn,
                "casts": node.casts and not is_plate and volume is None,
                "receives": node.receives,
                "rank": node.draw_rank,
                "triangles": TRIANGLES.index(m.triangles),
                "key_shift_m": node.key_shift_m,
                "sort_place": shared.get(d.node, alone)[0],
                "sort_member": shared.get(d.node, alone)[1],
                "sort_mesh": shared.get(d.node, alone)[2],
                "padding_m": node.bounds_padding_m,
                "draw_distance_m": node.draw_distance_m,
                "camera_hidden": i in hidden or (is_plate and not plate),
                "mapped": i in mapped and m.blend in ("opaque", "cutout") and not node.moves and volume is None,
                "casts_both": m.casts_both or is_plate,
                "dense": d.mesh in dense,
                "in_mirrors": shader.passes.mirror,
                "mirrors": d.node in mirroring and not is_plate,
                "moves": node.moves,
                "bends": m.transmits == "solid",
                "thickness": THICKNESSES.index(m.thickness),
                "transmission": m.transmission,
                "inside_blend": m.inside == "blend",
                "rougher": m.rougher,
                "hides": m.hides,
                "writes_depth": WRITES_DEPTH.index(m.writes_depth),
                "shadow_through": SHADOWS_THROUGH.index(m.shadow_through),
                "per_m": volume.per_m if volume else 0.0,
                "volume_rgb": volume.rgb if volume else (0.0, 0.0, 0.0),
                "volume_sort": VOLUME_SORTS.index(volume.sort) if volume else 0,
            }
        )
    types: dict[str, Any] = dict.fromkeys(WHOLE, np.int64) | dict.fromkeys(REAL, np.float64) | {"blend": np.uint8}
    columns = {k: freeze(np.array([r[k] for r in rows], types.get(k, bool))) for k in rows[0] if k != "shader"}
    return DrawableState(**columns, shader=tuple(r["shader"] for r in rows))


def material_store(
    scene: Scene, mips: bool, over: tuple[Over, ...] = (), forms: tuple[Form, ...] = ()
) -> tuple[TextureStore, np.ndarray]:
    """Texels of all textures that materials draw, and which slots each material has, as `build_store` gives them; over: what is drawn in
    the stead of what the scene file binds; forms: how base pictures are stored."""
    return build_store(scene.images, with_maps(scene.materials, over), mips, forms)


def alpha_forms(build: Build) -> tuple[Form, ...]:
    """By material, how its base picture is stored; empty where all are stored as they are."""
    entries = [build.setup.materials.get(key, MaterialSetup()) for key in build.scene.material_keys]
    forms = tuple(form_of(state.blend, e.colours_hold, e.filtered) for state, e in zip(material_states(build), entries))
    return forms if any(f.holds != f.stored or f.divided for f in forms) else ()


def make_textures(build: Build, geometry: Geometry, stored: tuple[TextureStore, np.ndarray], bias: float, taps: int) -> Textures:
    """Material tables and texels of a build; stored as `material_store` gives it."""
    store, used = stored
    alpha_uv = geometry.uv0
    slots = store.slots[used[:, 0]]
    others = np.flatnonzero((used[:, 0] >= 0) & ((slots[:, 5] == 1) | (slots[:, 7] > 0)))
    if len(others):
        alpha_uv = np.array(geometry.uv0)
        for d in geometry.drawables:
            if d.material in others:
                rows, (second, turn) = np.unique(geometry.triangles[d.first : d.last]), slots[d.material, [5, 7]]
                uv = (geometry.uv1 if second else geometry.uv0)[rows]
                alpha_uv[rows] = turned_by(store.tables[turn, :6], uv) if turn else uv
    return Textures(Surfaces(material_factors(build.scene.materials), used, *store, float(bias), int(taps)), alpha_uv)


def coats_of(scene: Scene, mips: bool, bias: float, taps: int) -> Coats:
    """Clear coats of a scene; its pictures are looked at only where there are any."""
    materials = scene.materials
    return make_coats(materials, scene.images, mips, bias, taps) if any(m.coated for m in materials) else NO_COATS


def alpha_tests(build: Build) -> tuple[tuple[bool, float], ...]:
    """By material index, the default last: whether it is a cutout, and its alpha cutoff."""
    return tuple((state.blend == "cutout", state.cutoff) for state in material_states(build))


def coverage_keepers(build: Build) -> tuple[int, ...]:
    """Materials, by index, whose mips keep their coverage where a camera tests them."""
    entries = [build.setup.materials.get(key, MaterialSetup()) for key in build.scene.material_keys]
    return tuple(m for m, e in enumerate(entries) if e.coverage_kept)


def make_cutouts(
    tests: tuple[tuple[bool, float], ...], geometry: Geometry, textures: Textures, keepers: tuple[int, ...] = (),
    cuts: tuple[CutBy, ...] = (),
) -> Cutouts:  # fmt: skip
    """Alpha tests of the drawables whose material is a cutout; tests as `alpha_tests`, keepers as `coverage_keepers`, cuts as `cuts_by`
    gives them."""
    plain = plain_cutouts(tests, geometry, textures)
    kept = [m for m in keepers if plain.table[m, 5] and (plain.material == m).any()]
    plain = with_coverage_kept(plain, kept) if kept else plain
    if not cuts:
        return plain
    return plain._replace(cutoff=cut_as(plain.cutoff, np.array([CUTS_BY.index(by) for by in cuts] + [0])))


def cuts_by(build: Build) -> tuple[CutBy, ...]:
    """By material index, what its alpha is held against; empty where it is the cutoff everywhere."""
    found = tuple(build.setup.materials.get(key, MaterialSetup()).cut_by for key in build.scene.material_keys)
    return found if any(by != "cutoff" for by in found) else ()


def plain_cutouts(tests: tuple[tuple[bool, float], ...], geometry: Geometry, textures: Textures) -> Cutouts:
    """Alpha tests whose mips are plain averages."""
    surfaces = textures.surfaces
    table = np.zeros((len(tests), 6), np.int32)
    for m in range(len(tests)):
        slot = surfaces.used[m, 0]
        if slot >= 0:
            table[m] = [*surfaces.slots[slot, :5], 1]
    cut = np.array([d.material % len(tests) if tests[d.material][0] else -1 for d in geometry.drawables], np.int32)
    cutoffs = np.array([cutoff for _, cutoff in tests], np.float32)
    return Cutouts(
        cut, cutoffs, surfaces.factors[:, BASE_ALPHA].astype(np.float32), table, surfaces.levels, surfaces.texels[:, 3],
        np.zeros(len(tests), np.float32),
    )  # fmt: skip


ShadowTest = tuple[bool, float, bool, bool]


def shadow_alpha_tests(build: Build) -> tuple[ShadowTest, ...]:
    """By material index, the default last: whether the shadow pass tests a cutout's alpha, levels added to the mip level that it tests,
    whether its mips keep their coverage, whether it is dithered instead."""
    entries = [build.setup.materials.get(key, MaterialSetup()) for key in build.scene.material_keys]
    dithers = [state.shadow_through == "dithered" and state.blend not in SOLID for state in material_states(build)]
    return (
        *((e.shadow_alpha_test, e.shadow_mip_bias, e.shadow_coverage_kept, d) for e, d in zip(entries, dithers)),
        (True, 0.0, False, False),
    )


def make_shadow_cutouts(tests: tuple[ShadowTest, ...], cutouts: Cutouts, geometry: Geometry) -> Cutouts:
    """Alpha tests as shadows make them; tests as `shadow_alpha_tests` gives them."""
    tested, dithers = np.array([test for test, *_ in tests]), np.array([d for *_, d in tests])
    material = np.where((cutouts.material >= 0) & tested[cutouts.material], cutouts.material, -1).astype(np.int32)
    cutoff = cutouts.cutoff
    if dithers.any():
        own = np.array([d.material % len(tests) for d in geometry.drawables], np.int32)
        material, cutoff = np.where(dithers[own], own, material), np.where(dithers, DITHERED, cutoff).astype(np.float32)
    changed = cutouts._replace(material=material, cutoff=cutoff, bias=np.array([bias for _, bias, *_ in tests], np.float32))
    kept = [m for m, (_, _, keeps, _) in enumerate(tests) if keeps and cutouts.table[m, 5] and (material == m).any()]
    return with_coverage_kept(changed, kept) if kept else changed


def _technique(kind: int, entry: LightSetup, by_default: Technique) -> Technique:
    """How a light's shadow is drawn: as it says itself; a sun otherwise as the project says, a lamp by maps of its own."""
    if kind == DIRECTIONAL:
        return entry.technique or by_default
    return "rays" if entry.technique == "rays" else "cascades"


def look_up_of(entry: LightSetup, shadow: Shadow, sun: bool) -> LookUp:
    """How a light's maps are looked up: as it says itself, and what it leaves open as the project says. The project's bias grows with half
    the filter, and a little stays where a face looks at the light."""
    filter_px = entry.filter_px or shadow.filter_px
    own = entry.bias_normal_texels
    return LookUp(
        constant_m=entry.bias_mm / 1000,
        slope=entry.bias_slope,
        normal_texels=shadow.bias_texels + 0.5 * (filter_px - 1) if own is None else own,
        over=0.1 if own is None else 0.0,
        along_plane=entry.bias_along_plane,
        filter_px=filter_px,
        softness=entry.softness,
        size=_size(entry, sun),
        search_texels=entry.search_texels,
    )


def _size(entry: LightSetup, sun: bool) -> float:
    """A light's size: a sun's in m for each m of distance, a lamp's in m."""
    return 2 * math.tan(math.radians(entry.diameter_deg) / 2) if sun else entry.diameter_m


def _disc_size(entry: LightSetup, sun: bool) -> float:
    return _size(entry, sun) if entry.softness == "rays" else 0.0


def make_lights(build: Build, light_set: str | None = None, shadow: Shadow | None = None) -> tuple[LightState, ...]:
    """Lights of the scene and suns of the setup that are on, as they say themselves or as a light set says; suns first. shadow: the
    project's, for what they leave open."""
    lights = []
    scene, shadow = build.scene, shadow or Shadow()
    chosen = build.setup.light_sets[light_set].on if light_set is not None else {}
    for key, node_index in zip(scene.light_keys, (i for i, n in enumerate(scene.nodes) if n.light is not None)):
        entry = build.setup.lights.get(key, LightSetup())
        if not chosen.get(key, entry.on):
            continue
        light = scene.lights[scene.nodes[node_index].light]  # type: ignore[index]
        world = scene.world_matrices[node_index]
        back = world[:3, 2] / max(float(np.linalg.norm(world[:3, 2])), 1e-12)
        kind = {"directional": DIRECTIONAL, "point": POINT, "spot": SPOT}[light.kind]
        inner, outer = math.cos(light.inner_cone_rad), math.cos(light.outer_cone_rad)
        scale = 1.0 / max(0.001, inner - outer)
        towards = back if kind == DIRECTIONAL else -back
        power = vec3(c * light.intensity for c in light.rgb)
        casts = entry.casts if entry.casts is not None else kind == DIRECTIONAL
        technique = _technique(kind, entry, shadow.technique)
        lights.append(
            LightState(
                key, kind, vec3(world[:3, 3]), vec3(towards), power,
                light.range_m if entry.range_m is None else entry.range_m, (scale, -outer * scale), casts, entry.bakes,
                technique, look_up_of(entry, shadow, kind == DIRECTIONAL), entry.resolution, entry.faces, entry.lightmap_shade,
                _disc_size(entry, kind == DIRECTIONAL), entry.soft_rays, entry.contact_m, entry.contact_thick_m,
            )
        )  # fmt: skip
    for key, entry in build.setup.lights.items():
        if entry.kind == "sun" and chosen.get(key, entry.on):
            towards = np.array(entry.towards) / max(float(np.linalg.norm(entry.towards)), 1e-12)
            power = vec3(c * entry.illuminance_lux for c in entry.rgb)
            lights.append(
                LightState(
                    key,
                    DIRECTIONAL,
                    (0.0, 0.0, 0.0),
                    vec3(towards),
                    power,
                    0.0,
                    (1.0, 0.0),
                    entry.casts is not False,
                    entry.bakes,
                    _technique(DIRECTIONAL, entry, shadow.technique),
                    look_up_of(entry, shadow, True),
                    entry.resolution,
                    entry.faces,
                    entry.lightmap_shade,
                    _disc_size(entry, True),
                    entry.soft_rays,
                    entry.contact_m,
                    entry.contact_thick_m,
                )
            )
    return tuple(sorted(lights, key=lambda v: v.kind != DIRECTIONAL))


def make_camera(build: Build, viewpoint: str, aspect: float) -> Camera:
    """The camera of a viewpoint. RequestError if it does not exist."""
    if viewpoint not in build.setup.viewpoints:
        there = ", ".join(build.setup.viewpoints) or "none"
        raise RequestError(f"viewpoint {viewpoint!r} does not exist; there are: {there}")
    view = build.setup.viewpoints[viewpoint]
    if view.camera is not None:
        scene = build.scene
        index = scene.node_keys.index(view.camera)
        world = scene.world_matrices[index]
        axes = world[:3, :3] / np.maximum(np.linalg.norm(world[:3, :3], axis=0), 1e-12)
        camera = scene.cameras[scene.nodes[index].camera]  # type: ignore[index]
        return Camera(tuple(map(float, world[:3, 3])), _rows(axes.T), camera.fov_y_rad, aspect)  # type: ignore[arg-type]
    assert view.eye is not None and view.target is not None
    return Camera(view.eye, look_at(view.eye, view.target), math.radians(view.fov_y_deg), aspect)


def look_at(eye: Any, target: Any) -> tuple[tuple[float, ...], ...]:
    """Rows right, up, back of a camera at `eye` that looks at `target`, +Y up where possible."""
    back = np.array(eye, float) - np.array(target, float)
    back /= np.linalg.norm(back)
    up = np.array([0.0, 1.0, 0.0]) if abs(back[1]) < 0.9999 else np.array([0.0, 0.0, -1.0])
    right = np.cross(up, back)
    right /= np.linalg.norm(right)
    return _rows(np.stack([right, np.cross(back, right), back]))


def _rows(matrix: np.ndarray) -> tuple[tuple[float, ...], ...]:
    return tuple(tuple(float(v) for v in row) for row in matrix)


def error_paint(errors: frozenset[int], geometry: Geometry, resolved: Resolved) -> Paint:
    """Flat colours by drawable for materials, by number, without a base shader: nits that are shown as the error colour."""
    if not errors:
        return ()
    e = resolved[Exposure]
    r, g, b = (float(v) for v in decode(np.array(resolved[TextureSettings].error_rgb)) / exposure_scale(e.mode, e.ev100))
    return tuple((i, (r, g, b)) for i, d in enumerate(geometry.drawables) if d.material in errors)


def make_stage(build: Build, state: DrawableState, resolved: Resolved, paint: Any = ()) -> Stage:
    """All that sections are cut from."""
    return Stage(resolved, state, make_lights(build, resolved.light_set, resolved[Shadow]), paint)
