"""Opens GLB, glTF with files beside it, or a ZIP of either, within a budget, and yields JSON and raw buffers.

Sources: glTF 2.0 specification, sections 3.2 (JSON), 4 (GLB), 3.6.1 (buffers and URIs).
"""

import base64
import binascii
import io
import json
import struct
import zipfile
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import unquote

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.names import MAX_NAME, first_bad_text
from eddyfall.core.scene.read.obj import as_gltf, is_obj
from eddyfall.core.scene.read.usd import is_usd, usd_as_gltf

MAX_BYTES = 2 * 1024**3
MAX_JSON_BYTES = 64 * 1024**2
MAX_JSON_DEPTH = 128
MAX_ZIP_ENTRIES = 20_000
USD_ENDINGS = (".usd", ".usda", ".usdc")


@dataclass
class Container:
    """An opened file: parsed JSON, the GLB's own buffer, a reader of files beside it, and the raw bytes of a GLB."""

    json: dict[str, Any]
    embedded: memoryview | None
    read_beside: Callable[[str, int], bytes]
    raw: bytes | None = None
    beside: tuple[
        str, ...
    ] = ()  # files that came along, as `read_beside` takes their names; of a folder, those that lie next to it
    skies: tuple[str, ...] = ()  # pictures of skies that lie in the same ZIP, as `read_beside` takes their names
    notes: tuple[str, ...] = ()  # what was left out on opening it


def open_container(path: Path, beside_it: bool = True) -> Container:
    """Open `path`; raises SceneError for anything truncated, lying, oversized or unreadable.

    beside_it False: a .gltf may not read files of its folder (an upload lies among those of others).
    """
    try:
        size = path.stat().st_size
        if not path.is_file():
            raise SceneError("is not a file")
        if size == 0:
            raise SceneError("the file is empty (0 bytes)")
        if size > MAX_BYTES:
            raise SceneError(f"the file has {size} bytes, more than the {MAX_BYTES} that are read")
        data = path.read_bytes()
    except OSError as error:
        raise SceneError(f"cannot be read: {error.strerror or error}") from None
    if data[:4] == b"glTF":
        return _open_glb(data, _no_files)
    if data[:2] == b"PK":
        return _open_zip(data)
    if not beside_it:
        return _opened(data, _no_files)
    folder = path.resolve().parent

    def beside(name: str, limit: int) -> bytes:
        target = (folder / name).resolve()
        if not target.is_relative_to(folder):
            raise SceneError("a URI climbs out of the file's own folder", f"uri {name!r}")
        try:
            if target.stat().st_size > limit:
                raise SceneError(f"the file is larger than the {limit} bytes that may be read", f"uri {name!r}")
            return target.read_bytes()
        except OSError as error:
            raise FileNotFoundError(f"{error.strerror or error}") from None

    found = _opened(data, beside)
    found.beside = _next_to(folder)
    return found


def parse_json(data: bytes, error: type[Exception]) -> dict[str, Any]:
    """Strict JSON object: no NaN, no infinity, no number beyond double range, limited size and nesting."""
    if len(data) > MAX_JSON_BYTES:
        raise error(f"the JSON has {len(data)} bytes, more than the {MAX_JSON_BYTES} that are read")
    try:
        text = data.decode("utf-8-sig")
        value = json.loads(text, parse_constant=_refuse_constant, parse_float=_finite, parse_int=_small_int)
    except UnicodeDecodeError as e:
        raise error(f"the JSON is not UTF-8 (byte {e.start})") from None
    except RecursionError:
        raise error(f"the JSON is nested deeper than {MAX_JSON_DEPTH} levels") from None
    except _BadNumber as e:
        raise error(str(e)) from None
    except json.JSONDecodeError as e:
        raise error(f"is neither GLB, ZIP nor JSON: {e.msg} at line {e.lineno}, column {e.colno}") from None
    _check_depth(value, error)
    if not isinstance(value, dict):
        raise error("the JSON must be an object at the top")
    if error is not SceneError and (bad := first_bad_text(value, MAX_NAME)):  # names of a scene are cleaned where they are read
        raise error(": ".join(part for part in bad if part))
    return value


