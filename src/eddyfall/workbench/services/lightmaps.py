"""The Lightmaps sheet: measured by the core on a build's head, each measurement kept until the head changes."""

import io
import json
import struct
from typing import Any, Literal

import numpy as np
from PIL import Image

from eddyfall.core.bake.explain import explain
from eddyfall.core.bake.files import exr_of_map
from eddyfall.core.bake.leaks import find_leaks
from eddyfall.core.bake.light_scene import light_scene
from eddyfall.core.bake.look import Look, look, picture, white_lux
from eddyfall.core.bake.overview import memory_bytes, overview
from eddyfall.core.bake.run import light_sets
from eddyfall.core.bake.shortlist import shortlist
from eddyfall.core.bake.splits import with_needless_splits
from eddyfall.core.frame.render import Request
from eddyfall.core.frame.texel_buffer import TexelBuffer, texel_buffer
from eddyfall.core.handover.lightmaps import (
    asset_line_json,
    copy_remedy_json,
    explanation_json,
    leak_json,
    page_json,
    shortlist_json,
)  # fmt: skip
from eddyfall.core.handover.report import document
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry, pack
from eddyfall.core.scene.receivers import Receiver, receiver_named, receivers
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.bake import Bake, Encoding
from eddyfall.core.uv.copy_remedies import copy_remedies
from eddyfall.core.uv.lightmaps import copy_entry
from eddyfall.core.uv.page import page_geometry
from eddyfall.core.uv.report import asset_report, report_json
from eddyfall.core.uv.troubles import median_density
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.services.builds import applied
from eddyfall.workbench.services.ledger import change_of
from eddyfall.workbench.studio.room import STUDIO

Denoise = Literal["off", "within_charts", "across_gaps"]


def sheet(build: Build, target: str | None) -> dict[str, Any]:
    """Every receiver with its charts' measures and the state of its maps; light sets; memory by target."""

    def make() -> dict[str, Any]:
        bake = resolve(build.setup, target).bake
        geometry = _geometry(build)
        lines = overview(build, geometry, bake)
        median = median_density(line.report for line in lines)
        seen = {view: _pixels(build, view, target) for view in build.setup.viewpoints}
        assets = [
            asset_line_json(line, median)
            | {"drawables": [geometry.drawables[d].name for d in line.report.receiver.drawables]}
            | {"seen": {view: counts[name] for view, counts in seen.items() if (name := line.report.receiver.name) in counts}}
            for line in lines
        ]
        memory = [{"target": name, "bytes": memory_bytes(build, geometry, name)} for name in (None, *build.setup.targets)]
        views = [{"viewpoint": v, "light_set": resolve(build.setup, target, None, v).light_set} for v in build.setup.viewpoints]
        return {
            "light_sets": light_sets(build),
            "assets": assets,
            "memory": memory,
            "viewpoints": views,
            "bake": document(vars(bake)),
        }

    result: dict[str, Any] = STUDIO.measure(f"lightmaps {build.content_hash} {target}", make)
    return result


def _pixels(build: Build, viewpoint: str, target: str | None) -> dict[str, int]:
    """Pixels of a small frame that show each receiver."""
    found = _texels(build, viewpoint, (240, 135), target)
    counts = np.bincount(found.receiver[found.receiver >= 0], minlength=len(found.names))
    return {name: int(n) for name, n in zip(found.names, counts) if n}


def page(build: Build, asset: str, target: str | None) -> dict[str, Any]:
    """The chart page of a receiver: what charts --json says of it, and its geometry."""

    def make() -> dict[str, Any]:
        geometry, bake = _geometry(build), resolve(build.setup, target).bake
        report = with_needless_splits(build, geometry, asset_report(build, geometry, receiver_of(build, asset), bake))
        return {"report": document(report_json(report)), "geometry": page_json(page_geometry(report))}

    result: dict[str, Any] = STUDIO.measure(f"page {build.content_hash} {asset} {target}", make)
    return result


def leaks(build: Build, asset: str, light_set: str | None, target: str | None) -> list[dict[str, Any]]:
    """Texels of a receiver that hold both sides of an occluder, traced now."""

    def make() -> list[dict[str, Any]]:
        geometry, bake = _geometry(build), resolve(build.setup, target).bake
        scene = light_scene(build, geometry, known_set(build, light_set))
        return [leak_json(leak) for leak in find_leaks(geometry, receiver_of(build, asset), [scene], bake)]

    result: list[dict[str, Any]] = STUDIO.measure(f"leaks {build.content_hash} {asset} {light_set} {target}", make)
    return result


def why(build: Build, asset: str, texel: tuple[int, int], light_set: str | None, target: str | None) -> dict[str, Any]:
    """Why a texel is as it is, as the command line says it."""

    def make() -> dict[str, Any]:
        bake = resolve(build.setup, target).bake
        name = receiver_of(build, asset).name
        found = explain(build, name, texel, known_set(build, light_set), bake=bake, geometry=_geometry(build))
        return explanation_json(found)

    result: dict[str, Any] = STUDIO.measure(f"why {build.content_hash} {asset} {texel} {light_set} {target}", make)
    return result


def page_if(build: Build, asset: str, change: dict[str, Any], target: str | None) -> dict[str, Any]:
    """The chart page as a change would leave it; nothing is kept. Where the change parts an asset in several maps, `others` names them.
    Refused if it is no change, ChangeError if it does not apply."""
    receiver = receiver_of(build, asset)
    changed = applied(build, [change_of(change)])
    geometry, bake = pack(changed.scene, changed.setup), resolve(changed.setup, target).bake
    nodes = {_geometry(build).drawables[d].node for d in receiver.drawables}
    same = [r for r in receivers(changed, geometry, bake) if any(geometry.drawables[d].node in nodes for d in r.drawables)]
    if not same:
        raise Refused(422, "the change leaves the asset without a lightmap")
    shown = next((r for r in same if r.name == asset), same[0])
    report = with_needless_splits(changed, geometry, asset_report(changed, geometry, shown, bake))
    return {
        "report": document(report_json(report)), "geometry": page_json(page_geometry(report)),
        "others": [r.name for r in same if r is not shown],
    }  # fmt: skip


def copies(build: Build, asset: str) -> dict[str, Any]:
    """Copy rules of an asset's mesh, and every way to part its copies, tried. Both empty if it has none."""

    def make() -> dict[str, Any]:
        mesh = _geometry(build).drawables[receiver_of(build, asset).drawables[0]].mesh
        rules = {name: rule.model_dump(mode="json") for name, rule in copy_entry(build, mesh).copies.items()}
        return {"rules": rules, "remedies": [copy_remedy_json(r) for r in copy_remedies(build, mesh)]}

    result: dict[str, Any] = STUDIO.measure(f"copies {build.content_hash} {asset}", make)
    return result


def worth_baking(build: Build, light_set: str | None) -> dict[str, Any]:
    """The shortlist of receivers by what a lightmap would show and cost."""

    def make() -> dict[str, Any]:
        found = shortlist(build, _geometry(build), known_set(build, light_set))
        return shortlist_json(found, {name or "project": found.bytes_on(build, name) for name in (None, *build.setup.targets)})

    result: dict[str, Any] = STUDIO.measure(f"shortlist {build.content_hash} {light_set}", make)
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
    bake: Bake = resolve(build.setup, target).bake
    return look(build, _geometry(build), receiver_of(build, asset), known_set(build, light_set), bake, how)
