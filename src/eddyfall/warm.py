"""Compiles every kernel once, so that no user waits for a compiler: runs the whole path on a tiny scene."""

import os
from collections.abc import Callable
from pathlib import Path

from eddyfall.core import source_hash
from eddyfall.core.bake.maps.run import bake as run_bake
from eddyfall.core.bake.questions.explain import explain
from eddyfall.core.bake.questions.shortlist import shortlist
from eddyfall.core.defects import families  # noqa: F401
from eddyfall.core.defects.symptoms import symptoms
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.pairs import apart, wrong_pairs
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change, set_leaf, set_leaves
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.reference.of_frame import Wanted, compare
from eddyfall.core.truth.reference.trace import Asked
from eddyfall.core.truth.reference.where import where_light
from eddyfall.demo.tiny import tiny_build

STEPS = 6


def main(progress: Callable[[str, float], None] = lambda what, share: None) -> None:
    """Sweep and line up the tiny scene, which has every kind of thing a kernel is compiled for. progress(what, share 0..1) as it goes."""
    done = iter(range(STEPS + 1))

    def tell() -> None:
        progress("compiling kernels", next(done) / STEPS)

    tell()
    build = tiny_build()
    size = (96, 54)
    renderer = Renderer()
    sweep(build, size=size, renderer=renderer)
    tell()
    core_sample(renderer, build, Request("front", size), 48, 30)
    for symptom in symptoms():
        line_up(build, "front", (40, 20, 16, 16), symptom, size=size, renderer=renderer)
    tell()
    bake = build.setup[Bake].model_copy(
        update={"resolution": 16, "samples": 4, "bounces": 1, "denoise": "within_charts", "mips": True}
    )
    baked = run_bake(build.with_setup(build.setup.model_copy(update={"bake": bake}))).build
    tell()
    sweep(baked, size=size, renderer=renderer)
    tell()
    core_sample(renderer, baked, Request("front", size), 48, 30)
    explain(baked, "rail", (8, 8))
    tell()
    marched = set_leaf(build, ("lights", build.scene.light_keys[0], "contact_m"), 0.5, scope="project", title="march")
    renderer.frame(apply_change(build, marched), Request("front", size))
    looked = Wanted(request=Request("front", size), samples=2, points=40, asked=Asked(bounces=2))
    compare(renderer, build, looked)
    from_the_frame(build, renderer, Request("front", size))
    layers = captured(renderer, build, Request("front", size))
    wrong_pairs(layers)
    apart(layers.frame, layers.drawn, layers.sorted)
    shortlist(baked, renderer.geometry(baked), triangles_per_s=1e5)


def from_the_frame(build: Build, renderer: Renderer, request: Request) -> None:
    """All that is made of a frame alone, coarse and filtered, with rays into the world."""
    march = {"enabled": True, "divisor": 2, "rounds": 1, "fallback": "world", "rays": 1, "steps": 4}
    leaves: dict[tuple[str, ...], object] = {(name, leaf): v for name in ("bounce", "reflect") for leaf, v in march.items()}
    leaves |= {("occlusion", "enabled"): True, ("reflect", "roughest"): 1.0, ("depth", "copy_from"): "opaque"}
    leaves |= {("refract", "enabled"): True, ("order", "method"): "list"}
    for key in build.scene.material_keys:
        leaves |= {("materials", key, "transmits"): "solid", ("materials", key, "transmission"): 0.5}
    made = apply_change(build, set_leaves(build, leaves, scope="project", title="from the frame alone"))
    renderer.frame(made, request)
    where_light(renderer, made, request, samples=2, bounces=2, places=16)


def once(progress: Callable[[str, float], None] = lambda what, share: None) -> None:
    """The same, unless it was done for this version of the kernels; `./run` leaves and looks for the same note."""
    note = Path(os.environ["NUMBA_CACHE_DIR"]).parents[1] / f"warm-{source_hash()}"
    if note.exists():
        return
    main(progress)
    for old in note.parent.glob("warm-*"):
        old.unlink(missing_ok=True)
    note.touch()


if __name__ == "__main__":
    main()
