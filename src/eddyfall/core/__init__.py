"""The computation: scene in, frames, measurements, findings, repairs out.

No Django, no HTTP, no database. Compiled kernels are cached in a folder named by the hash of all core
sources (numba's own cache does not see an edit in a helper that lives in another module).
"""

import hashlib
import os
import platform
from pathlib import Path


def source_hash() -> str:
    """Hash of every Python file of the core: names the kernel cache and goes into cache keys."""
    digest = hashlib.sha256(platform.processor().encode() + platform.machine().encode())
    for path in sorted(Path(__file__).parent.rglob("*.py")):
        digest.update(path.name.encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()[:20]


def _prepare_kernels() -> None:
    os.environ.setdefault("NUMBA_THREADING_LAYER", "omp")
    if "NUMBA_CACHE_DIR" not in os.environ:
        root = Path(os.environ.get("EDDYFALL_CACHE", Path(__file__).resolve().parents[3] / ".cache"))
        os.environ["NUMBA_CACHE_DIR"] = str(root / "kernels" / source_hash())


_prepare_kernels()
