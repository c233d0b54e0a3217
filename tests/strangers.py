"""Files that others made, for tests only: Debian's assimp-testmodels and what two npm packages of free assets carry."""

import base64
import re
from pathlib import Path

DEBIAN = Path("/usr/share/assimp/models")
NPM = Path(__file__).parent / "tools" / "node_modules"


def gltf_files(folder: Path) -> list[Path]:
    """Every GLB and glTF in a folder, by path."""
    return sorted(p for ending in ("glb", "gltf") for p in folder.rglob(f"*.{ending}"))


def packed_glbs(into: Path) -> list[Path]:
    """The GLBs that a package carries as text in modules, written out."""
    found = []
    for module in sorted((NPM / "@pmndrs" / "assets" / "models").glob("*.glb.js")):
        data = re.search(r"base64,([A-Za-z0-9+/=]+)", module.read_text())
        if data:
            path = into / module.name[: -len(".js")]
            path.write_bytes(base64.b64decode(data.group(1)))
            found.append(path)
    return found


def strangers(into: Path) -> list[Path]:
    """All of them: from a part of a millimetre to rooms; broken ones too."""
    return [*gltf_files(DEBIAN), *gltf_files(NPM / "@webxr-input-profiles"), *packed_glbs(into)]
