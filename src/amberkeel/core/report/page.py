"""The verdict as HTML: sections that a page takes in, and a whole page that needs nothing beside it."""

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape
from pathlib import Path

import numpy as np

from amberkeel.core.diagnose.finding import CALM, Finding
from amberkeel.core.handoff.wording import checked
from amberkeel.core.plate.sequence import spans
from amberkeel.core.report.charts import Line, above, field, heat, lines
from amberkeel.core.report.figures import check_by_frame, residual_field
from amberkeel.core.solve.predicted_slip import predicted_slip
from amberkeel.core.solve.solution import Solution
from amberkeel.core.world.camera_curves import camera_curves

SEVERITY_WORDS = {"serious": "Serious", "notable": "Worth a look", "minor": "Minor", "calm": "As it should be"}


@dataclass(frozen=True)
class Tried:
    """A trial in a report: what, by whom and when, its result in words, and whether it was kept."""

    words: str
    who: str
    when: str
    result: str
    decided: str


@dataclass(frozen=True)
class Made:
    """An attempt in a report: its name, figures in words, and whether it is the one in use."""

    name: str
    rms_px: float
    check_px: float | None
    focal: str
    tracks: int
    used: bool


@dataclass(frozen=True)
class Report:
    """All that a verdict is made of.

    Attributes
    ----------
    title, beneath : of the page. verdict : one sentence. solution : in the world to be shown. mm_per_px : of the
        sensor. findings : worst first. tried, made : trials and attempts, newest first.
    """

    title: str
    beneath: str
    verdict: str
    solution: Solution
    mm_per_px: float
    findings: Sequence[Finding] = ()
    tried: Sequence[Tried] = ()
    made: Sequence[Made] = ()


