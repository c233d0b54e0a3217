"""Compiles every kernel once, so that no user waits for a compiler: runs the whole path on a tiny scene."""

from eddyfall.core.bake.explain import explain
from eddyfall.core.bake.run import bake as run_bake
from eddyfall.core.bake.shortlist import shortlist
from eddyfall.core.defects import families  # noqa: F401
from eddyfall.core.defects.symptoms import symptoms
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup import line_up
from eddyfall.core.sweep import sweep
from eddyfall.demo.tiny import tiny_build


def main() -> None:
    """Sweep and line up the tiny scene, which has every kind of thing a kernel is compiled for."""
    build = tiny_build()
    size = (96, 54)
    renderer = Renderer()
    sweep(build, size=size, renderer=renderer)
    core_sample(renderer, build, Request("front", size), 48, 30)
    for symptom in symptoms():
        line_up(build, "front", (40, 20, 16, 16), symptom, size=size, renderer=renderer)
    bake = build.setup.bake.model_copy(
        update={"resolution": 16, "samples": 4, "bounces": 1, "denoise": "within_charts", "mips": True}
    )
    baked = run_bake(build.with_setup(build.setup.model_copy(update={"bake": bake}))).build
    sweep(baked, size=size, renderer=renderer)
    core_sample(renderer, baked, Request("front", size), 48, 30)
    explain(baked, "rail", (8, 8))
    shortlist(baked, renderer.geometry(baked), triangles_per_s=1e5)


if __name__ == "__main__":
    main()
