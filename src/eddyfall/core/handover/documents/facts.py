"""What a build holds. Nothing here needs a compiled kernel, so a short-lived reader starts fast."""

from typing import Any, Self

from pydantic import Field

from eddyfall.core.handover.documents.base import Document, Triple
from eddyfall.core.intake.arrival import arrivals
from eddyfall.core.intake.undrawn import undrawn
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Scene


class Bounds(Document):
    """Corners of the box around all that is drawn, in m."""

    low: Triple
    high: Triple


class ImageSize(Document):
    """An image or a sky picture in px, and what materials use it as, or sky."""

    name: str
    width: int
    height: int
    roles: list[str]


class ClipFacts(Document):
    """A clip of the file: when its last key is, and how many nodes it moves."""

    name: str
    ends_s: float
    moves: int


class ArrivalFacts(Document):
    """What is wrong with a part as it arrives: import.*, by its numbers alone."""

    code: str
    subject: str
    measure: str
    value: float
    unit: str
    why: str


class UndrawnFacts(Document):
    """What an extension says of materials and is not drawn yet; pixels of them by viewpoint, of a frame of 480 x 270."""

    extension: str
    materials: list[str]
    pixels: dict[str, int]


class LevelFacts(Document):
    """A node's levels of detail: how many, the first one counted, and the least share of the picture that each is due from."""

    node: str
    levels: int
    coverage: list[float]


class BuildFacts(Document):
    """Counts, bounds, images, and notes on what was left out or fitted."""

    triangles: int
    vertices: int
    drawables: int
    meshes: int
    nodes: int
    materials: int
    images: int
    lights: int
    cameras: int
    viewpoints: list[str]
    bounds_m: Bounds
    image_sizes: list[ImageSize]
    left_out: list[str]
    skins: int = 0
    clips: list[ClipFacts] = Field(default_factory=list)
    arrivals: list[ArrivalFacts] = Field(default_factory=list)
    variants: list[str] = Field(default_factory=list)
    undrawn: list[UndrawnFacts] = Field(default_factory=list)
    levels: list[LevelFacts] = Field(default_factory=list)


class IntakeDocument(BuildFacts):
    """The same with the setup in use."""

    setup: dict[str, Any]

    @classmethod
    def from_core(cls, build: Build) -> Self:
        scene, geometry = build.scene, pack(build.scene, build.setup)
        low, high = geometry.scene_bounds
        sizes = [
            ImageSize(name=i.name, width=i.pixels.shape[1], height=i.pixels.shape[0], roles=roles)
            for i, roles in zip(scene.images, image_roles(scene))
        ]
        sizes += [
            ImageSize(name=v.name, width=v.radiance.shape[1], height=v.radiance.shape[0], roles=["sky"]) for v in scene.skies
        ]
        return cls.model_validate({
            "triangles": len(geometry.triangles) - 2, "vertices": len(geometry.positions) - 4,
            "drawables": len(geometry.drawables) - 1, "meshes": len(scene.meshes), "nodes": len(scene.nodes),
            "materials": len(scene.materials), "images": len(scene.images), "lights": len(scene.light_keys),
            "cameras": len(scene.cameras), "viewpoints": list(build.setup.viewpoints),
            "bounds_m": {"low": low.tolist(), "high": high.tolist()}, "image_sizes": sizes, "left_out": list(build.notes),
            "setup": build.raw_setup, "skins": len(scene.skins),
            "clips": [
                ClipFacts(name=key, ends_s=clip.ends_s, moves=len({c.node for c in clip.channels}))
                for key, clip in zip(scene.clip_keys, scene.clips)
            ],
            "variants": list(scene.variants),
            "levels": [
                LevelFacts(node=scene.node_keys[v.node], levels=1 + len(v.further), coverage=list(v.coverage)) for v in scene.levels
            ],
            "undrawn": [UndrawnFacts(extension=u.extension, materials=list(u.materials), pixels=u.pixels) for u in undrawn(build)],
            "arrivals": [ArrivalFacts(**a.__dict__) for a in arrivals(scene, build.setup)],
        })  # fmt: skip


def image_roles(scene: Scene) -> list[list[str]]:
    """For each image, what materials use it as."""
    roles: list[set[str]] = [set() for _ in scene.images]
    for material in scene.materials:
        for role, use in material.every_use.items():
            if use is not None:
                roles[use.image].add(role)
    return [sorted(r) for r in roles]
