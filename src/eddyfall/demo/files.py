"""Files of a demo build: NAME.glb, NAME.setup.json, NAME.truth.json."""

import json
from pathlib import Path
from typing import Any

from eddyfall.core.scene.build import Build
from eddyfall.core.scene.gltf_write import write_glb


def write_files(folder: Path, name: str, build: Build, truth: dict[str, Any]) -> dict[str, Path]:
    """Write GLB, setup and truth table into `folder` and return their paths by kind."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = {k: folder / f"{name}{e}" for k, e in (("glb", ".glb"), ("setup", ".setup.json"), ("truth", ".truth.json"))}
    paths["glb"].write_bytes(write_glb(build.scene))
    paths["setup"].write_text(json.dumps(build.raw_setup, indent=2) + "\n")
    paths["truth"].write_text(json.dumps(truth, indent=2) + "\n")
    return paths
