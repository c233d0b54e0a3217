"""Pass 13: exposure and display encoding."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.core.shade.srgb import encode


def exposure_scale(mode: str, ev100: float) -> float:
    """Factor from nits to display light: 1, or 1 / (1.2 * 2^EV100) (Lagarde & de Rousiers 2014; ISO 12232)."""
    return 1.0 if mode == "off" else 1.0 / (1.2 * 2.0**ev100)


@dataclass(frozen=True, kw_only=True)
class DisplaySection:
    """What the pass is set by."""

    exposure: Exposure


def section(stage: Stage) -> DisplaySection:
    return DisplaySection(exposure=stage.resolved[Exposure])


def run(inputs: Values, section: DisplaySection) -> dict[str, Any]:
    e = section.exposure
    return {"display": encode_display(inputs["linear"] * np.float32(exposure_scale(e.mode, e.ev100)))}


_STEPS = 4096
_TABLE = (encode((np.arange(_STEPS + 1) / _STEPS) ** 2) * 255.0).astype(np.float32)


def encode_display(light: np.ndarray) -> np.ndarray:
    """8-bit sRGB of display light; a table over sqrt(light), within 0.05 code of the exact curve before rounding."""
    position = np.sqrt(np.clip(light, 0.0, 1.0)) * np.float32(_STEPS)
    return np.asarray(_TABLE[(position + np.float32(0.5)).astype(np.int32)] + np.float32(0.5)).astype(np.uint8)


def twin(r: Recorder) -> None:
    """Says what is done to the sum of the strata afterwards."""
    e = r.stage.resolved[Exposure]
    if e.mode != "off":
        r.transforms.append(f"exposure: x {exposure_scale(e.mode, e.ev100):.4g} (EV100 {e.ev100:g})")
    r.transforms.append("display: sRGB encoding to 8 bit")


PASS = register(
    Pass(
        number=13,
        name="display",
        does="exposure and display encoding",
        reads=("linear",),
        writes=("display",),
        section=section,
        targets=(Target(name="display", texel_bytes=3),),
        run=run,
        twin=twin,
    )
)
