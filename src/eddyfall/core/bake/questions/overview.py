"""All lightmaps of a build at a glance: what each receiver's charts measure, whether its maps still fit, what they take on a target."""

from dataclasses import dataclass

from eddyfall.core.bake.captures.capture import fits
from eddyfall.core.bake.captures.grid import grid_fits
from eddyfall.core.bake.maps.run import light_sets
from eddyfall.core.bake.maps.stamps import Staleness, stale
from eddyfall.core.bake.questions.splits import with_needless_splits
from eddyfall.core.frame.render import Renderer
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import receivers
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.shade.lightmap_codes import BYTES_PER_TEXEL
from eddyfall.core.uv.lightmaps import copy_entry
from eddyfall.core.uv.report import AssetReport, asset_report

MIP_CHAIN = 4 / 3


@dataclass(frozen=True)
class MapState:
    """One receiver in one light set: missing, stale (with why, and how many texels) or fresh."""

    light_set: str | None
    state: str
    stale_texels: int
    why: tuple[str, ...]


@dataclass(frozen=True)
class AssetLine:
    """A receiver with its node and mesh, its charts measured, the state of its maps, and whether its mesh has copy rules."""

    node: str
    mesh: str
    report: AssetReport
    maps: tuple[MapState, ...]
    has_copies: bool


def map_state(s: Staleness, light_set: str | None) -> MapState:
    """A receiver's staleness in a word and a number."""
    texels = int(s.texels.sum()) if s.texels is not None else 0
    return MapState(light_set, "missing" if s.missing else "fresh" if s.fresh else "stale", texels, s.why)


def overview(build: Build, geometry: Geometry, bake: Bake) -> list[AssetLine]:
    """Every receiver of a build under the `bake` settings given, in drawable order."""
    states: dict[str, list[MapState]] = {}
    for light_set in light_sets(build):
        for s in stale(build, geometry, light_set, bake):
            states.setdefault(s.receiver.name, []).append(map_state(s, light_set))
    lines = []
    for receiver in receivers(build, geometry, bake):
        first = geometry.drawables[receiver.drawables[0]]
        report = with_needless_splits(build, geometry, asset_report(build, geometry, receiver, bake))
        lines.append(
            AssetLine(first.node, first.mesh, report, tuple(states[receiver.name]), bool(copy_entry(build, first.mesh).copies))
        )
    return lines


def stale_maps(build: Build, renderer: Renderer) -> list[str]:
    """Lightmaps and probes of a build that no longer fit, each with its light set and why."""
    geometry = renderer.geometry(build)
    found = []
    for light_set in light_sets(build):
        of_set = f", {light_set}" if light_set else ""
        maps = stale(build, geometry, light_set) if build.setup.lightmaps else []
        found += [f"lightmap of {s.receiver.name}{of_set}: {'; '.join(s.why)}" for s in maps if s.why]
    for what, states in (("probe", fits(build, geometry, renderer)), ("grid", grid_fits(build, geometry, renderer))):
        for fit in states:
            if not fit.fresh:
                of_set = f", {fit.light_set}" if fit.light_set else ""
                found.append(f"{what} {fit.name}{of_set}: {'never captured' if fit.missing else '; '.join(fit.why)}")
    return found


def memory_bytes(build: Build, geometry: Geometry, target: str | None) -> int:
    """Bytes of all lightmaps of a build on a target, in all light sets, with the mip chain if it keeps one."""
    bake = resolve(build.setup, target)[Bake]
    texels = sum(r.resolution**2 for r in receivers(build, geometry, bake))
    return int(texels * BYTES_PER_TEXEL[bake.encoding] * len(light_sets(build)) * (MIP_CHAIN if bake.mips else 1))
