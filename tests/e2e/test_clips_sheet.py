"""A file with a clip brought in and played on the Intake sheet, by mouse and by keys."""

import re

from browser_helpers import barriers, bring
from test_clip_commands import gate


def rows_of(page):
    """(first, last) row of the viewpoint's picture that is white anywhere, as the page shows it."""
    return page.evaluate(
        """async () => {
          const picture = document.querySelector('img[alt="frame of eye"]');
          await picture.decode();
          const canvas = document.createElement("canvas");
          [canvas.width, canvas.height] = [picture.naturalWidth, picture.naturalHeight];
          const drawn = canvas.getContext("2d");
          drawn.drawImage(picture, 0, 0);
          const { data, width, height } = drawn.getImageData(0, 0, canvas.width, canvas.height);
          const rows = [];
          for (let y = 0; y < height; y++)
            for (let x = 0; x < width; x++) if (data[4 * (y * width + x)] > 250) { rows.push(y); break; }
          return [rows[0], rows[rows.length - 1]];
        }"""
    )


def shows(page, asked):
    """Wait for the picture of a moment, and tell its rows."""
    page.locator(f'img[alt="frame of eye"][src*="{asked}"]').wait_for()
    page.wait_for_function(
        '() => { const p = document.querySelector(`img[alt="frame of eye"]`); return p.complete && p.naturalWidth > 0; }'
    )
    return rows_of(page)


def test_a_gate_is_lifted_on_the_intake_sheet(page, tmp_path):
    path = gate(tmp_path)
    bring(page, "Gate lift", path, path.with_suffix(".setup.json"))
    rest = shows(page, "state=built")
    assert "1 s, moves 1 node" in page.get_by_role("row", name=re.compile("clip: lift")).inner_text()
    page.get_by_label("Clip").select_option("lift")
    assert shows(page, "clip=lift&time_s=0") == rest
    slider = page.get_by_label(re.compile("^Moment"))
    box = slider.bounding_box()
    page.mouse.click(box["x"] + box["width"] * 0.98, box["y"] + box["height"] / 2)
    page.wait_for_function("() => /time_s=(0.9|1)/.test(document.querySelector('img[alt=\"frame of eye\"]').src)")
    lifted = shows(page, "clip=lift")
    assert lifted[0] < rest[0]
    slider.focus()
    page.keyboard.press("Home")
    assert shows(page, "time_s=0") == rest
    page.keyboard.press("ArrowRight")
    shows(page, "time_s=0.01")
    assert barriers(page) == []
