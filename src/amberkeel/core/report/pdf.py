"""A report as PDF, set by WeasyPrint from the same page that is handed on as HTML."""

import re
from pathlib import Path

from amberkeel.core.errors import HandoffError

PAPER = "@page { size: A4; margin: 14mm; } body { max-width: none; margin: 0; padding: 0; font-size: 10.5pt; }"

FACES = (("barlow-latin-400-normal.woff2", 400), ("barlow-latin-600-normal.woff2", 600))
"""Files of the typeface, with their weights."""


def pdf_of(page: str, fonts: Path | None = None) -> bytes:
    """Return a report's page as PDF.

    Parameters
    ----------
    page : HTML that needs nothing beside it, as `whole_page` makes it. fonts : folder with the typeface's files, or
        None for the machine's own.

    Raises
    ------
    HandoffError : the libraries that set text are not there.
    """
    try:
        from weasyprint import CSS, HTML
        from weasyprint.text.fonts import FontConfiguration
    except (ImportError, OSError) as error:
        raise HandoffError(
            "A PDF cannot be made here: WeasyPrint, or the library Pango that it needs, is missing.",
            "pip install weasyprint; on Debian also libpango-1.0-0, libpangoft2-1.0-0 and libharfbuzz-subset0.",
        ) from error
    known = FontConfiguration()
    style = CSS(string=PAPER + _faces(fonts), font_config=known)
    made: bytes = HTML(string=_with_styled_charts(page)).write_pdf(stylesheets=[style], font_config=known)
    return made


def _faces(fonts: Path | None) -> str:
    there = [(fonts / name, weight) for name, weight in FACES if fonts is not None and (fonts / name).is_file()]
    return "".join(
        f'@font-face {{ font-family: Barlow; font-weight: {weight}; src: url("{path.resolve().as_uri()}"); }}'
        for path, weight in there
    )


def _with_styled_charts(page: str) -> str:
    """Return the page with the rules for charts inside each chart, their colours written out: a chart is set as a
    picture of its own, which neither the page's rules nor its variables reach.
    """
    style = "".join(re.findall(r"<style>(.*?)</style>", page, re.S))
    colours = dict(re.findall(r"(--[a-z]+):\s*([^;}]+)", style))
    rules = "".join(
        f"{selector.replace('.report svg', '')} {{ {body} }}\n"
        for selector, body in re.findall(r"(\.report svg [^{]+){([^}]*)}", style)
    )
    rules += "text { font-family: Barlow, sans-serif }"
    own = re.sub(r"var\((--[a-z]+)\)", lambda name: colours.get(name[1], "black"), rules)
    return re.sub(r"(<svg[^>]*>)", lambda tag: f"{tag[1]}<style>{own}</style>", page)
