"""Frames and references as OpenEXR: scene-linear radiance and depth, half or full float, and as PNG."""

import numpy as np
from PIL import Image

from eddyfall.core.frame.render import Frame
from eddyfall.core.scene.sky_pictures import exr_file
from eddyfall.core.truth.reference.of_frame import Reference
from eddyfall.core.truth.reference.tally import PARTS


def exr_bytes(frame: Frame) -> bytes:
    """OpenEXR scanline file: R G B scene-linear in nits before exposure, Z view depth in m; float32, ZIP compression."""
    depth = np.where(np.isfinite(frame.view_depth), frame.view_depth, 1e30).astype(np.float32)
    return exr_file({"RGB": np.ascontiguousarray(frame.linear, np.float32), "Z": np.ascontiguousarray(depth)})


def reference_exr(reference: Reference) -> bytes:
    """OpenEXR scanline file of a reference of all pixels of its window: R G B in nits, and of each part and light that brings any a layer
    of its own; float32, ZIP compression."""
    t, (height, width) = reference.tally, reference.frame.pixels.shape
    named = [(name, t.part(i)) for i, name in enumerate(PARTS)] + [
        (f"light {n}", t.light(i)) for i, n in enumerate(t.light_names)
    ]
    layers = {
        "RGB": t.radiance,
        **{f"{layer_name(name)}.{c}": v[:, k] for name, v in named if v.any() for k, c in enumerate("RGB")},
    }
    return exr_file(
        {name: np.ascontiguousarray(v.reshape(height, width, *v.shape[1:]), np.float32) for name, v in layers.items()}
    )


def layer_name(name: str) -> str:
    """A name as a layer of OpenEXR may have it: no dots, which part layers from channels."""
    return name.replace(".", "_").replace(" ", "_") or "_"


def png_bytes(frame: Frame) -> bytes:
    """8-bit sRGB PNG of the display picture."""
    return png_of(frame.display)


def png_of(picture: np.ndarray) -> bytes:
    """PNG of a picture (h, w, 3) uint8, quickly."""
    import io

    stream = io.BytesIO()
    Image.fromarray(picture).save(stream, "PNG", compress_level=1)
    return stream.getvalue()
