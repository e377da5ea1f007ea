"""Copy the modules, fonts and icons that the pages use out of node_modules: nothing is loaded from elsewhere."""

import re
import shutil
import sys
from pathlib import Path

FILES = {
    "three/build/three.module.js": "three.module.js",
    "three/build/three.core.js": "three.core.js",
    "three/examples/jsm/controls/OrbitControls.js": "OrbitControls.js",
    "d3/dist/d3.min.js": "d3.min.js",
}
FONTS = {"@fontsource/barlow": (400, 500, 600), "@fontsource/jetbrains-mono": (400, 500)}
ICONS = (
    "play pause step-back step-forward search undo-2 redo-2 x pin upload folder film image circle-alert check plus "
    "download box layers crosshair lasso-select square-dashed-mouse-pointer keyboard eye trash-2 ban rotate-ccw "
    "triangle-alert chevron-right chevron-down move-3d ruler grid-3x3 camera orbit columns-2 combine loader-circle "
    "arrow-left sliders-horizontal "
    "anchor git-compare-arrows house aperture blend waypoints compass link package scan-line hand eye-off pentagon "
    "spline square circle circle-plus circle-minus scan-search copy eye move-horizontal move-vertical move-diagonal "
    "locate-fixed list-checks layout-grid ellipsis rows-3 history circle-help hard-drive archive pencil maximize "
    "minimize chevron-up folder-symlink arrow-up-to-line printer chart-line moon-star "
    "axis-3d chart-scatter traffic-cone footprints projector move-up-right flip-vertical-2 cylinder mountain "
    "brick-wall utility-pole user-round cone sun eye-closed group focus paintbrush "
    "map-pinned map-pin-plus cctv refresh-cw tag images"
).split()


def main(modules: Path, target: Path) -> None:
    """Copy everything into `target`, and write the fonts' and icons' style sheets and sprites."""
    shutil.rmtree(target, ignore_errors=True)
    (target / "fonts").mkdir(parents=True)
    for source, name in FILES.items():
        shutil.copy(modules / source, target / name)
    rules = []
    for package, weights in FONTS.items():
        family = package.split("/")[1]
        for weight in weights:
            file = f"{family}-latin-{weight}-normal.woff2"
            shutil.copy(modules / package / "files" / file, target / "fonts" / file)
            title = " ".join(w.capitalize() for w in family.split("-")).replace("Jetbrains", "JetBrains")
            rules.append(
                f"@font-face{{font-family:'{title}';font-weight:{weight};font-display:block;"
                f"src:url('fonts/{file}') format('woff2')}}"
            )
    (target / "fonts.css").write_text("\n".join(rules) + "\n")
    symbols = []
    for icon in ICONS:
        text = (modules / "lucide-static/icons" / f"{icon}.svg").read_text()
        body = re.search(r"<svg[^>]*>(.*)</svg>", text, re.S).group(1).strip()
        symbols.append(f'<symbol id="{icon}" viewBox="0 0 24 24">{body}</symbol>')
    (target / "icons.svg").write_text(f'<svg xmlns="http://www.w3.org/2000/svg">{"".join(symbols)}</svg>\n')


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]))
