"""What MkDocs cannot know by itself: pages made from the code, pictures drawn by our own functions, formulas, fonts."""

import re
import shutil
from pathlib import Path
from typing import Any

import drawn
import reference
from latex2mathml.converter import convert
from mkdocs.config.defaults import MkDocsConfig
from mkdocs.structure.files import File, Files

ROOT = Path(__file__).parents[2]
FONTS = {
    "text": "atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-400-normal.woff2",
    "text-bold": "atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-700-normal.woff2",
    "mono": "atkinson-hyperlegible-mono/files/atkinson-hyperlegible-mono-latin-400-normal.woff2",
    "heading": "alegreya/files/alegreya-latin-500-normal.woff2",
}


def on_files(files: Files, config: MkDocsConfig) -> Files:
    for name, make in reference.PAGES.items():
        files.append(File.generated(config, f"reference/{name}.md", content=make()))
    for name, picture in drawn.pictures().items():
        files.append(File.generated(config, f"concepts/{name}.svg", content=picture))
    return files


def on_page_markdown(markdown: str, **_: Any) -> str:
    """Formulas as MathML, which browsers set by themselves."""
    return re.sub(r"^```math\n(.*?)^```", lambda found: _set(found[1].strip()), markdown, flags=re.M | re.S)


def _set(formulas: str) -> str:
    """Formulas parted by a wide space side by side, or below one another where the window is narrow."""
    parts = [convert(part, display="block") for part in formulas.split(r", \qquad ")]
    # A command that the converter does not know would stand there in letters.
    unknown = re.findall(r"\\[A-Za-z]+", "".join(parts))
    if unknown:
        raise ValueError(
            f"formulas use {', '.join(unknown)}, which cannot be set; use another command in {formulas!r}"
        )
    return f'<div class="formulas">{"".join(parts)}</div>'


def on_post_build(config: MkDocsConfig) -> None:
    """The mark and the fonts of the screens; without the front end's packages, the reader's own fonts stand in."""
    shutil.copyfile(ROOT / "web" / "public" / "mark.svg", Path(config.site_dir) / "mark.svg")
    place = Path(config.site_dir) / "fonts"
    place.mkdir(exist_ok=True)
    for name, path in FONTS.items():
        font = ROOT / "web" / "node_modules" / "@fontsource" / path
        if font.is_file():
            shutil.copyfile(font, place / f"{name}.woff2")
