"""What a build holds, as plain JSON. Nothing here needs a compiled kernel, so a short-lived reader starts fast."""

from typing import Any

from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Scene


def facts_of(build: Build) -> dict[str, Any]:
    """What a build holds, what was left out or fitted, and the setup in use."""
    scene, geometry = build.scene, pack(build.scene, build.setup)
    low, high = geometry.scene_bounds
    return {
        "triangles": len(geometry.triangles) - 2,
        "vertices": len(geometry.positions) - 4,
        "drawables": len(geometry.drawables) - 1,
        "meshes": len(scene.meshes),
        "nodes": len(scene.nodes),
        "materials": len(scene.materials),
        "images": len(scene.images),
        "lights": len(scene.light_keys),
        "cameras": len(scene.cameras),
        "viewpoints": list(build.setup.viewpoints),
        "bounds_m": {"low": [float(v) for v in low], "high": [float(v) for v in high]},
        "image_sizes": [
            {"name": i.name, "width": i.pixels.shape[1], "height": i.pixels.shape[0], "roles": roles}
            for i, roles in zip(scene.images, image_roles(scene))
        ],
        "left_out": list(build.notes),
        "setup": build.raw_setup,
    }


def image_roles(scene: Scene) -> list[list[str]]:
    """For each image, what materials use it as."""
    roles: list[set[str]] = [set() for _ in scene.images]
    for material in scene.materials:
        for role, use in (
            ("base colour", material.base_texture),
            ("metallic-roughness", material.metallic_roughness_texture),
            ("normal", material.normal_texture),
            ("emissive", material.emissive_texture),
            ("occlusion", material.occlusion_texture),
        ):
            if use is not None:
                roles[use.image].add(role)
    return [sorted(r) for r in roles]
