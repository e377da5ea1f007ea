"""From a plate on disk to its best camera: followed, solved, diagnosed, and what helps tried and kept."""

import json
from dataclasses import asdict, dataclass
from fractions import Fraction

from amberkeel.core.diagnose.finding import CALM, finding_document
from amberkeel.core.handoff.document import solve_document
from amberkeel.core.handoff.formats import FORMATS
from amberkeel.core.handoff.track_table import tracks_csv
from amberkeel.core.plate.plate import Plate, matte_reader, open_plate
from amberkeel.core.progress import Progress, span
from amberkeel.core.repair.improve import Improved, Trial, improve
from amberkeel.core.repair.remedies import Ground
from amberkeel.core.report.page import Made, Report, Tried, whole_page
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.solve_order import WRITTEN, recipe_of, typed_fps
from amberkeel.core.solve_plate import SolveOrder, followed

REPORT, LOG = "report.html", "improve.json"
"""Files beside those of a solve: the verdict as a page, and what was tried and found as JSON."""


@dataclass(frozen=True)
class Worked:
    """What came of working on a plate: the files by name, and the loop with its first attempt."""

    files: dict[str, str]
    first: Solution
    improved: Improved


def improve_plate(order: SolveOrder, effort: str, progress: Progress) -> Worked:
    """Follow and solve a plate, then try what could help and keep what does.

    Parameters
    ----------
    order : what to solve and how. effort : one of `core.repair.improve.EFFORTS`. progress : the share done.
    """
    recipe, sensor = recipe_of(order, open_plate(order.plate, order.frames, order.encoding))
    plate, tracks = followed(order, span(progress, 0.0, 0.15))
    first = solve_tracks(tracks, plate.frames, plate.width, plate.height, recipe, span(progress, 0.15, 0.3))
    masked = matte_reader(order.mattes, plate) if order.mattes else None
    ground = Ground(first, plate.frames, plate, masked)
    best = improve(ground, effort, None, span(progress, 0.3, 0.98))
    progress(1.0, "Writing")
    return Worked(_files(plate, first, best, sensor, typed_fps(order, plate)), first, best)


def _files(plate: Plate, first: Solution, best: Improved, sensor: float, fps: Fraction) -> dict[str, str]:
    rate = f"{fps.numerator}/{fps.denominator}"
    document = solve_document(best.solution, plate=plate.name, fps=rate)
    files = {name: FORMATS[name].write(document, sensor) for name in WRITTEN}
    log = {
        "tried": [_trial(one) for one in best.trials],
        "findings": [finding_document(one) for one in best.findings],
        "before": _quality(first),
        "after": _quality(best.solution),
        "needs_a_person": needs_a_person(best),
    }
    return files | {
        "tracks.csv": tracks_csv(best.solution.tracks),
        LOG: json.dumps(log, indent=1),
        REPORT: whole_page(_report(plate, first, best, sensor)),
    }


def needs_a_person(best: Improved) -> str:
    """Return why a shot needs a person, "" where it does not: the worst finding that is left."""
    left = [one for one in best.findings if one.severity in ("serious", "notable")]
    return left[0].text if left and left[0].severity == "serious" else ""


def _trial(trial: Trial) -> dict:
    compared = trial.comparison
    return {
        "remedy": trial.remedy.words,
        "code": trial.remedy.code,
        "for": trial.finding,
        "kept": trial.kept,
        "verdict": compared.verdict if compared else "",
        "words": compared.words if compared else trial.failed,
        "before": asdict(compared.before) if compared else None,
        "after": asdict(compared.after) if compared else None,
    }


def _quality(solution: Solution) -> dict:
    return {
        "rms_px": solution.rms_px, "check_rms_px": solution.check_rms_px,
        "focal_px": solution.path.lens.focal_px[0], "focal_sigma_px": solution.focal_sigma_px, **solution.counts,
    }  # fmt: skip


def _report(plate: Plate, first: Solution, best: Improved, sensor: float) -> Report:
    kept = [one.remedy.words for one in best.trials if one.kept]
    said = (
        f"Kept of {len(best.trials)} tried: {'; '.join(kept)}."
        if kept
        else f"{len(best.trials)} tried, nothing helped."
    )
    needs = needs_a_person(best)
    mm = sensor / plate.width
    made = [
        Made(name, one.rms_px, one.check_rms_px, f"{one.path.lens.focal_px[0] * mm:.2f} mm",
             one.counts["tracks_used"], one is best.solution)
        for name, one in (("After", best.solution), ("Before", first))
    ]  # fmt: skip
    tried = [
        Tried(one.remedy.words, "keel", "", one.comparison.words if one.comparison else one.failed,
              "kept" if one.kept else "dropped")
        for one in best.trials
    ]  # fmt: skip
    verdict = f"{said} A person is needed: {needs}" if needs else said
    found = [one for one in best.findings if one.severity != CALM]
    return Report(plate.name, "Worked on by itself", verdict, best.solution, mm, found, tried, made)
