"""The computation: scene in, frames, measurements, findings, repairs out.

No Django, no HTTP, no database. Compiled kernels are cached in a folder named by the hash of all sources they are made of (numba's own
cache does not see an edit in a helper that lives in another module).
"""

import hashlib
import os
import platform
import re
from pathlib import Path

_ROOT = Path(__file__).resolve().parent
_KERNELS = re.compile(r"^@(njit|helper|light_helper)\b", re.MULTILINE)
_IMPORTS = re.compile(r"^from eddyfall\.core\.?([\w.]*) import (\([\w\s,]+\)|[\w ,]+)", re.MULTILINE)


def kernel_sources(root: Path = _ROOT) -> list[Path]:
    """Files of the core that compiled kernels are made of: those that hold kernels, and all that these import, since a kernel takes
    constants of other modules into itself."""
    text = {path: path.read_text() for path in root.rglob("*.py")}
    found: set[Path] = set()
    waiting = [path for path, source in text.items() if _KERNELS.search(source)]
    while waiting:
        path = waiting.pop()
        if path in found or path == root / "__init__.py":
            continue
        found.add(path)
        for room, names in _IMPORTS.findall(text[path]):
            place = root.joinpath(*room.split("."))
            named = [place / f"{name.strip()}.py" for name in names.strip("()").split(",")]
            waiting += [p for p in (place.with_suffix(".py"), place / "__init__.py", *named) if p in text]
    return sorted(found)


def source_hash() -> str:
    """Hash of what compiled kernels are made of, and of the machine: names the kernel cache."""
    digest = hashlib.sha256(platform.processor().encode() + platform.machine().encode())
    for path in kernel_sources():
        digest.update(str(path.relative_to(_ROOT)).encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()[:20]


def _prepare_kernels() -> None:
    os.environ.setdefault("NUMBA_THREADING_LAYER", "omp")
    if "NUMBA_CACHE_DIR" not in os.environ:
        root = Path(os.environ.get("EDDYFALL_CACHE", Path(__file__).resolve().parents[3] / ".cache"))
        os.environ["NUMBA_CACHE_DIR"] = str(root / "kernels" / source_hash())


_prepare_kernels()
