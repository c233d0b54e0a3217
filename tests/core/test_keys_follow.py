"""Random builds, random changes: a renderer that has seen them all and a fresh one give the same frames, surveys and findings."""

from dataclasses import replace

import numpy as np

from eddyfall.core.bake.maps.run import bake
from eddyfall.core.defects import families, lightmap_survey
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Light, Material, TextureUse
from eddyfall.demo.shapes import Shape, grid_charts
from scenes import Thing, build_of
from sizes import of_many

SIZE = (64, 36)
SEQUENCES = of_many(100, 25)
ASKED = 8  # families of each, so that every one of them is asked some thirty times in a long run
ALPHA = np.full((8, 8, 4), 255, np.uint8)
ALPHA[::2, :, 3] = 0
CHANGES = (
    "material look",
    "node",
    "shader passes",
    "light",
    "shadow",
    "depth",
    "textures",
    "picture",
    "material",
    "bake settings",
    "bake again",
    "painted lightmap",
    "move",
)
LOOKS = ("OPAQUE", "MASK", "BLEND")


def random_material(rng, name):
    texture = TextureUse(int(rng.integers(2)), "repeat", "repeat", bool(rng.integers(2)), 0) if rng.random() < 0.5 else None
    return Material(
        name,
        base_rgba=(*(float(v) for v in rng.uniform(0.1, 0.9, 3)), float(rng.uniform(0.3, 1))),
        base_texture=texture,
        metallic=float(rng.integers(2)),
        roughness=float(rng.uniform(0.1, 1)),
        alpha_mode=LOOKS[rng.integers(3)],
        double_sided=bool(rng.integers(2)),
        unlit=bool(rng.random() < 0.2),
    )


def random_build(rng):
    things = []
    for i in range(int(rng.integers(3, 6))):
        place = rng.uniform((-3, -2, -14), (3, 2, -6))
        shape = Shape().box(tuple(place), tuple(place + rng.uniform(0.5, 3, 3)), faces="xXyYzZ"[: int(rng.integers(3, 7))])
        mapped = grid_charts(shape) if i == 0 else None
        things.append(Thing(f"thing{i}", shape, random_material(rng, f"m{rng.integers(3)}"), lightmap=mapped))
    setup = {
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": [0.3, 0.8, 0.5]}},
        "sky": {"zenith_rgb": [0.3, 0.4, 0.8], "horizon_rgb": [0.5, 0.5, 0.5], "ground_rgb": [0.1, 0.1, 0.1]},
        "shadow": {"reach_m": float(rng.choice([8.0, 30.0])), "resolution": 128, "cascades": 2},
        "fog": {"enabled": bool(rng.integers(2)), "fog_per_m": 0.05, "rgb": [0.5, 0.5, 0.6]},
        "viewpoints": {"eye": {"eye": [0, 1, 2], "target": [0, 0, -9]}, "side": {"eye": [9, 3, -9], "target": [0, 0, -9]}},
        "shaders": {"bare": {"passes": {"depth": False}}},
        "bake": {"resolution": 8, "samples": 2, "bounces": 1},
    }
    images = (Image("a", freeze(ALPHA.copy())), Image("b", freeze(rng.integers(0, 255, (4, 4, 4)).astype(np.uint8))))
    lamps = ((Light("lamp", "point", intensity=30.0), (0.0, 3.0, -7.0)),)
    build = build_of(*things, setup=setup, images=images, lamps=lamps)
    return build if rng.integers(3) else bake(build).build


def table_entry(build, rng, table, keys, **fields):
    """The build with one field of one entry of a setup table set."""
    key = keys[rng.integers(len(keys))]
    name = list(fields)[rng.integers(len(fields))]
    rows = dict(getattr(build.setup, table))
    model = type(build.setup).model_fields[table].annotation.__args__[1]
    rows[key] = rows.get(key, model()).model_copy(update={name: fields[name]})
    return build.with_setup(build.setup.model_copy(update={table: rows}))


def section(build, rng, name, **fields):
    field = list(fields)[rng.integers(len(fields))]
    part = getattr(build.setup, name).model_copy(update={field: fields[field]})
    return build.with_setup(build.setup.model_copy(update={name: part}))


