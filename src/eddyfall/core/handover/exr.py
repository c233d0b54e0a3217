"""Frames as OpenEXR: scene-linear radiance and depth, half or full float, and as PNG."""

import numpy as np
from PIL import Image

from eddyfall.core.frame.render import Frame
from eddyfall.core.scene.sky_pictures import exr_file


def exr_bytes(frame: Frame) -> bytes:
    """OpenEXR scanline file: R G B scene-linear in nits before exposure, Z view depth in m; float32, ZIP compression."""
    depth = np.where(np.isfinite(frame.view_depth), frame.view_depth, 1e30).astype(np.float32)
    return exr_file({"RGB": np.ascontiguousarray(frame.linear, np.float32), "Z": np.ascontiguousarray(depth)})


def png_bytes(frame: Frame) -> bytes:
    """8-bit sRGB PNG of the display picture."""
    import io

    stream = io.BytesIO()
    Image.fromarray(frame.display).save(stream, "PNG", compress_level=1)
    return stream.getvalue()
