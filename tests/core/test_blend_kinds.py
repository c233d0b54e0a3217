"""What an alpha picture asks for: opaque, cutout, blended or nothing said, on made textures; things that are blended for nothing.

Limits are ours; that an alpha of one almost everywhere needs no blending, and that holes with sharp edges are cutouts, is common practice
without a source."""

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from eddyfall.core.defects.blend_kinds import FAMILY
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer
from eddyfall.core.hashing import freeze
from eddyfall.core.layers.census import census, counted
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.sweep import sweep
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT, card, mist_and_cutter, unlit
from scenes import Thing, build_of

EDGE = 64
WHOLE = np.ones((EDGE, EDGE), bool)


def opaque(rng):
    """One almost everywhere: noise of an encoder, a few texels off."""
    alpha = 1 - np.abs(rng.normal(0, rng.uniform(0, 0.02), (EDGE, EDGE)))
    alpha[rng.integers(0, EDGE, 4), rng.integers(0, EDGE, 4)] = rng.uniform(0.3, 0.9)
    return alpha


def grille(rng):
    """Bars or round holes, their edges anti-aliased over a texel."""
    y, x = np.mgrid[0:EDGE, 0:EDGE]
    period, phase = int(rng.integers(16, 33)), rng.uniform(0, 8)
    if rng.random() < 0.5:
        across = np.abs((x + phase) % period - period / 2)
    else:
        across = np.hypot((x + phase) % period - period / 2, (y + phase) % period - period / 2)
    return np.clip(across - rng.uniform(0.25, 0.35) * period + 0.5, 0, 1)


def leaf(rng):
    """A leaf on nothing."""
    y, x = np.mgrid[0:EDGE, 0:EDGE] / EDGE - 0.5
    return np.clip((rng.uniform(0.2, 0.4) - np.hypot(x * rng.uniform(0.8, 1.6), y)) * EDGE + 0.5, 0, 1)


def glass(rng):
    """Evenly see-through, some dirt on it."""
    return np.clip(rng.uniform(0.15, 0.75) + 0.08 * gaussian_filter(rng.normal(size=(EDGE, EDGE)), 3) * 6, 0.05, 0.9)


def smoke(rng):
    """Soft all over."""
    soft = gaussian_filter(rng.random((EDGE, EDGE)), rng.uniform(4, 8), mode="wrap")
    return (soft - soft.min()) / np.ptp(soft)


MADE = {"opaque": (opaque,), "cutout": (grille, leaf), "blended": (glass, smoke)}


def test_two_hundred_made_pictures_are_told_or_said_to_be_unsure_and_no_grille_is_called_opaque():
    rng, right, said = np.random.default_rng(2024), 0, 0
    for number in range(200):
        due = list(MADE)[number % 3]
        make = MADE[due][int(rng.integers(len(MADE[due])))]
        alpha = np.round(make(rng) * 255) / 255
        told = counted("m", alpha, WHOLE).advice
        assert due == "opaque" or told != "opaque", (make.__name__, number)
        if told != "unsure":
            said += 1
            right += told == due
    assert said >= 180 and right / said >= 0.97, (right, said)


def test_holes_of_some_texels_in_what_is_else_whole_and_a_mean_near_its_limit_are_left_alone():
    holed = np.ones((EDGE, EDGE))
    holed[20:25, 20:25] = 0.0
    assert counted("m", holed, WHOLE).advice in ("cutout", "unsure") and counted("m", holed, WHOLE).hole == 25
    for value, advice in ((0.97, "opaque"), (0.951, "unsure"), (0.945, "unsure"), (0.9, "blended")):
        assert counted("m", np.full((EDGE, EDGE), value), WHOLE).advice == advice, value


def test_what_is_hardly_there_at_all_is_no_cutout():
    for alpha in (np.zeros((EDGE, EDGE)), np.full((EDGE, EDGE), 0.02), np.full((1, 1), 0.02)):
        assert counted("m", alpha, np.ones(alpha.shape, bool)).advice == "blended"


def textured(alpha, uv=(0.0, 1.0), blend=None, factor=1.0):
    """A card with an alpha picture, of which its UVs cover a part, before a wall."""
    rgba = np.full((*alpha.shape, 4), 200, np.uint8)
    rgba[..., 3] = np.round(alpha * 255)
    shape = Shape().quad((-1, 0.5, -4), (2, 0, 0), (0, 2, 0))
    low, high = uv
    shape.uvs[-1] = np.array([[low, high], [high, high], [high, low], [low, low]])
    material = Material(
        "sheet", base_rgba=(1, 1, 1, factor), base_texture=TextureUse(0), unlit=True, alpha_mode="BLEND", double_sided=True
    )
    return build_of(
        card("wall", (-20, 20), (-10, 12), -8.0, unlit("wall", 0.2)), Thing("card", shape, material),
        images=(Image("picture", freeze(rgba)),),
        setup={"viewpoints": {"eye": {"eye": [0, 1.5, 0], "target": [0, 1.5, -1], "fov_y_deg": 55}}, **EXACT,
               **({"materials": {"sheet": {"blend": blend}}} if blend else {})},
    )  # fmt: skip