def changed(build, rng):
    """The build after one random change, of the setup or of the file."""
    scene, flag = build.scene, bool(rng.integers(2))
    i = int(rng.integers(len(scene.nodes) - 1))
    match CHANGES[rng.integers(len(CHANGES))]:
        case "material look":
            blend = ("opaque", "cutout", "blended")[rng.integers(3)]
            return table_entry(build, rng, "materials", scene.material_keys, blend=blend, double_sided=flag, shader="bare")
        case "node":
            far = float(rng.uniform(5, 20))
            return table_entry(
                build, rng, "nodes", scene.node_keys[:-1], drawn=flag, casts=flag, receives=flag, draw_distance_m=far, draw_rank=i
            )
        case "shader passes":
            passes = build.setup.shaders["bare"].passes.model_copy(update={("depth", "shadow", "colour", "bake")[i % 4]: flag})
            return table_entry(build, rng, "shaders", ("bare",), passes=passes)
        case "light":
            return table_entry(build, rng, "lights", ("sun", "lamp"), on=flag, casts=flag)
        case "shadow":
            return section(
                build, rng, "shadow", reach_m=float(rng.uniform(4, 40)), bias_texels=float(rng.uniform(0, 3)), enabled=flag
            )
        case "depth":
            copy_from = ("none", "prepass", "opaque")[rng.integers(3)]
            return section(
                build, rng, "depth", near_m=float(rng.uniform(0.01, 1)), reversed=flag, format="unorm16", copy_from=copy_from
            )
        case "textures":
            return section(
                build, rng, "textures", mips=flag, mip_bias=float(rng.integers(-1, 3)), anisotropy=int(rng.integers(1, 5))
            )
        case "picture":  # a picture delivered anew under its old name: emptied, filled, or something else
            pixels = np.array(scene.images[0].pixels)
            pixels[..., 3] = rng.choice([0, 255]) if flag else rng.integers(0, 255, pixels.shape[:2])
            return replace(build, scene=scene.with_image(Image(scene.images[0].name, freeze(pixels))))
        case "material":
            k = int(rng.integers(len(scene.materials)))
            made = random_material(rng, scene.materials[k].name)
            return replace(build, scene=replace(scene, materials=(*scene.materials[:k], made, *scene.materials[k + 1 :])))
        case "bake settings":
            encoding = ("half", "srgb8", "linear16")[rng.integers(3)]
            return section(
                build,
                rng,
                "bake",
                mips=flag,
                encoding=encoding,
                hidden="keep",
                dither=flag,
                dilate_texels=i,
                denoise="across_gaps",
            )
        case "bake again" if build.setup.lightmaps:
            return bake(build).build
        case "painted lightmap" if build.setup.lightmaps:  # a lightmap painted over by hand
            painted = next(k for k in scene.images if k.name not in ("a", "b"))
            pixels = np.array(painted.pixels)
            pixels[: 1 + i] = pixels[0, 0]
            return replace(build, scene=scene.with_image(Image(painted.name, freeze(pixels))))
        case _:
            matrix = np.array(scene.nodes[i].matrix)
            matrix[:3, 3] += rng.uniform(-1, 1, 3)
            return replace(build, scene=scene.with_node(i, replace(scene.nodes[i], matrix=freeze(matrix))))


def said(suspicions):
    return sorted(
        (
            s.fingerprint,
            s.title,
            s.subjects,
            round(s.value, 6),
            tuple(sorted(s.pixels.items())),
            tuple(e.value for e in s.evidence),
        )
        for s in suspicions
    )


def judged(build, renderer, asked):
    """(frames of all viewpoints, what some families say) by a renderer."""
    survey = Survey(build, renderer, size=SIZE, pictures=False)
    frames = {v: survey.frame(v, "display").buffers for v in survey.viewpoints}
    shown = {v: {k: np.array(b[k]) for k in ("display", "linear", "depth", "drawable")} for v, b in frames.items()}
    return shown, {family.name: said(family.inspect(survey)) for family in asked}


def test_a_renderer_that_has_seen_everything_and_a_fresh_one_agree(monkeypatch):
    worn, worn_notes = Renderer(Memo(64 * 1024**2)), Memo(16 * 1024**2)
    for seed in range(SEQUENCES):
        rng = np.random.default_rng(seed)
        build = random_build(rng)
        asked = [families()[k] for k in np.random.default_rng([seed, 1]).permutation(len(families()))[:ASKED]]
        monkeypatch.setattr(lightmap_survey, "JUDGED", worn_notes)
        judged(build, worn, asked)
        for _ in range(int(rng.integers(1, 4))):
            build = changed(build, rng)
            seen = judged(build, worn, asked)
        monkeypatch.setattr(lightmap_survey, "JUDGED", Memo())
        fresh = judged(build, Renderer(), asked)
        assert seen[1] == fresh[1], f"sequence {seed}"
        for view, buffers in fresh[0].items():
            for name, values in buffers.items():
                assert np.array_equal(values, seen[0][view][name]), f"sequence {seed}: {name} of {view}"
