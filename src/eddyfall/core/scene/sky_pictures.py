"""Pictures of a whole sky: equirectangular OpenEXR (.exr) and Radiance (.hdr) files, scene-linear.

The middle column looks along -Z, to the right of it lies +X, the top row is overhead. Sizes are read and checked before anything is
allocated; what cannot be read is one error that says what and where."""

import tempfile
from pathlib import Path

import numpy as np
import OpenEXR

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import SkyPicture

SUFFIXES = (".exr", ".hdr")
MIME_TYPES = {"image/x-exr": ".exr", "image/vnd.radiance": ".hdr"}
MOST_PIXELS = 64 * 10**6
LEAST_HIGH = 8
SCANLINE_MARK, RLE_LEAST, RLE_MOST = 2, 8, 0x7FFF


def read_sky(path: Path) -> SkyPicture:
    """An equirectangular picture. SceneError if it is no such file, is cut off, or is not twice as wide as high."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise SceneError(f"{path.name}: {error.strerror or error}") from error
    return sky_of_bytes(data, path.name, path.suffix.lower())


def sky_of_bytes(data: bytes, name: str, suffix: str) -> SkyPicture:
    """The picture in a file's bytes; suffix .exr or .hdr. SceneError as in `read_sky`."""
    if suffix not in SUFFIXES:
        raise SceneError(f"{name}: a sky is an OpenEXR (.exr) or Radiance (.hdr) picture")
    if suffix == ".hdr":
        return SkyPicture(name, freeze(read_hdr(data, name)))
    if data[:4] != b"v/1\x01":
        raise SceneError(f"{name}: not an OpenEXR file")
    with tempfile.TemporaryDirectory() as folder:  # the library reads files only
        path = Path(folder) / "sky.exr"
        path.write_bytes(data)
        radiance, half = _read_exr(path, name)
    return SkyPicture(name, freeze(radiance), half)


def sky_bytes(radiance: np.ndarray) -> bytes:
    """OpenEXR scanline file of a picture (h, w, 3), linear; float32, ZIP compression."""
    return exr_file({"RGB": np.ascontiguousarray(radiance, np.float32)})


def exr_file(channels: dict[str, np.ndarray]) -> bytes:
    """OpenEXR scanline file of channels by name, each (h, w) or, for RGB, (h, w, 3); ZIP compression."""
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with tempfile.TemporaryDirectory() as folder:  # the library writes files only
        path = Path(folder) / "picture.exr"
        with OpenEXR.File(header, channels) as file:
            file.write(str(path))
        return path.read_bytes()


def _check(name: str, width: int, height: int) -> None:
    if width < 1 or height < 1 or width * height > MOST_PIXELS:
        raise SceneError(f"{name}: {width} x {height} px; a sky has at most {MOST_PIXELS // 10**6} million")
    if width != 2 * height:
        raise SceneError(f"{name}: {width} x {height} px; an equirectangular picture is twice as wide as high")
    if height < LEAST_HIGH:
        raise SceneError(f"{name}: {width} x {height} px show no directions; a sky is at least {2 * LEAST_HIGH} px wide")


def _read_exr(path: Path, name: str) -> tuple[np.ndarray, bool]:
    try:
        with OpenEXR.File(str(path), header_only=True) as file:
            windows = [np.array(file.header()[kind]) for kind in ("dataWindow", "displayWindow")] if file.parts else []
        if not windows:
            raise SceneError(f"{name}: it is cut off: no part of it can be read")
        width, height = (int(v) + 1 for v in windows[0][1] - windows[0][0])
        _check(name, width, height)
        if not np.array_equal(windows[0], windows[1]):
            raise SceneError(f"{name}: its data window is not its display window: part of the sky is missing")
        with OpenEXR.File(str(path), separate_channels=True) as file:
            if not file.parts:
                raise SceneError(f"{name}: it is cut off before its last line")
            held = {c: np.array(channel.pixels) for c, channel in file.channels().items()}
    except (RuntimeError, ValueError) as error:  # the library raises either for what it cannot read
        raise SceneError(f"{name}: {str(error).splitlines()[0][:160]}") from error
    names = ("R", "G", "B") if "R" in held else ("Y", "Y", "Y")
    missing = [c for c in names if c not in held]
    if missing:
        raise SceneError(f"{name}: it has no channel {missing[0]}; there are: {', '.join(held) or 'none'}")
    planes = [held[c] for c in names]
    return np.stack([p.astype(np.float32) for p in planes], axis=-1), planes[0].dtype == np.float16