def test_only_texels_that_triangles_cover_count():
    """The left half of the picture is empty; the card shows the right half alone."""
    alpha = np.ones((EDGE, EDGE))
    alpha[:, : EDGE // 2] = 0.0
    build = textured(alpha, uv=(0.55, 0.95))
    renderer = Renderer()
    told = census(build, renderer.geometry(build), 1)
    assert told.advice == "opaque" and told.texels == pytest.approx((0.4 * EDGE) ** 2, rel=0.1)
    whole = textured(alpha)
    assert census(whole, renderer.geometry(whole), 1).advice == "cutout"
    tiled = textured(alpha, uv=(0.0, 30.0))
    assert census(tiled, renderer.geometry(tiled), 1).open == pytest.approx(0.5, abs=0.01)


@pytest.mark.long
@pytest.mark.parametrize(("make", "kind"), [(opaque, "opaque"), (grille, "cutout")])
def test_what_is_blended_for_nothing_is_found_and_drawn_as_what_it_is(make, kind):
    build = textured(make(np.random.default_rng(3)))
    (found,) = sweep(build).findings
    assert (found.code, found.suspicion.cause) == ("blend.unjustified", "sheet") and found.suspicion.facts["advice"] == kind
    assert found.best.change.title == f"draw sheet as {'a cutout' if kind == 'cutout' else kind}" and not found.best.new_findings


def test_what_is_meant_to_be_seen_through_is_left_alone_and_so_are_other_kinds():
    rng, ones = np.random.default_rng(1), np.ones((8, 8))
    kinds = (textured(ones, blend="additive"), textured(ones, blend="opaque"), textured(ones, factor=0.5))
    for build in (textured(glass(rng)), textured(smoke(rng)), *kinds):
        assert FAMILY.inspect(Survey(build, Renderer())) == []
    assert len(FAMILY.inspect(Survey(textured(np.ones((8, 8)), blend="premultiplied"), Renderer()))) == 1


def cut_found(build):
    return [f for f in sweep(build, size=(240, 136)).findings if f.code == "blend.cut-inert"]


def test_a_card_that_cuts_nothing_from_anywhere_is_told(renderer):
    """The kind cuts blended layers that are drawn before it alone (common practice): before a bare wall it does nothing. Where it
    cuts mist from one viewpoint of two it is of use, and before mist that is drawn after it the order is to blame."""
    alone = mist_and_cutter(1.0, nodes={"mist": {"drawn": False}})
    (found,) = cut_found(alone)
    assert found.suspicion.cause == "cutter" and found.severity == "latent"
    assert [(r.change.title, r.verdict) for r in found.remedies] == [("draw cutter no more", "cures")]
    views = {n: {"eye": [x, 1.6, 0.0], "target": [x, 1.6, -1.0], "fov_y_deg": 55} for n, x in (("left", -1), ("right", 1))}
    assert not cut_found(mist_and_cutter(viewpoints=views)) and not cut_found(mist_and_cutter(-1.0))


def test_seventeen_texels_of_eighty_let_a_little_through():
    """Derived: 17 of 80 covered texels at code 219, the rest 255: mean .970, the worst lets 14.1 % through. It is opaque."""
    alpha, mask = np.ones((16, 16)), np.zeros((16, 16), bool)
    mask[:8, :10] = True
    alpha[:1, :10], alpha[1:2, :7] = 219 / 255, 219 / 255
    alpha[8:] = 0  # what no triangle covers is not asked
    told = counted("m", alpha, mask)
    assert (told.texels, told.holes, told.advice) == (80, 0, "opaque")
    assert 1 - told.open == pytest.approx(0.970, abs=5e-4) and told.most == pytest.approx(0.141, abs=5e-4)


def test_colour_wired_to_opacity_is_told_from_mist_that_is_as_bright_as_it_is_dense():
    rng = np.random.default_rng(5)
    bright = rng.uniform(30, 240, (64, 64))
    whole = np.ones(bright.shape, bool)
    wired = counted("m", bright / 255, whole, bright)
    assert wired.wired and wired.advice == "opaque" and wired.follows > 0.999
    y, x = np.mgrid[0:64, 0:64] / 31.5 - 1
    mist = np.clip(1 - np.hypot(x, y), 0, 1)
    assert not counted("m", mist, whole, mist * 255).wired, "it ends in nothing"
    painted = np.clip(rng.uniform(0.2, 0.9, (64, 64)), 0, 1)
    assert not counted("m", painted, whole, bright).wired, "the one has nothing to do with the other"
    assert not counted("m", np.full((64, 64), 0.5), whole, bright).wired
