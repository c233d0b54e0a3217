"""The Lightmaps sheet: measured by the core on a build's head, each measurement kept until the head changes."""

import io
import json
import struct
from typing import Any, Literal

import numpy as np
from PIL import Image

from eddyfall.core.bake.light.light_scene import light_scene
from eddyfall.core.bake.maps.files import exr_of_map
from eddyfall.core.bake.maps.run import light_sets
from eddyfall.core.bake.questions.explain import explain
from eddyfall.core.bake.questions.leaks import find_leaks
from eddyfall.core.bake.questions.look import Look, look, picture, white_lux
from eddyfall.core.bake.questions.overview import AssetLine, memory_bytes, overview
from eddyfall.core.bake.questions.shortlist import shortlist
from eddyfall.core.bake.questions.splits import with_needless_splits
from eddyfall.core.frame.render import Request
from eddyfall.core.frame.texel_buffer import TexelBuffer, texel_buffer
from eddyfall.core.handover.documents.base import Document
from eddyfall.core.handover.documents.charts import ChartsDocument, PageDocument
from eddyfall.core.handover.documents.lightmaps import (
    AssetDocument,
    CopyRemedyDocument,
    ExplanationDocument,
    LeakDocument,
    ShortlistDocument,
)
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry, pack
from eddyfall.core.scene.receivers import Receiver, receiver_named, receivers
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.sections.bake import Bake, Encoding
from eddyfall.core.scene.setup.tables import CopyRule
from eddyfall.core.uv.copy_remedies import copy_remedies
from eddyfall.core.uv.lightmaps import copy_entry
from eddyfall.core.uv.page import page_geometry
from eddyfall.core.uv.report import AssetReport, asset_report
from eddyfall.core.uv.troubles import median_density
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.services.builds import applied
from eddyfall.workbench.services.ledger import change_of
from eddyfall.workbench.studio.room import STUDIO

Denoise = Literal["off", "within_charts", "across_gaps"]


class SeenAsset(AssetDocument):
    """A receiver with its drawables, and the pixels of a small frame that show it, by viewpoint."""

    drawables: list[str]
    seen: dict[str, int]


class TargetBytes(Document):
    target: str | None
    bytes: int


class ViewLight(Document):
    viewpoint: str
    light_set: str | None


class LightmapSheet(Document):
    """Every receiver with its charts' measures and the state of its maps; light sets; memory by target."""

    light_sets: list[str | None]
    assets: list[SeenAsset]
    memory: list[TargetBytes]
    viewpoints: list[ViewLight]
    bake: Bake


class AssetPage(Document):
    """The chart page of a receiver. others: names of the maps that a change would part it into besides."""

    report: ChartsDocument
    geometry: PageDocument
    others: list[str]


class CopiesSheet(Document):
    """Copy rules of an asset's mesh by name, and every way tried to part its copies. Both empty if it has none."""

    rules: dict[str, CopyRule]
    remedies: list[CopyRemedyDocument]


def sheet(build: Build, target: str | None) -> LightmapSheet:
    """The Lightmaps sheet of a build as a target has it."""

    def make() -> LightmapSheet:
        bake = resolve(build.setup, target)[Bake]
        geometry = _geometry(build)
        lines = overview(build, geometry, bake)
        median = median_density(line.report for line in lines)
        seen = {view: _pixels(build, view, target) for view in build.setup.viewpoints}

        def asset(line: AssetLine) -> SeenAsset:
            name = line.report.receiver.name
            return SeenAsset(
                **dict(AssetDocument.from_core(line, median)),
                drawables=[geometry.drawables[d].name for d in line.report.receiver.drawables],
                seen={view: counts[name] for view, counts in seen.items() if name in counts},
            )

        return LightmapSheet(
            light_sets=light_sets(build),
            assets=[asset(line) for line in lines],
            memory=[TargetBytes(target=name, bytes=memory_bytes(build, geometry, name)) for name in (None, *build.setup.targets)],
            viewpoints=[
                ViewLight(viewpoint=v, light_set=resolve(build.setup, target, None, v).light_set) for v in build.setup.viewpoints
            ],
            bake=bake,
        )

    result: LightmapSheet = STUDIO.measure(f"lightmaps {build.content_hash} {target}", make)
    return result


