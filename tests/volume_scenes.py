"""Boxes of mist and sheets before, in and behind them, worked out by hand."""

from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT, card, unlit
from scenes import GREY, Thing, build_of

PER_M, LONG = 0.06, 40.0  # optical depth 2.4 straight through
NEAR = 10.0


def mist_and_sheet(at, sort="object", more=(), backdrop=0.2, sheet=0.8, volumes=None, **setup):
    """A bank of .2 nit 100 m off, mist of .66 nit and optical depth 2.4 from 10 to 50 m, a sheet (of .8 nit) and alpha .4 so many m off."""
    return build_of(
        card("bank", (-200, 200), (-200, 200), -100.0, unlit("bank", backdrop)),
        Thing("mist", Shape().box((-30, -30, -NEAR - LONG), (30, 30, -NEAR)), GREY),
        card("sheet", (-20, 20), (-20, 20), -at, unlit("sheet", sheet, 0.4)), *more,
        setup={
            "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 30}},
            "volumes": volumes or {"weir mist": {"node": "mist", "per_m": PER_M, "rgb": [0.66] * 3, "sort": sort}},
            "order": {"key": "range"}, **EXACT, **setup,
        },
    )  # fmt: skip
