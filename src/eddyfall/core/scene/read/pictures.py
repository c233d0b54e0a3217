"""Pictures of a glTF file, and skies that come along with it."""

from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.images import ImageBudget, decode_image
from eddyfall.core.scene.model import Image, SkyPicture
from eddyfall.core.scene.names import clean_name
from eddyfall.core.scene.read.accessors import index_into, objects, text, whole
from eddyfall.core.scene.read.container import MAX_BYTES, is_elsewhere, read_by_name, read_uri
from eddyfall.core.scene.read.reading import Reading
from eddyfall.core.scene.sky_pictures import MIME_TYPES, MOST_PIXELS, sky_of_bytes

MAX_SKIES = 8
CHECKS = np.full((8, 8, 4), 255, np.uint8)  # in its stead: 4 x 4 checks, paper and signal
CHECKS[..., :3] = np.where((np.add.outer(np.arange(8) // 2, np.arange(8) // 2) % 2)[..., None], (239, 238, 233), (200, 86, 31))
CHECKS.flags.writeable = False


def read_images(r: Reading) -> tuple[Image, ...]:
    """Its pictures, by number; checks where one is missing."""
    budget, images = ImageBudget(), []
    for i, entry in enumerate(objects(r.doc, "images")):
        here = f"image {i}"
        name = r.name(entry, here) or Path(text(entry, "uri", here)[:200]).stem[:80]
        if name.startswith("data:"):
            name = ""
        try:
            data = r.supplied[i] if i in r.supplied else _picture_bytes(r, entry, here, name)
            pixels, wide = decode_image(data, budget, here)
            if i not in r.supplied and "bufferView" not in entry and not text(entry, "uri", here).startswith("data:"):
                r.outside[i] = data
        except FileNotFoundError as error:
            r.notes.append(f"left out: {here} {name!r}: {error}; checks are drawn where its colours would be")
            pixels, wide = CHECKS, None
            r.missing.add(i)
        images.append(Image(name, freeze(pixels), None if wide is None else freeze(wide)))
    return tuple(images)


def read_skies(r: Reading) -> tuple[SkyPicture, ...]:
    """Sky pictures: those that the file's extras name, and those that lie beside it in its ZIP. What cannot be read is left out."""
    extras = r.doc.get("extras")
    listed = extras.get("skies") if isinstance(extras, dict) else None
    entries = [entry for entry in listed if isinstance(entry, dict)] if isinstance(listed, list) else []
    named = {str(entry.get("uri")) for entry in entries}
    entries = [*entries, *({"uri": name} for name in r.container.skies if name not in named)]
    skies: dict[str, SkyPicture] = {}
    pixels = 0
    for i, entry in enumerate(entries[:MAX_SKIES]):
        here = name = f"sky {i}"
        try:
            file = text(entry, "uri", here)
            name = r.name(entry, here) or clean_name(file)
            suffix = MIME_TYPES.get(text(entry, "mimeType", here)) or Path(file[-200:]).suffix.lower()
            if name in skies:
                raise SceneError("another sky has its name")
            picture = sky_of_bytes(_image_bytes(r, entry, here), name, suffix)
            pixels += picture.radiance.shape[0] * picture.radiance.shape[1]
            if pixels > MOST_PIXELS:
                raise SceneError(f"with it the skies have more than {MOST_PIXELS // 10**6} million pixels")
            skies[name] = picture
        except (FileNotFoundError, SceneError) as error:
            r.notes.append(f"left out: {here} {name[:60]!r}: {str(error).removeprefix(f'{name}: ')}")
    if len(entries) > MAX_SKIES:
        r.notes.append(f"left out: {len(entries) - MAX_SKIES} skies; at most {MAX_SKIES} are read")
    return tuple(skies.values())


def _picture_bytes(r: Reading, entry: dict[str, Any], here: str, name: str) -> bytes:
    """Bytes of a picture: where its path says, or of the file of its name that came along. A path of another machine is not opened.
    FileNotFoundError if there is none."""
    uri = text(entry, "uri", here)
    if "bufferView" in entry or not uri or uri.startswith("data:"):
        return _image_bytes(r, entry, here)
    path, why = unquote(uri), f"its path {uri[:80]!r} is none beside the scene file"
    try:
        if not is_elsewhere(path):
            return _image_bytes(r, entry, here)
    except FileNotFoundError as error:
        why = str(error)
    except SceneError:
        if ".." not in path.replace("\\", "/").split("/"):
            raise  # too large; a path that climbs out is another matter
    found = read_by_name(r.container, uri, MAX_BYTES)
    if found is None:
        raise FileNotFoundError(f"{why}, and no one file of that name came along")
    r.notes.append(f"{here} {name!r}: {why}; {found[0]} has its name, and is used")
    return found[1]


def _image_bytes(r: Reading, entry: dict[str, Any], here: str) -> bytes:
    if "bufferView" in entry:
        return bytes_of_view(r, entry, here)
    if "uri" not in entry:
        raise FileNotFoundError("it has neither uri nor bufferView")
    return read_uri(r.container, text(entry, "uri", here), MAX_BYTES)


def bytes_of_view(r: Reading, entry: dict[str, Any], here: str) -> bytes:
    """Bytes of the buffer view that an entry names."""
    views = objects(r.doc, "bufferViews")
    view = views[index_into(entry.get("bufferView"), views, "bufferView", here)]
    buffer = r.buffers[index_into(view.get("buffer"), r.buffers, "buffer", here)]
    start, length = whole(view, "byteOffset", here, default=0), whole(view, "byteLength", here, least=1)
    if start + length > len(buffer):
        raise SceneError("its buffer view runs past the buffer", here)
    return buffer[start : start + length].tobytes()
