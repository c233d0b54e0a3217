"""Shadows of what light goes through, as documents."""

from typing import Self

from eddyfall.core.defects.shadow_translucent import STOPS, Bright
from eddyfall.core.handover.documents.base import Document
from eddyfall.core.scene.build import Build


class NoShadowDocument(Document):
    """A material that throws no coloured shadow: things; what light makes of it as set; by how many stops something in sight is too bright
    for it (below 0: too dark), at the most; pixels beyond the limit; at: stops in the pixel that was asked about (null: none was)."""

    material: str
    things: list[str]
    through: str
    stops: float
    pixels: int
    at: float | None


class ShadowThroughDocument(Document):
    """A viewpoint: what the setup says blended things are meant to do; the limit in stops; materials."""

    viewpoint: str
    of_blended: str
    limit_stops: float
    materials: list[NoShadowDocument]

    @classmethod
    def from_core(
        cls, build: Build, viewpoint: str, of_blended: str, found: dict[int, Bright], at: tuple[int, int] | None
    ) -> Self:  # fmt: skip
        return cls(
            viewpoint=viewpoint, of_blended=of_blended, limit_stops=STOPS,
            materials=[
                NoShadowDocument(
                    material=build.scene.material_keys[m], things=list(b.things), through=b.through, stops=b.most,
                    pixels=int(b.off.sum()), at=None if at is None else float(b.stops[at[1], at[0]]),
                )
                for m, b in found.items()
            ],
        )  # fmt: skip
