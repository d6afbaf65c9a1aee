"""Copy what the browser loads from node_modules into web/shared/static/vendor, with its licences.

Run after `npm install --ignore-scripts` in a scratch folder: python tools/vendor.py FOLDER
"""

from __future__ import annotations

import re
import shutil
import sys
from pathlib import Path

ICONS = ["eye", "eye-off", "copy", "trash", "arrow-back-up", "arrow-forward-up", "plus",
         "printer", "download", "upload", "pencil", "x", "refresh", "rotate", "lock", "lock-open",
         "focus-2", "pin", "layout-columns", "search"]
TARGET = Path(__file__).parent.parent / "dovrek/web/shared/static/vendor"


def sprite(icons: Path) -> str:
    """One SVG of symbols from the outline set."""
    symbols = []
    for name in ICONS:
        text = (icons / "icons/outline" / f"{name}.svg").read_text()
        body = re.search(r"<svg[^>]*>(.*)</svg>", text, re.S)
        assert body is not None
        symbols.append(f'<symbol id="{name}" viewBox="0 0 24 24" fill="none" '
                       'stroke="currentColor" stroke-width="1.7" stroke-linecap="round" '
                       f'stroke-linejoin="round">{" ".join(body[1].split())}</symbol>')
    return '<svg xmlns="http://www.w3.org/2000/svg">' + "\n".join(symbols) + "</svg>\n"


def main(folder: Path) -> None:
    modules = folder / "node_modules"
    TARGET.mkdir(parents=True, exist_ok=True)
    font = modules / "@fontsource-variable/source-sans-3"
    shutil.copy(modules / "htmx.org/dist/htmx.min.js", TARGET / "htmx.min.js")
    shutil.copy(modules / "bulma/css/bulma.min.css", TARGET / "bulma.min.css")
    for subset in ("latin", "latin-ext"):
        name = f"source-sans-3-{subset}-wght-normal.woff2"
        shutil.copy(font / "files" / name, TARGET / name)
    (TARGET / "icons.svg").write_text(sprite(modules / "@tabler/icons"))
    for package in ("htmx.org", "bulma", "@tabler/icons", "@fontsource-variable/source-sans-3"):
        source = next(p for p in (modules / package).iterdir() if "licen" in p.name.lower())
        shutil.copy(source, TARGET / f"LICENSE-{package.split('/')[-1]}.txt")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
