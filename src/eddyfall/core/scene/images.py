"""PNG, JPEG, WebP and KTX2 to pixels, sizes checked from the header before anything is decoded."""

import io
import warnings
import zlib
from dataclasses import dataclass

import numpy as np
import opengl_basisu
import png
from PIL import Image as PillowImage
from PIL import UnidentifiedImageError

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.model import Image

KTX2 = b"\xabKTX 20\xbb\r\n\x1a\n"
MAX_PIXELS_EACH = 64_000_000
MAX_PIXELS_ALL = 512_000_000


@dataclass
class ImageBudget:
    """Pixels decoded so far in this file."""

    pixels: int = 0

    def take(self, width: int, height: int, where: str) -> None:
        """Count a picture; SceneError if it, or all of them, have more pixels than are decoded."""
        if width * height > MAX_PIXELS_EACH:
            raise SceneError(f"{width} x {height} pixels, more than {MAX_PIXELS_EACH}", where)
        self.pixels += width * height
        if self.pixels > MAX_PIXELS_ALL:
            raise SceneError(f"all images together have more than {MAX_PIXELS_ALL} pixels", where)


def decode_image(data: bytes, budget: ImageBudget, where: str) -> tuple[np.ndarray, np.ndarray | None]:
    """(uint8 (height, width, 4), the uint16 codes of a 16-bit PNG or None).

    FileNotFoundError if the bytes are no readable PNG, JPEG, WebP or KTX2; SceneError over budget."""
    if data[:12] == KTX2:
        return _transcoded(data, budget, where), None
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            picture = PillowImage.open(io.BytesIO(data), formats=("PNG", "JPEG", "WEBP"))
            budget.take(picture.width, picture.height, where)
            if picture.format == "PNG" and data[24:25] == b"\x10":  # IHDR bit depth 16
                wide = _sixteen_bit(data)
                return (wide // 257).astype(np.uint8), wide
            return np.asarray(picture.convert("RGBA"), dtype=np.uint8), None
        except PillowImage.DecompressionBombError:
            raise SceneError(f"more than {MAX_PIXELS_EACH} pixels", where) from None
        except (png.Error, zlib.error) as error:
            raise FileNotFoundError(f"no readable PNG ({str(error)[:80]})") from None
        except (UnidentifiedImageError, OSError, SyntaxError, ValueError, EOFError) as error:
            raise FileNotFoundError(f"no readable PNG, JPEG or WebP ({type(error).__name__})") from None


def _transcoded(data: bytes, budget: ImageBudget, where: str) -> np.ndarray:
    """uint8 (height, width, 4) of a Basis Universal picture in a KTX2 file, its finest level. Whether its codes are sRGB is what the
    material reads them as, whatever the file's own flag says: encoders set it on normal maps too."""
    try:
        texture = opengl_basisu.open(data)
        budget.take(texture.width, texture.height, where)
        if texture.codec.is_hdr or texture.faces != 1 or texture.is_video:
            raise FileNotFoundError("a KTX2 file of wide range, of six faces or of frames, which is no picture of a material")
        return np.ascontiguousarray(texture.transcode("rgba8").data)
    except (opengl_basisu.BasisuError, ValueError, MemoryError) as error:
        raise FileNotFoundError(f"no readable KTX2 ({str(error)[:80]})") from None


def _sixteen_bit(data: bytes) -> np.ndarray:
    """uint16 (height, width, 4) of a 16-bit PNG of any kind; grey is repeated, missing alpha is full."""
    width, height, rows, info = png.Reader(bytes=data).read()
    planes = np.stack([np.asarray(row, np.uint16) for row in rows]).reshape(height, width, info["planes"])
    colour = planes[..., :3] if info["planes"] >= 3 else np.repeat(planes[..., :1], 3, axis=2)
    alpha = planes[..., -1:] if info["alpha"] else np.full((height, width, 1), 65535, np.uint16)
    return np.concatenate([colour, alpha], axis=2)


def kind_of(data: bytes) -> str:
    """The MIME type of a picture's bytes, by how they begin."""
    begins = {b"\x89PNG": "image/png", b"\xff\xd8": "image/jpeg", b"RIFF": "image/webp", KTX2[:4]: "image/ktx2"}
    return next((kind for start, kind in begins.items() if data.startswith(start)), "image/png")


def encode_png(image: Image) -> bytes:
    """PNG bytes of an image: 16 bits a channel where it has wide codes, without alpha where that is full."""
    stream = io.BytesIO()
    codes = image.pixels if image.wide is None else image.wide
    if bool((codes[..., 3] == (255 if image.wide is None else 65535)).all()):
        codes = codes[..., :3]
    if image.wide is None:
        PillowImage.fromarray(codes).save(stream, "PNG", compress_level=6)
    else:
        height, width, planes = codes.shape
        writer = png.Writer(width, height, greyscale=False, alpha=planes == 4, bitdepth=16, compression=6)
        writer.write_packed(stream, [row.astype(">u2").tobytes() for row in codes.reshape(height, -1)])
    return stream.getvalue()