def sections(report: Report) -> str:
    """Return the report's sections as HTML; texts that came from people are escaped."""
    solution, path = report.solution, report.solution.path
    curves = camera_curves(path, solution.shifts)
    looks = ("one", "two", "three")
    middle = int(path.frames[len(path.frames) // 2])
    known = solution.points.known & np.array([s != "excluded" for s in solution.tracks.states])
    residuals = [Line("used, RMS", solution.frame_rms, "one"), Line("withheld, RMS", check_by_frame(solution), "two")]
    parts = [
        f'<p class="verdictline">{escape(report.verdict)}</p>',
        _figures(report),
        "<h2>Residual by frame</h2>",
        lines(path.frames, residuals, "px"),
        '<div class="pair"><section><h2>Residual over the picture</h2>',
        field((path.lens.width, path.lens.height), *residual_field(solution)),
        f"</section><section><h2>Predicted slip, from frame {middle}</h2>",
        heat(predicted_slip(solution, middle).px, "px", path.lens.height / path.lens.width),
        "</section></div>",
        '<div class="pair"><section><h2>Path</h2>',
        above(path.positions, solution.position_sigma, solution.points.positions(path.positions[0])[known]),
        f"</section><section><h2>Focal length</h2>{_focal(report)}</section></div>",
        "<h2>Position, with one sigma</h2>",
        lines(
            path.frames, [Line(c.name, c.values, k, c.sigma) for c, k in zip(curves[:3], looks)], "units", 140, False
        ),
        "<h2>Turn, with one sigma</h2>",
        lines(path.frames, [Line(c.name, c.values, k, c.sigma) for c, k in zip(curves[3:6], looks)], "°", 140, False),
        f"<h2>Findings</h2>{_findings(report.findings)}",
        f"<h2>What was tried</h2>{_tried(report.tried)}",
        f"<h2>Attempts</h2>{_made(report.made)}" if report.made else "",
    ]
    return "\n".join(parts)


def _figures(report: Report) -> str:
    solution = report.solution
    counts, mm = solution.counts, report.mm_per_px
    focal = solution.path.lens.focal_px[0]
    readout = f"{100 * solution.path.readout:.0f} % of the frame" if solution.path.readout else "rows at once"
    rows = [
        ("RMS residual", f"{solution.rms_px:.3f} px"),
        ("Check residual", checked(solution.check_rms_px)),
        ("Focal length", f"{focal * mm:.2f} ±{solution.focal_sigma_px * mm:.2f} mm"),
        ("Distortion k1", f"{solution.path.lens.radial[0]:+.4f} ±{solution.k1_sigma:.4f}"),
        ("Camera", solution.motion),
        ("Shutter", readout),
        ("Frames", spans(solution.path.frames.tolist())),
        ("Tracks used, withheld", f"{counts['tracks_used']}, {counts['tracks_check']}"),
    ]
    return '<dl class="figures">' + "".join(f"<div><dt>{k}</dt><dd>{escape(v)}</dd></div>" for k, v in rows) + "</dl>"


def _focal(report: Report) -> str:
    """Return the focal length against what else tells it: held-out tests and what the solve notes."""
    solution, mm = report.solution, report.mm_per_px
    focal, sigma = solution.path.lens.focal_px[0], solution.focal_sigma_px
    said = [f"The solve: {focal * mm:.2f} mm, one sigma {sigma * mm:.3f} mm ({100 * sigma / focal:.2f} %)."]
    if solution.recipe.focal_px:
        said.append(f"Stated: {solution.recipe.focal_px * mm:.2f} mm.")
    for test in solution.lens_report.trials:
        if test.name == "focal":
            word = "would show it" if test.determined else "would not show it"
            said.append(f"Put elsewhere and all else adjusted again, tracks held out {word}.")
    for part in ("cells of the picture", "stretches of time"):
        if solution.shifts is not None and "focal" in solution.shifts.names:
            own = solution.shifts.lens[:, solution.shifts.names.index("focal")]
            own = own[: solution.shifts.cells] if part.startswith("cells") else own[solution.shifts.cells :]
            if len(own):
                most = 100.0 * float(np.abs(own).max())
                said.append(f"With one of the {part} left out it moves by {most:.2f} % at the most.")
    return "<ul>" + "".join(f"<li>{escape(line)}</li>" for line in dict.fromkeys(said)) + "</ul>"


def _findings(findings: Sequence[Finding]) -> str:
    open_ = [one for one in findings if one.severity != CALM]
    if not open_:
        return "<p>None that needs anything done.</p>"
    rows = "".join(
        f'<tr><td class="{one.severity}">{SEVERITY_WORDS[one.severity]}</td><td>{escape(one.text)}</td>'
        f"<td>{100 * one.confidence:.0f} % sure</td></tr>"
        for one in open_
    )
    return f"<table>{rows}</table>"


def _tried(tried: Sequence[Tried]) -> str:
    if not tried:
        return "<p>Nothing was tried on this shot.</p>"
    rows = "".join(
        f"<tr><td>{escape(one.words)}</td><td>{escape(one.result)}</td><td>{escape(one.decided or 'open')}</td>"
        f"<td>{escape(one.who)} {escape(one.when)}</td></tr>"
        for one in tried
    )
    return f"<table>{rows}</table>"


def _made(made: Sequence[Made]) -> str:
    head = "<tr><th>Attempt</th><th>RMS</th><th>Check</th><th>Focal length</th><th>Tracks</th></tr>"
    rows = "".join(
        f'<tr class="{"used" if one.used else ""}"><td>{escape(one.name)}{" · in use" if one.used else ""}</td>'
        f"<td>{one.rms_px:.3f} px</td><td>{checked(one.check_px)}</td><td>{escape(one.focal)}</td>"
        f"<td>{one.tracks}</td></tr>"
        for one in made
    )
    return f"<table>{head}{rows}</table>"


def section_style() -> str:
    """Return the style of a report's sections, which takes its colours from the page."""
    return (Path(__file__).parent / "sections.css").read_text()


def whole_page(report: Report, extra: str = "") -> str:
    """Return a report as one HTML page that needs nothing beside it.

    Parameters
    ----------
    report : what is shown. extra : HTML after its sections, such as what a reviewer said.
    """
    own = (Path(__file__).parent / "page.css").read_text()
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{escape(report.title)}</title>'
        f"<style>{own}{section_style()}</style></head><body><h1>{escape(report.title)}</h1>"
        f'<p class="beneath">{escape(report.beneath)}</p><main class="report">{sections(report)}{extra}</main>'
        "</body></html>"
    )
