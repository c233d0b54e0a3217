"""Skins of a glTF file, and which of them a node's mesh follows."""

from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Mesh, Skin
from eddyfall.core.scene.read.accessors import index_into, objects
from eddyfall.core.scene.read.reading import Reading
from eddyfall.core.scene.skins import astray, sets_of, weights_of


def read_skins(r: Reading) -> tuple[Skin, ...]:
    """Its skins, by number."""
    skins, entries = [], objects(r.doc, "nodes")
    for i, entry in enumerate(objects(r.doc, "skins")):
        name = r.name(entry, f"skin {i}")
        here, listed = f"skin {i} {name!r}", entry.get("joints")
        if not isinstance(listed, list) or not listed:
            raise SceneError("joints must be a list of at least one node", here)
        joints = tuple(index_into(j, entries, "node", f"{here} joints") for j in listed)
        inverse = np.tile(np.eye(4), (len(joints), 1, 1))
        if "inverseBindMatrices" in entry:
            rows = r.accessors.read(entry["inverseBindMatrices"], f"{here} inverseBindMatrices", ("MAT4",))
            if len(rows) < len(joints):
                raise SceneError(f"{len(rows)} inverse bind matrices for {len(joints)} joints", here)
            inverse = rows[: len(joints)].astype(np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
            if not np.isfinite(inverse).all():
                raise SceneError("an inverse bind matrix holds NaN or infinity", here)
        skins.append(Skin(name, joints, freeze(inverse)))
    return tuple(skins)


def skin_of(r: Reading, entry: dict[str, Any], here: str, mesh: Mesh | None, skins: tuple[Skin, ...]) -> int | None:
    """The skin of a node whose mesh has joints; what its weights are off by is said."""
    if entry.get("skin") is None or mesh is None:
        return None
    number = index_into(entry["skin"], list(skins), "skin", here)
    for part in mesh.primitives:
        if not sets_of(part):
            continue
        for n in sets_of(part):
            if part.attributes[f"JOINTS_{n}"].dtype not in (np.uint8, np.uint16) or part.attributes[f"JOINTS_{n}"].shape[1:] != (
                4,
            ):
                raise SceneError(f"JOINTS_{n} must be four unsigned bytes or shorts", here)
            if not (np.isfinite(part.attributes[f"WEIGHTS_{n}"]) & (part.attributes[f"WEIGHTS_{n}"] >= 0)).all():
                raise SceneError(f"WEIGHTS_{n} must be finite and not negative", here)
        joints, _ = weights_of(part)
        if int(joints.max(initial=0)) >= len(skins[number].joints):
            raise SceneError(f"joint {int(joints.max())} does not exist: its skin has {len(skins[number].joints)}", here)
        if (off := astray(part)) > 1e-3:
            r.notes.append(
                f"{here}: weights of its joints miss one by up to {off * 100:.2g} %; they are drawn as shares of their sum"
            )
    return number
