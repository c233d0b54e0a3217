"""Materials of a glTF file, and the extensions that say more of them."""

import math
from typing import Any

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.model import Gloss, Material
from eddyfall.core.scene.read.accessors import number, numbers, part_of
from eddyfall.core.scene.read.reading import Reading
from eddyfall.core.scene.read.textures import texture_use

SPECULAR_GLOSS = "KHR_materials_pbrSpecularGlossiness"
CLEARCOAT = "KHR_materials_clearcoat"
MATERIAL_EXTENSIONS = {
    "KHR_materials_unlit", "KHR_materials_emissive_strength", "KHR_materials_ior", "KHR_materials_transmission", "KHR_materials_volume",
    "KHR_materials_specular", CLEARCOAT, SPECULAR_GLOSS,
}  # fmt: skip


def read_material(r: Reading, i: int, entry: dict[str, Any]) -> Material:
    """Material number i; SceneError for a value that the standard does not allow."""
    name = r.name(entry, f"material {i}")
    here = f"material {i} {name!r}"
    pbr = part_of(entry, "pbrMetallicRoughness", here)
    extensions = part_of(entry, "extensions", here)
    mode = entry.get("alphaMode", "OPAQUE")
    if mode not in ("OPAQUE", "MASK", "BLEND"):
        raise SceneError(f"alphaMode {mode!r:.40} does not exist", here)
    strength = number(part_of(extensions, "KHR_materials_emissive_strength", here), "emissiveStrength", 1.0, here, 0.0)
    emissive = tuple(v * strength for v in numbers(entry, "emissiveFactor", 3, (0.0, 0.0, 0.0), here))
    normal, occlusion = part_of(entry, "normalTexture", here), part_of(entry, "occlusionTexture", here)
    lets = part_of(extensions, "KHR_materials_transmission", here)
    volume = part_of(extensions, "KHR_materials_volume", here)
    attenuation = number(volume, "attenuationDistance", 0.0, here, 0.0) if "attenuationDistance" in volume else math.inf
    if not attenuation > 0:
        raise SceneError("attenuationDistance must be more than 0", here)
    specular = part_of(extensions, "KHR_materials_specular", here)
    for key in ("specularTexture", "specularColorTexture"):
        if key in specular:
            r.notes.append(f"not drawn yet: {here}: {key}")
    clear = part_of(extensions, CLEARCOAT, here)
    left = numbers(volume, "attenuationColor", 3, (1.0, 1.0, 1.0), here)
    if not all(0 <= v <= 1 for v in left):
        raise SceneError("attenuationColor must be 3 numbers from 0 to 1", here)
    return Material(
        name=name,
        base_rgba=numbers(pbr, "baseColorFactor", 4, (1.0, 1.0, 1.0, 1.0), here),  # type: ignore[arg-type]
        base_texture=texture_use(r, pbr, "baseColorTexture", here),
        metallic=number(pbr, "metallicFactor", 1.0, here, 0.0, 1.0),
        roughness=number(pbr, "roughnessFactor", 1.0, here, 0.0, 1.0),
        metallic_roughness_texture=texture_use(r, pbr, "metallicRoughnessTexture", here),
        normal_texture=texture_use(r, entry, "normalTexture", here),
        normal_scale=number(normal, "scale", 1.0, here),
        occlusion_texture=texture_use(r, entry, "occlusionTexture", here),
        occlusion_strength=number(occlusion, "strength", 1.0, here, 0.0, 1.0),
        emissive=emissive,  # type: ignore[arg-type]
        emissive_texture=texture_use(r, entry, "emissiveTexture", here),
        alpha_mode=mode,
        alpha_cutoff=number(entry, "alphaCutoff", 0.5, here, 0.0),
        double_sided=entry.get("doubleSided") is True,
        unlit="KHR_materials_unlit" in extensions,
        ior=number(part_of(extensions, "KHR_materials_ior", here), "ior", 1.5, here, 0.0),
        transmission=number(lets, "transmissionFactor", 0.0, here, 0.0, 1.0),
        transmission_texture=texture_use(r, lets, "transmissionTexture", here),
        thickness_m=number(volume, "thicknessFactor", 0.0, here, 0.0),
        thickness_texture=texture_use(r, volume, "thicknessTexture", here),
        attenuation_m=attenuation,
        attenuation_rgb=left,  # type: ignore[arg-type]
        specular=number(specular, "specularFactor", 1.0, here, 0.0, 1.0),
        specular_rgb=numbers(specular, "specularColorFactor", 3, (1.0, 1.0, 1.0), here),  # type: ignore[arg-type]
        gloss=_gloss(r, entry, extensions, here),
        clearcoat=number(clear, "clearcoatFactor", 0.0, here, 0.0, 1.0),
        clearcoat_texture=texture_use(r, clear, "clearcoatTexture", here),
        clearcoat_roughness=number(clear, "clearcoatRoughnessFactor", 0.0, here, 0.0, 1.0),
        clearcoat_roughness_texture=texture_use(r, clear, "clearcoatRoughnessTexture", here),
        clearcoat_normal_texture=texture_use(r, clear, "clearcoatNormalTexture", here),
        clearcoat_normal_scale=number(part_of(clear, "clearcoatNormalTexture", here), "scale", 1.0, here),
    )


def _gloss(r: Reading, entry: dict[str, Any], extensions: dict[str, Any], here: str) -> Gloss | None:
    """What it says by specular and gloss, if it says nothing by metal and roughness, which else is drawn in their stead."""
    if SPECULAR_GLOSS not in extensions:
        return None
    said = part_of(extensions, SPECULAR_GLOSS, here)
    if "pbrMetallicRoughness" in entry:
        r.notes.append(f"{here}: drawn by its metallic-roughness; its {SPECULAR_GLOSS} is left out")
        return None
    diffuse, specular = (
        numbers(said, "diffuseFactor", 4, (1.0, 1.0, 1.0, 1.0), here), numbers(said, "specularFactor", 3, (1.0, 1.0, 1.0), here)
    )  # fmt: skip
    for key, values in (("diffuseFactor", diffuse), ("specularFactor", specular)):
        if not all(0 <= v <= 1 for v in values):
            raise SceneError(f"{key} must be numbers from 0 to 1", here)
    return Gloss(
        diffuse,  # type: ignore[arg-type]
        specular,  # type: ignore[arg-type]
        number(said, "glossinessFactor", 1.0, here, 0.0, 1.0),
        texture_use(r, said, "diffuseTexture", here),
        texture_use(r, said, "specularGlossinessTexture", here),
    )