class _BadNumber(ValueError):
    pass


def _refuse_constant(name: str) -> float:
    raise _BadNumber(f"the JSON holds {name}, which is not a number JSON allows")


def _finite(text: str) -> float:
    value = float(text)
    if value in (float("inf"), float("-inf")):
        raise _BadNumber(f"the number {text[:40]} is out of range")
    return value


def _small_int(text: str) -> int:
    if len(text) > 20:
        raise _BadNumber(f"the number {text[:40]}… is out of range")
    return int(text)


def _check_depth(value: Any, error: type[Exception]) -> None:
    layer, depth = [value], 0
    while layer:
        depth += 1
        if depth > MAX_JSON_DEPTH:
            raise error(f"the JSON is nested deeper than {MAX_JSON_DEPTH} levels")
        below: list[Any] = []
        for item in layer:
            if isinstance(item, dict):
                below.extend(v for v in item.values() if isinstance(v, (dict, list)))
            elif isinstance(item, list):
                below.extend(v for v in item if isinstance(v, (dict, list)))
        layer = below


def _next_to(folder: Path) -> tuple[str, ...]:
    """Files of a folder and of the folders in it, by name; the first of so many."""
    found: list[str] = []
    try:
        places = [folder, *sorted(p for p in folder.iterdir() if p.is_dir() and not p.is_symlink())]
        for place in places:
            found += [p.relative_to(folder).as_posix() for p in sorted(place.iterdir()) if p.is_file() and not p.is_symlink()]
            if len(found) > MAX_ZIP_ENTRIES:
                break
    except OSError:
        pass  # what cannot be listed holds nothing that came along
    return tuple(found[:MAX_ZIP_ENTRIES])


def _no_files(name: str, limit: int) -> bytes:
    raise FileNotFoundError("a file on its own has no files beside it")


def open_glb(data: bytes) -> Container:
    """Open the bytes of a GLB that stands alone. SceneError as `open_container`."""
    if data[:4] != b"glTF":
        raise SceneError("is no GLB")
    return _open_glb(data, _no_files)


def _open_glb(data: bytes, beside: Callable[[str, int], bytes]) -> Container:
    if len(data) < 12:
        raise SceneError("the GLB is cut off in its header")
    version, length = struct.unpack_from("<II", data, 4)
    if version != 2:
        raise SceneError(f"GLB version {version} is not read; version 2 is")
    if length > len(data):
        raise SceneError(f"the GLB is cut off: its header says {length} bytes, the file has {len(data)}")
    offset = 12
    chunks: dict[int, memoryview] = {}
    while offset + 8 <= length:
        size, kind = struct.unpack_from("<II", data, offset)
        if offset + 8 + size > length:
            raise SceneError(f"the GLB chunk at byte {offset} claims {size} bytes, {length - offset - 8} are left")
        chunks.setdefault(kind, memoryview(data)[offset + 8 : offset + 8 + size])
        offset += 8 + size
    if 0x4E4F534A not in chunks:
        raise SceneError("the GLB has no JSON chunk")
    return Container(parse_json(bytes(chunks[0x4E4F534A]), SceneError), chunks.get(0x004E4942), beside, data)


