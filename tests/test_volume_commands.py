"""What lies before, in and behind mist, as a user asks for it."""

import json

import pytest

from scenes import write_build
from volume_scenes import LONG, NEAR, mist_and_sheet

SMALL = ("--size", "97x55")


@pytest.mark.parametrize(("at", "sort", "drawn", "due"), [
    (5.0, "object", 0.691, 0.691), (80.0, "object", 0.640, 0.640), (5.0, "none", 0.640, 0.691), (NEAR + LONG / 2, "split", 0.652, 0.652),
    (NEAR + LONG / 2, "object", 0.691, 0.652), (NEAR + LONG / 2, "none", 0.640, 0.652),
])  # fmt: skip
def test_order_of_a_sheet_and_mist_in_a_pixel(run, tmp_path, at, sort, drawn, due):
    """Optical depth 2.4 of .66 nit and a sheet of .8, alpha .4, over .2: .691 ahead, .640 behind, .652 midway."""
    path = write_build(mist_and_sheet(at, sort), tmp_path)
    _, out, _ = run("order", path, "--viewpoint", "eye", "--at", "48,27", *SMALL, "--json", "-")
    found = json.loads(out)
    assert found["drawn"][0] == pytest.approx(drawn, abs=5e-4) and found["due"][0] == pytest.approx(due, abs=5e-4)


def test_plates_behind_mist(run, tmp_path):
    """40 m at .06 a metre keep .0907, at .03 .3012."""
    for per_m, keeps in ((0.06, 0.0907), (0.03, 0.3012)):
        build = mist_and_sheet(80.0, volumes={"m": {"node": "mist", "per_m": per_m, "rgb": [0.66] * 3}})
        path = write_build(build, tmp_path, f"m{per_m}")
        code, out, _ = run("plates", path, "--viewpoint", "eye", "--subject", "mist", "--at", "48,27", *SMALL, "--json", "-")
        assert code == 0 and json.loads(out)["k_at"][0] == pytest.approx(keeps, abs=1e-4)
