"""Blended fragments of a frame as a document."""

from typing import Self

from eddyfall.core.frame.render import Frame
from eddyfall.core.handover.documents.base import Document
from eddyfall.core.layers.overdraw import Overdraw
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.budget import Budget
from eddyfall.core.uv.trim import savings


class LaidByDocument(Document):
    """A thing: fragments that its triangles make, those hidden by depth, those shown that change nothing; trims: share of its mesh's area
    that trimming its cards to eight corners would save (null: it is made of no cards with a picture)."""

    drawable: str
    mesh: str
    fragments: int
    hidden: int
    idle: int
    trims: float | None


class OverdrawDocument(Document):
    """A viewpoint: blended fragments for each pixel, the most in one, share of them that changes nothing; what the target allows (null: no
    limit); pixels by depth, from 0 on; things, those that lay most first."""

    viewpoint: str
    mean: float
    deepest: int
    idle: float
    limit: float | None
    by_depth: list[int]
    laid: list[LaidByDocument]

    @classmethod
    def from_core(cls, build: Build, viewpoint: str, frame: Frame, found: Overdraw) -> Self:
        import numpy as np

        limit = frame.stage.resolved[Budget].blended_layers
        drawables, meshes = frame.geometry.drawables, build.scene.mesh_keys
        share = {m: savings(build, meshes.index(m)) for m in {drawables[v.drawable].mesh for v in found.laid} if m in meshes}
        return cls(
            viewpoint=viewpoint, mean=found.mean, deepest=int(found.depth.max(initial=0)),
            idle=found.idle / max(int(found.depth.sum()), 1), limit=limit or None, by_depth=np.bincount(found.depth.ravel()).tolist(),
            laid=[
                LaidByDocument(
                    drawable=drawables[v.drawable].name, mesh=drawables[v.drawable].mesh, fragments=v.fragments, hidden=v.hidden,
                    idle=v.idle, trims=share.get(drawables[v.drawable].mesh),
                )
                for v in found.laid
            ],
        )  # fmt: skip
