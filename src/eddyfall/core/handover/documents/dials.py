"""What each dial of a pass buys and costs, as a document."""

from typing import Self

from eddyfall.core.handover.documents.base import Anything, Document
from eddyfall.core.truth.dials import Dial, Dials, Price


class PriceDocument(Document):
    """A pass as it is set: mean nits of light from around, nits that surfaces are off what is due on the mean, noise of the pass, places
    looked at along rays, rays into the world and bytes of a frame of 1920 x 1080 px, ms for one of 480 x 270 here."""

    nits: float
    off: float
    noise: float
    steps: int
    rays: int
    bytes: int
    ms: float

    @classmethod
    def from_core(cls, p: Price) -> Self:
        return cls(nits=p.nits, off=p.off, noise=p.noise, steps=p.steps, rays=p.rays, bytes=p.bytes, ms=p.ms)


class NowDocument(Document):
    """A pass that is on, as it is set."""

    name: str
    price: PriceDocument


class DialDocument(Document):
    """One dial turned; nearer: nits that surfaces come nearer to what is due."""

    pass_name: str
    leaf: str
    old: Anything
    new: Anything
    nearer: float
    price: PriceDocument

    @classmethod
    def from_core(cls, d: Dial, now: Price) -> Self:
        price = PriceDocument.from_core(d.price)
        return cls(pass_name=d.pass_name, leaf=d.leaf, old=d.old, new=d.new, nearer=now.off - d.price.off, price=price)


class DialsDocument(Document):
    """At a viewpoint: mean nits of light from around that are due; each pass that is on, and each dial of it."""

    viewpoint: str
    due: float
    now: list[NowDocument]
    dials: list[DialDocument]

    @classmethod
    def from_core(cls, d: Dials) -> Self:
        by_name = dict(d.now)
        return cls(
            viewpoint=d.viewpoint, due=d.due, now=[NowDocument(name=n, price=PriceDocument.from_core(p)) for n, p in d.now],
            dials=[DialDocument.from_core(t, by_name[t.pass_name]) for t in d.turned],
        )  # fmt: skip
