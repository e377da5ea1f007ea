"""Wrong tracks among few: how often they are named, and whether the check residual shown is the truth."""

from dataclasses import asdict, replace

import numpy as np

from amberkeel.core.diagnose import alone
from amberkeel.core.diagnose.evidence import Evidence, Measures
from amberkeel.core.errors import SolveError
from amberkeel.core.handoff.wording import folds_alike
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import EXCLUDED, TrackSet
from benchmarks.few import FRAMES, KINDS, NOISE_PX, SIZE, Case, made, slip

COUNTS, SEEDS, WRONG = (8, 12, 20, 39), range(10), 2


def spoilt(tracks: TrackSet, rng: np.random.Generator) -> tuple[TrackSet, set[int]]:
    """Return tracks of which two drift, jump or sway by 3 to 8 pixels, and the ids of those."""
    xy, own = tracks.xy.copy(), tracks.track_of_sample
    chosen = rng.choice(len(tracks), WRONG, replace=False)
    for track in chosen:
        rows = np.flatnonzero(own == track)
        along, way = np.linspace(0.0, 1.0, len(rows)), rng.normal(size=2)
        courses = along, along > rng.uniform(0.3, 0.7), np.sin(2.0 * np.pi * along * rng.uniform(0.7, 2.0))
        course = np.asarray(courses[int(rng.integers(3))], float)
        xy[rows] += rng.uniform(3.0, 8.0) * np.outer(course, way / np.linalg.norm(way))
    return replace(tracks, xy=xy), {int(i) for i in tracks.ids[chosen]}


def told(solution) -> set[int]:
    """Return the ids of tracks that a solution names: excluded, or said to stand apart."""
    out = {int(i) for i, state in zip(solution.tracks.ids, solution.tracks.states) if state == EXCLUDED}
    return out | {track for one in alone.findings(Evidence(solution, Measures())) for track in one.tracks}


def run() -> None:
    """Print for each number of tracks how often wrong ones are named, good ones blamed, and the check over truth."""
    print()
    for count in COUNTS:
        named, wrong, blamed, good, unsolved = 0, 0, 0, 0, 0
        ratios: list[float] = []
        called_bad = 0
        for seed in SEEDS:
            case: Case = made(list(KINDS)[seed % len(KINDS)], count, 50 + seed)
            tracks, bad = spoilt(case.tracks, np.random.default_rng(seed)) if seed % 2 else (case.tracks, set())
            wrong += len(bad)
            try:
                solution = solve_tracks(tracks, FRAMES, *SIZE, Recipe())
            except SolveError:
                unsolved += 1
                continue
            found = told(solution)
            named, blamed, good = named + len(found & bad), blamed + len(found - bad), good + count - len(bad)
            if not bad:
                truth = np.hypot(slip(case, solution), NOISE_PX * np.sqrt(2.0))
                ratios.append((solution.check_rms_px or np.nan) / truth)
                called_bad += solution.folds is not None and not folds_alike(asdict(solution.folds))
        target = ", target 90 %" if count >= 12 else ""
        print(
            f"{count} tracks, {len(SEEDS)} shots: {named} of {wrong} wrong ones named{target}; {blamed} of {good} good "
            f"ones blamed, target 5 %; {called_bad} of {len(ratios)} good cameras called bad, target 5 %; {unsolved} "
            f"shots refused; check residual over the truth without wrong ones {np.nanmin(ratios):.2f} to "
            f"{np.nanmax(ratios):.2f}, target 0.77 to 1.3",
            flush=True,
        )
