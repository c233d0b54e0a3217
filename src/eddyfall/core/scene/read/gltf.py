"""glTF 2.0 to Scene. Broken files are refused with object and rule; what is merely not drawn yet is noted."""

from collections.abc import Mapping
from pathlib import Path

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.model import Scene, Source
from eddyfall.core.scene.read import draco, meshopt_views
from eddyfall.core.scene.read.accessors import objects
from eddyfall.core.scene.read.claims import check_claims
from eddyfall.core.scene.read.clips import read_clips
from eddyfall.core.scene.read.container import Container, open_container
from eddyfall.core.scene.read.instances import INSTANCING
from eddyfall.core.scene.read.levels import LEVELS, read_levels
from eddyfall.core.scene.read.lights import read_cameras, read_lights
from eddyfall.core.scene.read.materials import MATERIAL_EXTENSIONS, read_material
from eddyfall.core.scene.read.meshes import VARIANTS, read_meshes, read_variants
from eddyfall.core.scene.read.nodes import placed, read_nodes
from eddyfall.core.scene.read.pictures import read_images, read_skies
from eddyfall.core.scene.read.reading import Reading
from eddyfall.core.scene.read.skins import read_skins
from eddyfall.core.scene.read.textures import OTHER_FORMS

READ_EXTENSIONS = {
    "KHR_lights_punctual", VARIANTS, "KHR_mesh_quantization", "KHR_texture_transform", INSTANCING, LEVELS, draco.NAME, *meshopt_views.NAMES,
    *OTHER_FORMS, *MATERIAL_EXTENSIONS,
}  # fmt: skip


def read_scene(path: Path | str, beside_it: bool = True) -> Scene:
    """Read GLB, glTF or ZIP at `path` (beside_it False: no files of its folder).

    Raises SceneError (file, object, rule); notes say what was left out."""
    path = Path(path)
    try:
        return scene_of(open_container(path, beside_it))
    except SceneError as error:
        raise error.in_file(path.name) from None
    except (RecursionError, MemoryError, OverflowError) as error:
        raise SceneError(f"the file asks for more than can be read ({type(error).__name__})", file=path.name) from None


def scene_of(container: Container, supplied: Mapping[int, bytes] | None = None) -> Scene:
    """The scene of an opened glTF file; supplied: bytes of pictures, by number, in the stead of what it says of them."""
    r = Reading(container, supplied)
    asset = r.doc.get("asset")
    if not isinstance(asset, dict) or not str(asset.get("version", "")).startswith("2"):
        raise SceneError('asset.version must be "2.0"', "asset")
    _check_extensions(r)
    check_claims(r)
    r.open_bytes()
    images = read_images(r)
    materials = tuple(read_material(r, i, m) for i, m in enumerate(objects(r.doc, "materials")))
    meshes = read_meshes(r, len(materials))
    lights, cameras, skins = read_lights(r), read_cameras(r), read_skins(r)
    nodes = read_nodes(r, meshes, len(lights), len(cameras), skins)
    levels = read_levels(r, nodes, meshes, skins)
    source = Source(r.doc, tuple(r.buffers), r.container.raw, r.outside)
    skies, clips, missing = read_skies(r), read_clips(r, nodes), tuple(sorted(r.missing))
    scene = Scene(
        meshes,
        nodes,
        materials,
        images,
        lights,
        cameras,
        skies,
        skins,
        clips,
        tuple(r.notes),
        source,
        missing,
        read_variants(r),
        levels,
    )
    return placed(r, scene)


def _check_extensions(r: Reading) -> None:
    for key in ("extensionsUsed", "extensionsRequired"):
        names = r.doc.get(key, [])
        if not isinstance(names, list) or not all(isinstance(n, str) for n in names):
            raise SceneError("must be a list of names", key)
        for name in names:
            if key == "extensionsRequired" and name not in READ_EXTENSIONS:
                raise SceneError(f"requires {name}, which is not read (unknown extension)", key)
            if key == "extensionsUsed" and name not in READ_EXTENSIONS:
                r.notes.append(f"not drawn yet: {name} (unknown extension, ignored)")
