"""Frames as OpenEXR: scene-linear radiance and depth, half or full float, and as PNG."""

import tempfile
from pathlib import Path

import numpy as np
import OpenEXR
from PIL import Image

from eddyfall.core.frame.render import Frame


def exr_bytes(frame: Frame) -> bytes:
    """OpenEXR scanline file: R G B scene-linear in nits before exposure, Z view depth in m; float32, ZIP compression."""
    depth = np.where(np.isfinite(frame.view_depth), frame.view_depth, 1e30).astype(np.float32)
    return _file({"RGB": np.ascontiguousarray(frame.linear, np.float32), "Z": np.ascontiguousarray(depth)})


def radiance_bytes(radiance: np.ndarray) -> bytes:
    """OpenEXR scanline file of a picture (h, w, 3), linear; float32, ZIP compression."""
    return _file({"RGB": np.ascontiguousarray(radiance, np.float32)})


def _file(channels: dict[str, np.ndarray]) -> bytes:
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "frame.exr"
        with OpenEXR.File(header, channels) as file:
            file.write(str(path))
        return path.read_bytes()


def png_bytes(frame: Frame) -> bytes:
    """8-bit sRGB PNG of the display picture."""
    import io

    stream = io.BytesIO()
    Image.fromarray(frame.display).save(stream, "PNG", compress_level=1)
    return stream.getvalue()
