"""The HTML sheet: one self-contained file with pictures, for people who were not there."""

import base64
import io
from pathlib import Path
from typing import Any

import numpy as np
from jinja2 import Environment, FileSystemLoader, select_autoescape
from markupsafe import Markup
from PIL import Image

from eddyfall import __version__
from eddyfall.core.defects.registry import code_of
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.schedule import pass_table
from eddyfall.core.handover.documents.findings import FindingDocument
from eddyfall.core.handover.tide import tide_row
from eddyfall.core.lineup.run import LineUp
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.names import visible
from eddyfall.core.sweep.findings import Finding, SweepResult

THUMB_WIDTH = 460
SEVERITY_WORDS = {"blocking": "blocks the build", "visible": "visible", "latent": "latent"}  # as on the screen
FONTS = {"archivo": "archivo.woff2", "mono": "jetbrains-mono.woff2"}


def picture_uri(pixels: np.ndarray, width: int | None = None) -> str:
    """data: URI of a uint8 (h, w, 3) picture as JPEG, made narrower if it is wider than `width`."""
    image = Image.fromarray(np.ascontiguousarray(pixels))
    if width and image.width > width:
        image = image.resize((width, max(1, round(image.height * width / image.width))), Image.Resampling.LANCZOS)
    stream = io.BytesIO()
    image.save(stream, "JPEG", quality=88, subsampling=0)
    return "data:image/jpeg;base64," + base64.b64encode(stream.getvalue()).decode()


def font_uris() -> dict[str, Markup]:
    """data: URIs of the fonts of the application, so that the sheet looks like it wherever it is opened."""
    folder = Path(__file__).parent / "fonts"
    encoded = {name: base64.b64encode((folder / file).read_bytes()).decode() for name, file in FONTS.items()}
    return {name: Markup(f"data:font/woff2;base64,{text}") for name, text in encoded.items()}


def number(value: float | None) -> str:
    """A number for people: three to four figures, thin-space thousands."""
    if value is None:
        return "–"
    if abs(value) >= 1000:
        return f"{value:,.0f}".replace(",", "\u202f")
    return f"{value:.4g}"


def size_text(value: float, unit: str) -> str:
    """A cost with its unit; bytes as MiB."""
    if unit == "bytes":
        return "0 B" if value == 0 else f"{value / 1024**2:.2f}\u202fMiB"
    return f"{number(value)}\u202f{unit}".strip()


def html_sheet(
    build: Build,
    result: SweepResult,
    *,
    name: str,
    renderer: Renderer,
    after: SweepResult | None = None,
    repaired: Build | None = None,
    lineups: tuple[LineUp, ...] = (),
    when: str = "",
) -> str:
    """The sheet as HTML text. `after` and `repaired`: the second sweep and its build, shown beside the first."""
    environment = Environment(
        loader=FileSystemLoader(Path(__file__).parent), autoescape=select_autoescape(["html"], default=True),
        finalize=lambda value: visible(value) if isinstance(value, str) and not isinstance(value, Markup) else value,
    )  # fmt: skip
    environment.filters.update(number=number, cost=lambda c: size_text(c.value, c.unit), words=lambda code: code_of(code).words)
    views = []
    for view in result.viewpoints:
        before_picture = renderer.frame(build, Request(view, result.size, None, result.target), "display").display
        entry: dict[str, Any] = {"name": view, "before": picture_uri(before_picture, THUMB_WIDTH), "after": None}
        if repaired is not None:
            after_picture = renderer.frame(repaired, Request(view, result.size, None, result.target), "display").display
            entry["after"] = picture_uri(after_picture, THUMB_WIDTH)
        views.append(entry)
    families = sorted({f.code for f in result.findings})
    return environment.get_template("sheet.html").render(
        name=name, when=when, version=__version__, result=result, after=after, views=views, families=families,
        findings=[_finding(f) for f in result.findings], tide=_tide(result, families), lineups=[_lineup(v) for v in lineups],
        passes=pass_table(), notes=result.left_out, fonts=font_uris(), words_of=SEVERITY_WORDS,
    )  # fmt: skip


def _finding(f: Finding) -> dict[str, Any]:
    own = [e.picture for e in f.evidence if e.picture is not None] or ([f.picture] if f.picture is not None else [])
    pictures = [picture_uri(p, 960) for p in own]
    return {"f": f, "s": f.suspicion, "pictures": pictures}


def _tide(result: SweepResult, codes: list[str]) -> list[dict[str, Any]]:
    """Rows of the tide table: viewpoint, and for each code its cell with the mark's radius in px."""
    documents = [FindingDocument.from_core(f) for f in result.findings]
    rows = []
    for view in result.viewpoints:
        found = tide_row(documents, view, lambda finding: finding.code).cells
        cells = [
            {**dict(cell), "radius": min(15.0, 3 + 60 * cell.share**0.5)} if cell else {"severity": None}
            for cell in map(found.get, codes)
        ]
        rows.append({"view": view, "cells": cells})
    return rows


def _lineup(result: LineUp) -> dict[str, Any]:
    top = max([result.base_score, *(t.after for t in result.trials)]) or 1.0
    trials = [{"t": t, "picture": picture_uri(t.picture, 220), "bar": 100 * t.after / top} for t in result.trials]
    return {"l": result, "base": picture_uri(result.base_picture, 220), "trials": trials}