def read_hdr(data: bytes, name: str) -> np.ndarray:
    """(h, w, 3) float32 of a Radiance picture: shared exponents, plain or run-length coded lines (G. Ward, "Real Pixels", Graphics Gems
    II, 1991, and the format's own description; from memory). SceneError where it ends too early or says something else."""
    if not data.startswith((b"#?RADIANCE", b"#?RGBE")):
        raise SceneError(f"{name}: not a Radiance picture")
    end = data.find(b"\n\n")
    stop = data.find(b"\n", end + 2) if end >= 0 else -1
    if stop < 0:
        raise SceneError(f"{name}: it ends in its header")
    header = data[:end].decode("ascii", "replace").splitlines()
    if any(line.startswith("FORMAT=") and line.strip() != "FORMAT=32-bit_rle_rgbe" for line in header):
        raise SceneError(f"{name}: its format is not 32-bit_rle_rgbe")
    size = data[end + 2 : stop].decode("ascii", "replace").split()
    if len(size) != 4 or size[0] != "-Y" or size[2] != "+X" or not (size[1].isdigit() and size[3].isdigit()):
        raise SceneError(f"{name}: size {' '.join(size)[:40]!r} is not of the form -Y height +X width")
    height, width = int(size[1]), int(size[3])
    _check(name, width, height)
    exposure = 1.0
    for line in header:
        if line.startswith("EXPOSURE="):
            try:
                exposure *= float(line.partition("=")[2])
            except ValueError as error:
                raise SceneError(f"{name}: {line[:40]!r} is no number") from error
    if not np.isfinite(exposure) or exposure <= 0:
        raise SceneError(f"{name}: an exposure of {exposure:g} is none")
    return _lines(data, stop + 1, width, height, name) / np.float32(exposure)


def _lines(data: bytes, at: int, width: int, height: int, name: str) -> np.ndarray:
    rgbe = np.zeros((height, width, 4), np.uint8)
    for y in range(height):
        if at + 4 > len(data):
            raise SceneError(f"{name}: it is cut off in line {y + 1} of {height}")
        coded = data[at] == SCANLINE_MARK and data[at + 1] == SCANLINE_MARK and RLE_LEAST <= width <= RLE_MOST
        if coded and (data[at + 2] << 8 | data[at + 3]) == width:
            at = _run_lengths(data, at + 4, rgbe[y], name, y, height)
        else:
            if at + 4 * width > len(data):
                raise SceneError(f"{name}: it is cut off in line {y + 1} of {height}")
            rgbe[y] = np.frombuffer(data, np.uint8, 4 * width, at).reshape(width, 4)
            at += 4 * width
    scale = np.where(rgbe[..., 3] > 0, np.ldexp(np.float32(1.0), rgbe[..., 3].astype(np.int32) - 136), 0).astype(np.float32)
    return np.asarray(rgbe[..., :3].astype(np.float32) * scale[..., None])


def _run_lengths(data: bytes, at: int, line: np.ndarray, name: str, y: int, height: int) -> int:
    """Fill in one line (w, 4), a channel after the other; where the next one begins."""
    width = len(line)
    for channel in range(4):
        x = 0
        while x < width:
            if at + 1 >= len(data):
                raise SceneError(f"{name}: it is cut off in line {y + 1} of {height}")
            count = data[at]
            run = count > 128
            count = count - 128 if run else count
            if count == 0 or x + count > width or (not run and at + 1 + count > len(data)):
                raise SceneError(f"{name}: line {y + 1} of {height} is longer than the picture is wide, or cut off")
            line[x : x + count, channel] = data[at + 1] if run else np.frombuffer(data, np.uint8, count, at + 1)
            at += 2 if run else 1 + count
            x += count
    return at