def _open_zip(data: bytes) -> Container:
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        entries = [e for e in archive.infolist() if not e.is_dir()]
    except (zipfile.BadZipFile, ValueError, NotImplementedError) as error:
        raise SceneError(f"the ZIP cannot be read: {error}") from None
    if len(entries) > MAX_ZIP_ENTRIES:
        raise SceneError(f"the ZIP has {len(entries)} entries, more than {MAX_ZIP_ENTRIES}")
    total = sum(e.file_size for e in entries)
    if total > MAX_BYTES:
        raise SceneError(f"the ZIP unpacks to {total} bytes, more than the {MAX_BYTES} that are read")
    names = {}
    for entry in entries:
        path = PurePosixPath(entry.filename.replace("\\", "/"))
        if path.is_absolute() or ".." in path.parts:
            raise SceneError("an entry climbs out of the ZIP", f"entry {entry.filename!r}")
        names[str(path)] = entry
    scenes = _of_kind(names, (".glb", ".gltf")) or _of_kind(names, (".obj",))
    if not scenes and (layers := _of_kind(names, USD_ENDINGS)):
        # A package of USD begins with its stage; all else is what that is made of.
        scenes = [first] if (first := next(iter(names))) in layers else layers
    if len(scenes) != 1:
        raise SceneError(f"the ZIP must hold one .glb, .gltf, .obj or USD stage, it holds {len(scenes)}")

    def read(name: str, limit: int = MAX_BYTES) -> bytes:
        entry = names[name]
        try:
            with archive.open(entry) as stream:
                content = stream.read(min(limit, entry.file_size) + 1)
        except (zipfile.BadZipFile, RuntimeError, NotImplementedError, EOFError, OSError) as error:
            raise SceneError(f"cannot be unpacked: {error}", f"entry {name!r}") from None
        if len(content) > min(limit, entry.file_size):
            raise SceneError("unpacks to more than it declares or than may be read", f"entry {name!r}")
        return content

    base = PurePosixPath(scenes[0]).parent

    def beside(name: str, limit: int) -> bytes:
        parts: list[str] = []
        for part in (base / name).parts:
            if part == "..":
                if not parts:
                    raise SceneError("a URI climbs out of the ZIP", f"uri {name!r}")
                parts.pop()
            elif part != ".":
                parts.append(part)
        full = "/".join(parts)
        if full not in names:
            raise FileNotFoundError("not in the ZIP")
        return read(full, limit)

    content = read(scenes[0])
    found = _open_glb(content, beside) if content[:4] == b"glTF" else _opened(content, beside)
    found.skies = tuple(
        str(PurePosixPath(n).relative_to(base))
        for n in sorted(names)
        if n.lower().endswith((".exr", ".hdr")) and PurePosixPath(n).is_relative_to(base)
    )
    up = "../" * len(base.parts)
    found.beside = tuple(f"{up}{n}" for n in sorted(names) if n != scenes[0])
    return found


def _of_kind(names: Iterable[str], endings: tuple[str, ...]) -> list[str]:
    return sorted(n for n in names if n.lower().endswith(endings) and not n.startswith("__MACOSX"))


def _opened(data: bytes, beside: Callable[[str, int], bytes]) -> Container:
    """A .gltf, or an OBJ or USD as the glTF that says the same."""
    if is_obj(data) or is_usd(data):
        document, binary, notes = as_gltf(data, beside) if is_obj(data) else usd_as_gltf(data, beside)
        return Container(document, memoryview(binary), beside, notes=notes)
    return Container(parse_json(data, SceneError), None, beside)


def read_uri(container: Container, uri: str, limit: int) -> bytes:
    """Bytes of a data: URI or of a file beside the scene; FileNotFoundError if it is not there."""
    if uri.startswith("data:"):
        head, _, body = uri.partition(",")
        if not head.endswith(";base64"):
            raise SceneError("a data: URI must be base64")
        if len(body) * 3 // 4 > limit:
            raise SceneError(f"a data: URI holds more than the {limit} bytes that may be read")
        try:
            return base64.b64decode(body, validate=True)
        except (binascii.Error, ValueError):
            raise SceneError("a data: URI is not valid base64") from None
    name = unquote(uri)
    if is_elsewhere(name):
        raise SceneError("a URI must be a path beside the scene file", f"uri {uri[:80]!r}")
    return container.read_beside(name.replace("\\", "/"), limit)


def is_elsewhere(name: str) -> bool:
    """Whether a path is one of another machine, and none beside the scene file."""
    return "://" in name or name.startswith(("/", "\\")) or (len(name) > 1 and name[1] == ":")


def read_by_name(container: Container, uri: str, limit: int) -> tuple[str, bytes] | None:
    """(path, bytes) of the one file that came along and has the file name of a path, whatever its folders and case; None if there is
    none, or more than one."""
    name = unquote(uri).replace("\\", "/").rsplit("/", 1)[-1].lower()
    found = [path for path in container.beside if path.rsplit("/", 1)[-1].lower() == name] if name else []
    return (found[0], container.read_beside(found[0], limit)) if len(found) == 1 else None