def _pixels(build: Build, viewpoint: str, target: str | None) -> dict[str, int]:
    """Pixels of a small frame that show each receiver."""
    found = _texels(build, viewpoint, (240, 135), target)
    counts = np.bincount(found.receiver[found.receiver >= 0], minlength=len(found.names))
    return {name: int(n) for name, n in zip(found.names, counts) if n}


def page(build: Build, asset: str, target: str | None) -> AssetPage:
    """The chart page of a receiver: what charts --json says of it, and its geometry."""

    def make() -> AssetPage:
        geometry, bake = _geometry(build), resolve(build.setup, target)[Bake]
        report = with_needless_splits(build, geometry, asset_report(build, geometry, receiver_of(build, asset), bake))
        return _page(report, [])

    result: AssetPage = STUDIO.measure(f"page {build.content_hash} {asset} {target}", make)
    return result


def leaks(build: Build, asset: str, light_set: str | None, target: str | None) -> list[LeakDocument]:
    """Texels of a receiver that hold both sides of an occluder, traced now."""

    def make() -> list[LeakDocument]:
        geometry, bake = _geometry(build), resolve(build.setup, target)[Bake]
        scene = light_scene(build, geometry, known_set(build, light_set))
        return [LeakDocument.from_core(leak) for leak in find_leaks(geometry, receiver_of(build, asset), [scene], bake)]

    result: list[LeakDocument] = STUDIO.measure(f"leaks {build.content_hash} {asset} {light_set} {target}", make)
    return result


def why(build: Build, asset: str, texel: tuple[int, int], light_set: str | None, target: str | None) -> ExplanationDocument:
    """Why a texel is as it is, as the command line says it."""

    def make() -> ExplanationDocument:
        bake = resolve(build.setup, target)[Bake]
        name = receiver_of(build, asset).name
        found = explain(build, name, texel, known_set(build, light_set), bake=bake, geometry=_geometry(build))
        return ExplanationDocument.from_core(found)

    result: ExplanationDocument = STUDIO.measure(f"why {build.content_hash} {asset} {texel} {light_set} {target}", make)
    return result


def page_if(build: Build, asset: str, change: dict[str, Any], target: str | None) -> AssetPage:
    """The chart page as a change would leave it; nothing is kept. Where the change parts an asset in several maps, `others` names them.
    Refused if it is no change, ChangeError if it does not apply."""
    receiver = receiver_of(build, asset)
    changed = applied(build, [change_of(change)])
    geometry, bake = pack(changed.scene, changed.setup), resolve(changed.setup, target)[Bake]
    nodes = {_geometry(build).drawables[d].node for d in receiver.drawables}
    same = [r for r in receivers(changed, geometry, bake) if any(geometry.drawables[d].node in nodes for d in r.drawables)]
    if not same:
        raise Refused(422, "the change leaves the asset without a lightmap")
    shown = next((r for r in same if r.name == asset), same[0])
    report = with_needless_splits(changed, geometry, asset_report(changed, geometry, shown, bake))
    return _page(report, [r.name for r in same if r is not shown])


def _page(report: AssetReport, others: list[str]) -> AssetPage:
    geometry = PageDocument.from_core(page_geometry(report))
    return AssetPage(report=ChartsDocument.from_core(report), geometry=geometry, others=others)


