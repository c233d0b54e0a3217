"""Lightmaps as OpenEXR files."""

import tempfile
from pathlib import Path

import numpy as np
import OpenEXR


def exr_of_map(values: np.ndarray) -> bytes:
    """OpenEXR of a lightmap (h, w, 3) in lux: half floats, ZIP compression, row 0 on top."""
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "map.exr"
        with OpenEXR.File(header, {"RGB": np.ascontiguousarray(np.clip(values, 0, 65504), np.float16)}) as file:
            file.write(str(path))
        return path.read_bytes()
