"""Jobs of the lens stage: a lens from a filmed grid, and straightened plates."""

import shutil
from pathlib import Path
from tempfile import TemporaryDirectory

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import LensError
from amberkeel.core.lens.chart import calibrate
from amberkeel.core.lens.profile import LensProfile as Profile
from amberkeel.core.lens.profile import profile_document, profile_from_chart, read_profile
from amberkeel.core.lens.stills import open_stills
from amberkeel.core.lens.straighten import StraightenOrder, straighten_plate
from amberkeel.core.lens.views import ChartOrder, find_views
from amberkeel.core.progress import Progress, span
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import allowed, open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.media import Media
from amberkeel.store.models import LensProfile, Shot
from amberkeel.store.session import session
from amberkeel.store.solve import path_of
from amberkeel.store.stages.state import pinned
from amberkeel.store.storage import STRAIGHTENED


class Chart(Arguments):
    """Pictures of a grid to calibrate a lens from; temporary ones are taken away afterwards."""

    where: str
    order: ChartOrder
    name: str = ""
    temporary: bool = False


class Straighten(Arguments):
    """A plate to straighten: overscan as a word or in percent, the filter, and the format, "" for the plate's own;
    whether the rows of a rolling shutter are set upright by the pinned attempt.
    """

    overscan: str | float
    filter: str
    format: str
    upright: bool = False


def profile_in_use(settings: Settings, shot_id: int) -> Profile:
    """Return a shot's lens profile at its plate's size; raises LensError when it has none."""
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        row = opened.get(LensProfile, shot.profile_id) if shot.profile_id else None
        if row is None:
            raise LensError("This shot uses no lens profile.", "Draw lines and use them, or choose a profile.")
        return read_profile(row.document).rescaled(shot.plate.width, shot.plate.height)


def chart(settings: Settings, shot_id: int, arguments: Chart, progress: Progress) -> None:
    """Calibrate a lens from pictures of a grid; it becomes a profile of the production, in use on the shot."""
    total, pictures = open_stills(allowed(arguments.where))
    order = arguments.order
    views, (width, height) = find_views(pictures, order, span(progress, 0.0, 0.8), total)
    progress(0.85, "Adjusting views and lens")
    fit = calibrate(views, width, height, order)
    row = plate_row(settings, shot_id)
    profile = profile_from_chart(fit, arguments.name or "Lens from a grid", row.sensor_width_mm)
    document = profile_document(profile) | {
        "views": [
            {"name": n, "rms_px": float(r), "astray": bool(a)} for n, r, a in zip(fit.views, fit.view_rms, fit.astray)
        ],
        "coverage": fit.coverage.tolist(),
        "map_sigma_px": fit.map_sigma_px,
    }
    profile.rescaled(row.width, row.height)
    with effect(settings, shot_id, arguments) as opened:
        kept = LensProfile(production_id=opened.get(Shot, shot_id).production_id, name=profile.name, document=document)
        opened.add(kept)
        opened.flush()
        apply(opened, shot_id, "lens", {"profile": kept.id, "label": f"Lens from a grid ({len(views)} views)"})
    if arguments.temporary:
        shutil.rmtree(arguments.where, ignore_errors=True)


def straightened_folder(settings: Settings, shot_id: int) -> Path:
    """Return where a shot's straightened plate is written."""
    return Path(settings.media) / STRAIGHTENED / str(shot_id)


def pinned_path(settings: Settings, shot_id: int) -> CameraPath:
    """Return the camera of the pinned attempt; raises LensError where there is none."""
    with session(settings.database) as opened:
        attempt = pinned(opened, opened.get(Shot, shot_id))
        if attempt is None:
            raise LensError("No attempt is pinned that says how the camera turned.", "Solve the shot first.")
        return path_of(Media(settings.media), attempt)


def straighten(settings: Settings, shot_id: int, arguments: Straighten, progress: Progress) -> None:
    """Write the plate straightened through the profile in use, with its ST maps."""
    row, profile = plate_row(settings, shot_id), profile_in_use(settings, shot_id)
    path = pinned_path(settings, shot_id) if arguments.upright else None
    out = straightened_folder(settings, shot_id)
    order = StraightenOrder(arguments.overscan, arguments.filter, arguments.format, True, path)
    out.parent.mkdir(parents=True, exist_ok=True)
    for left in out.parent.glob(f"{shot_id}-*"):
        # By a worker that was lost; nobody else straightens this shot now.
        shutil.rmtree(left, ignore_errors=True)
    # Written beside, so that what was straightened before stands until this is whole.
    with TemporaryDirectory(prefix=f"{shot_id}-", dir=out.parent) as beside:
        made, earlier = Path(beside) / "made", Path(beside) / "earlier"
        straighten_plate(open_row(row), profile, made, order, progress)
        with effect(settings, shot_id, arguments):
            if out.exists():
                out.rename(earlier)
            made.rename(out)