def copies(build: Build, asset: str) -> CopiesSheet:
    """Copy rules of an asset's mesh, and every way to part its copies, tried. Both empty if it has none."""

    def make() -> CopiesSheet:
        mesh = _geometry(build).drawables[receiver_of(build, asset).drawables[0]].mesh
        remedies = [CopyRemedyDocument.from_core(r) for r in copy_remedies(build, mesh)]
        return CopiesSheet(rules=dict(copy_entry(build, mesh).copies), remedies=remedies)

    result: CopiesSheet = STUDIO.measure(f"copies {build.content_hash} {asset}", make)
    return result


def worth_baking(build: Build, light_set: str | None) -> ShortlistDocument:
    """The shortlist of receivers by what a lightmap would show and cost."""

    def make() -> ShortlistDocument:
        found = shortlist(build, _geometry(build), known_set(build, light_set))
        memory = {name or "project": found.bytes_on(build, name) for name in (None, *build.setup.targets)}
        return ShortlistDocument.from_core(found, memory)

    result: ShortlistDocument = STUDIO.measure(f"shortlist {build.content_hash} {light_set}", make)
    return result


def map_picture(
    build: Build, asset: str, light_set: str | None, target: str | None, denoise: Denoise | None, encoding: Encoding | None,
    linear: bool, magnify: int, white: float | None,
) -> tuple[bytes, float]:  # fmt: skip
    """(PNG of a lightmap, the light it shows as white in lux). white: that light, if another picture has set it."""

    def make() -> tuple[bytes, float]:
        values = _values(build, asset, light_set, target, Look(denoise, encoding, linear, magnify))
        top = white or white_lux(values)
        stream = io.BytesIO()
        Image.fromarray(picture(values, top)).save(stream, "PNG", compress_level=1)
        return stream.getvalue(), top

    how = (asset, light_set, target, denoise, encoding, linear, magnify, white)
    result: tuple[bytes, float] = STUDIO.measure(f"map {build.content_hash} {how}", make)
    return result


def map_exr(build: Build, asset: str, light_set: str | None, target: str | None) -> bytes:
    """A lightmap in lux as OpenEXR."""
    return exr_of_map(_values(build, asset, light_set, target, Look()))


def texels_of_frame(build: Build, viewpoint: str, size: tuple[int, int], target: str | None) -> bytes:
    """Which texel each pixel shows, little-endian: uint32 length of a JSON list of assets (padded to four bytes), that list, int32 index
    into it (h, w; -1: none), float32 page positions (h, w, 2)."""
    found = _texels(build, viewpoint, size, target)
    names = json.dumps(found.names).encode()
    names += b" " * (-len(names) % 4)
    which, place = np.ascontiguousarray(found.receiver, "<i4"), np.ascontiguousarray(found.place, "<f4")
    return struct.pack("<I", len(names)) + names + which.tobytes() + place.tobytes()


def _texels(build: Build, viewpoint: str, size: tuple[int, int], target: str | None) -> TexelBuffer:
    request = Request(viewpoint, size, None, target)
    result: TexelBuffer = STUDIO.draw(lambda renderer: texel_buffer(renderer, build, request))
    return result


def receiver_of(build: Build, asset: str) -> Receiver:
    """The receiver of exactly this name; NotThere if there is none."""
    found = receiver_named(build, _geometry(build), asset)
    if found.name != asset:
        raise NotThere(f"lightmapped asset {asset!r}")
    return found


def known_set(build: Build, light_set: str | None) -> str | None:
    """The light set asked for, or the first that is baked; NotThere if there is none of this name."""
    sets = light_sets(build)
    if light_set is None:
        return sets[0]
    if light_set not in sets:
        raise NotThere(f"light set {light_set!r}")
    return light_set


def _geometry(build: Build) -> Geometry:
    return STUDIO.renderer.geometry(build)


def _values(build: Build, asset: str, light_set: str | None, target: str | None, how: Look) -> np.ndarray:
    bake: Bake = resolve(build.setup, target)[Bake]
    return look(build, _geometry(build), receiver_of(build, asset), known_set(build, light_set), bake, how)
