"""Lights (KHR_lights_punctual) and cameras of a glTF file."""

import math

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.model import Camera, Light
from eddyfall.core.scene.read.accessors import number, numbers, objects, part_of
from eddyfall.core.scene.read.reading import Reading


def read_lights(r: Reading) -> tuple[Light, ...]:
    """Its lights, by number."""
    lights = []
    extension = part_of(part_of(r.doc, "extensions", "extensions"), "KHR_lights_punctual", "extensions")
    for i, entry in enumerate(objects(extension, "lights")):
        here = f"light {i}"
        kind = entry.get("type")
        if kind not in ("directional", "point", "spot"):
            raise SceneError(f"type {kind!r:.40} does not exist", here)
        spot = part_of(entry, "spot", here)
        inner = number(spot, "innerConeAngle", 0.0, here, 0.0, math.pi / 2)
        outer = number(spot, "outerConeAngle", math.pi / 4, here, 0.0, math.pi / 2)
        rgb = numbers(entry, "color", 3, (1.0, 1.0, 1.0), here)
        intensity, reach = number(entry, "intensity", 1.0, here, 0.0), number(entry, "range", 0.0, here, 0.0)
        lights.append(Light(r.name(entry, here), kind, rgb, intensity, reach, inner, outer))  # type: ignore[arg-type]
    return tuple(lights)


def read_cameras(r: Reading) -> tuple[Camera, ...]:
    """Its cameras, by number; an orthographic one becomes a perspective one, which is said."""
    cameras = []
    for i, entry in enumerate(objects(r.doc, "cameras")):
        here = f"camera {i}"
        name = r.name(entry, here)
        if entry.get("type") == "perspective":
            lens = part_of(entry, "perspective", here)
            far = number(lens, "zfar", 0.0, here, 0.0) or None
            fov = number(lens, "yfov", 0.8, here, 1e-3, 3.1)
            cameras.append(Camera(name, fov, number(lens, "znear", 0.1, here, 1e-6), far))
        else:
            r.notes.append(f"not drawn yet: {here} {name!r} is orthographic; a perspective one is put in its place")
            cameras.append(Camera(name, 0.8, 0.1, None))
    return tuple(cameras)
