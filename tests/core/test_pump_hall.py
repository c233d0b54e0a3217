"""The pump hall: every seeded defect of charts and bakes is found, no healthy twin is, and the repaired hall has none left."""

import pytest

from eddyfall.core.bake.questions.explain import explain
from eddyfall.core.defects import families
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.drawables import pack
from eddyfall.demo.hall import make_hall

FIRST_CHOICE = {"face.seen-from-behind": 1, "texture.mip-bleed": 1}  # an inner side; wider gutters rather than no mips


@pytest.fixture(scope="module")
def hall():
    return make_hall(samples=12)


def inspected(build):
    survey = Survey(build, Renderer(Memo(256 * 1024**2)), pictures=False)
    return [s for family in families() for s in family.inspect(survey)]


@pytest.fixture(scope="module")
def found(hall):
    return inspected(hall[0])


def test_exactly_the_seeded_causes_are_found(hall, found):
    wanted = {(row["code"], row["cause"]) for row in hall[1]["findings"]}
    assert {(s.code, s.cause) for s in found} == wanted
    for row in hall[1]["findings"]:
        suspicion = next(s for s in found if (s.code, s.cause) == (row["code"], row["cause"]))
        assert set(row["subjects"]) <= set(suspicion.subjects), row


def test_no_healthy_twin_is_reported(hall, found):
    for twin in hall[1]["healthy"]:
        for suspicion in found:
            if suspicion.code == twin["twin_of"]:
                assert twin["subject"] not in suspicion.subjects, twin


def test_what_a_shell_with_a_bare_strip_shares_follows_from_its_size(found):
    # Each face of the strip repeats the UVs of the face it grows from: one of its two triangles lies on that, the other has no area
    # there and does not count. With A the area of a side, P its perimeter and t the thickness: A + P t / 2 of 2 A + P t / 2.
    wide, high, thick = 2.4, 0.6, 0.04
    side, strip = wide * high, 2 * (wide + high) * thick
    duct = next(s for s in found if s.cause == "duct" and s.code == "uv.overlap")
    assert duct.value == pytest.approx(100 * (side + strip / 2) / (2 * side + strip / 2), abs=0.05)


@pytest.mark.long
def test_the_repaired_hall_is_clean(hall, found):
    build = hall[0]
    for suspicion in found:
        if suspicion.code == "bake.stale":
            continue
        candidate = suspicion.candidates[FIRST_CHOICE.get(suspicion.code, 0)]
        try:
            build = apply_change(build, candidate.change)
        except ChangeError:
            continue  # another repair of the same mesh cured it already
    again = Change(id="bake.run", scope="project", operation=Operation(name="bake.run"))
    left = inspected(apply_change(build, again))
    assert [(s.code, s.title) for s in left] == []


@pytest.mark.long
def test_why_names_the_seeded_cause_of_each_seeded_texel_first():
    build, truth = make_hall()
    geometry = pack(build.scene, build.setup)

    def first(asset, at, light_set):
        found = explain(build, asset, tuple(at), light_set, geometry=geometry)
        return "healthy" if found.healthy else found.effects[0].code

    seeded = [row for row in truth["findings"] if "texel" in row]
    assert {row["code"] for row in seeded} == {
        "uv.overlap", "bake.leak", "bake.hidden-faces", "bake.denoise-lines", "bake.uncovered", "bake.banding", "bake.stale"
    }  # fmt: skip
    said = {row["cause"]: first(**row["texel"]) for row in seeded}
    assert said == {row["cause"]: row["code"] for row in seeded}
    for twin, at in (("spare_leaf", (44, 42)), ("plain_wall", (29, 27)), ("wall_north", (15, 14)), ("tally_board", (19, 31))):
        assert first(twin, at, "lamps_on") == "healthy", twin
