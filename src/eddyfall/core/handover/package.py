"""The repaired build on disk: GLB, setup, JSON Patch, change file. Never overwrites an input."""

import copy
import json
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import jsonpatch

from eddyfall.core.errors import RequestError
from eddyfall.core.handover.documents.base import plain
from eddyfall.core.handover.documents.changes import change_json
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, difference
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.setup import lasting, normalised


def slug(name: str) -> str:
    """A file name of our own made from a name of someone else's."""
    return re.sub(r"[^a-z0-9_-]+", "-", name.lower()).strip("-")[:60] or "build"


def write_new(path: Path, data: bytes, inputs: Sequence[Path]) -> None:
    """Write a file whole or not at all; RequestError if it would overwrite an input."""
    if any(path.exists() and i.exists() and path.samefile(i) for i in inputs):
        raise RequestError(f"{path.name} would overwrite an input; choose another place")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_name(path.name + ".part")
        part.write_bytes(data)
        part.replace(path)
    except OSError as error:
        raise RequestError(f"{path} cannot be written: {error.strerror}") from None


def json_bytes(value: Any) -> bytes:
    """Pretty JSON without NaN."""
    return (json.dumps(plain(value), indent=2, allow_nan=False) + "\n").encode()


def changes_document(changes: Sequence[Change]) -> dict[str, Any]:
    """The change file of some changes."""
    return {"eddyfall_changes": 1, "changes": [change_json(c) for c in changes]}


def setup_patch(base: Build, result: Build) -> list[dict[str, Any]]:
    """RFC 6902 patch from the user's own setup document to the result's: one hunk for each changed leaf. What roles set for the session
    alone is left out."""
    return difference(base.raw_setup, normalised(base.setup), normalised(lasting(result.setup)))


def write_package(
    base: Build, result: Build, changes: Sequence[Change], folder: Path, name: str, inputs: Sequence[Path]
) -> dict[str, Path]:
    """Write NAME.glb, NAME.setup.json, NAME.patch.json and NAME.changes.json into `folder` and return their paths."""
    stem = slug(name)
    patch = setup_patch(base, result)
    document = jsonpatch.apply_patch(copy.deepcopy(base.raw_setup), patch)
    files = {
        "glb": (f"{stem}.glb", write_glb(result.scene, base.scene)),
        "setup": (f"{stem}.setup.json", json_bytes(document)),
        "patch": (f"{stem}.patch.json", json_bytes(patch)),
        "changes": (f"{stem}.changes.json", json_bytes(changes_document(changes))),
    }
    paths = {}
    for kind, (file, data) in files.items():
        paths[kind] = folder / file
        write_new(paths[kind], data, inputs)
    return paths
