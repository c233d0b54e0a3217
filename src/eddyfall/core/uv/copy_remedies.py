"""What if: every way to part the lightmap charts of copies, tried on the build, with what is left of the overlap and what it costs."""

from dataclasses import dataclass, replace
from typing import Any

from eddyfall.core.errors import EddyfallError
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, apply_change, set_leaf
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.receivers import receivers
from eddyfall.core.scene.setup.tables import CopyRule
from eddyfall.core.shade.lightmap_codes import BYTES_PER_TEXEL
from eddyfall.core.uv import repack, repair
from eddyfall.core.uv.copy_tiles import own_tiles
from eddyfall.core.uv.lightmaps import copy_entry
from eddyfall.core.uv.report import AssetReport, asset_report


@dataclass(frozen=True)
class CopyRemedy:
    """One way, tried. Shares 0..1 by the target's rule; texels_per_m on the target's page at its present size; change None: as it is."""

    title: str
    texel_share: float
    surface_share: float
    modulo_share: float
    texels_per_m: float
    price: str
    cures: bool
    change: Change | None


def copy_changes(build: Build, key: str) -> list[tuple[Change, str]]:
    """(change, what it costs besides density) of each way to part the copies of a mesh."""
    index = build.scene.mesh_keys.index(key)
    rules = copy_entry(build, key).copies
    if not rules:
        return []
    path = ("meshes", key, "copies")

    def operation(name: str, title: str, **params: Any) -> Change:
        return Change(
            id=short_id(f"{name}:{key}"), title=title, scope="mesh", reason="copies share lightmap charts",
            operation=Operation(name=name, params={"mesh": key, **params}),
        )  # fmt: skip

    def rules_change(layout: Any, title: str) -> Change:
        plain = {name: rule.model_dump(mode="json") for name, rule in layout.rules.items()}
        return set_leaf(build, path, plain, scope="mesh", title=title, reason="copies share lightmap charts")

    result = [(rules_change(own_tiles(build, index), f"offset each copy of {key} by a tile along U"), "textures must repeat")]
    if any(r.kind == "mirror" and len(r.planes) > 1 for r in rules.values()):
        layout = own_tiles(build, index, block=True)
        result.append(
            (
                rules_change(layout, f"each plane of {key} its own UV step, one in U, one in V"),
                "textures must repeat",
            )
        )
    result.append((operation("uv.share_tile", f"fit the copies of {key} into one tile"), "texels/m fall; the rules stay"))
    mirrors = {n: r for n, r in rules.items() if r.kind == "mirror"}
    if mirrors:
        layout = own_tiles(build, index, block=True)
        turned = {n: r.model_copy(update={"uv_mirrored": r.kind == "mirror"}) for n, r in layout.rules.items()}
        change = rules_change(replace(layout, rules=turned), f"mirror the UVs of {key}'s copies into the next tile")
        result.append((change, "textures must wrap mirrored"))
    result.append((operation("copies.own_parts", f"a material part of its own for the copies of {key}"), f"+{len(rules)} draws"))
    shells = {n: r for n, r in rules.items() if r.kind == "shell" and r.strip == "bare"}
    result += [(c, price) for n in shells for c, price in _strip_changes(build, key, n, rules[n])]
    result.append((operation("uv.pack", f"evaluate the copies of {key} for good and pack their charts"), "the rules are gone"))
    result.append(
        (operation("uv.repack", f"evaluate the copies of {key} for good and unwrap anew"), "the rules are gone; charts are new")
    )
    return result


def _strip_changes(build: Build, key: str, name: str, rule: CopyRule) -> list[tuple[Change, str]]:
    path = ("meshes", key, "copies", name, "strip")
    reason = "the edge strip has no UVs of its own"
    return [
        (set_leaf(build, path, "none", scope="mesh", title=f"leave out the edge strip of {key}", reason=reason), "its edge stays open"),
        (set_leaf(build, path, "unwrapped", scope="mesh", title=f"unwrap only the edge strip of {key}", reason=reason), "it takes texels"),
    ]  # fmt: skip


def measured(build: Build, key: str) -> list[AssetReport]:
    """Reports of the receivers that show a mesh."""
    geometry = pack(build.scene, build.setup)
    mine = [r for r in receivers(build, geometry) if any(geometry.drawables[d].mesh == key for d in r.drawables)]
    return [asset_report(build, geometry, r) for r in mine]


def copy_remedies(build: Build, key: str) -> list[CopyRemedy]:
    """As it is, then every way tried. Empty if the mesh has no copies."""
    changes = copy_changes(build, key)
    if not changes:
        return []
    start = measured(build, key)
    base = max((r.page_texels_per_m for r in start), default=0.0)
    result = [_row("as it is", start, "", None, base)]
    for change, price in changes:
        try:
            changed = apply_change(build, change)
        except EddyfallError as error:
            result.append(CopyRemedy(change.title, 1.0, 1.0, 1.0, 0.0, f"does not apply: {error.rule}", False, None))
            continue
        result.append(_row(change.title, measured(changed, key), price, change, base, maps_before=len(start)))
    return result


def _row(
    title: str, reports: list[AssetReport], price: str, change: Change | None, base: float, maps_before: int = 0
) -> CopyRemedy:
    density = min((r.page_texels_per_m for r in reports), default=0.0)
    costs = [price] if price else []
    if change is not None and base > 0 and density < base * 0.999:
        times = 1
        while density * times < base * 0.999:
            times *= 2
        edge = max(r.receiver.resolution for r in reports)
        extra = (times**2 - 1) * edge**2 * BYTES_PER_TEXEL["half"] / 1024
        costs.append(
            f"{density / base * 100:.0f} % of the density; {edge * times} texels hold it ({times**2}x, +{extra:.0f} KiB)"
        )
    if maps_before and len(reports) > maps_before:
        costs.append(f"{len(reports)} maps instead of {maps_before}")
    return CopyRemedy(
        title,
        max((r.ruling_overlap.texel_share for r in reports), default=0.0),
        max((r.ruling_overlap.surface_share for r in reports), default=0.0),
        max((r.wrapped.surface_share for r in reports), default=0.0),
        density,
        "; ".join(costs),
        not any(r.ruling_overlap.pairs for r in reports),
        change,
    )


# The operations these remedies name are registered when their modules are imported.
_OPERATIONS = (repack, repair)
