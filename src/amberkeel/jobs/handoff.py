"""What the handoff stage's jobs do: a package made, proved, and kept as the shot's next version; a camera of others
kept as an attempt.
"""

import json
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from sqlalchemy.orm import Session

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.adopt import adopted
from amberkeel.core.handoff.package import PackageOrder, package_beside, read_manifest, remove_left_beside
from amberkeel.core.handoff.scene import Scene
from amberkeel.core.handoff.wording import checked
from amberkeel.core.lens.profile import read_profile
from amberkeel.core.progress import Progress, span
from amberkeel.core.report.pdf import pdf_of
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import movie_of, open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.handoff import (
    folder_of,
    leaving,
    made_of,
    put_package,
    recipient_named,
    report_leaving,
    scene_leaving,
    version_next,
)
from amberkeel.store.held import count_change
from amberkeel.store.masks import live_masks, masked_of
from amberkeel.store.media import Media
from amberkeel.store.models import FilmSet, Package, Shot
from amberkeel.store.report import FONTS
from amberkeel.store.session import session
from amberkeel.store.solve import stamps_of, store_attempt
from amberkeel.store.tracks import live_tracks, to_track_set
from amberkeel.store.world import pinned_of


class Pack(Arguments):
    """For which recipient, whether the whole set goes along, and why it may leave although a check does not hold."""

    recipient: str
    whole_set: bool = False
    reason: str = ""
    who: str = "artist"


def package(settings: Settings, shot_id: int, arguments: Pack, progress: Progress) -> None:
    """Make a package of a shot, or of its set, as the next version."""
    media = Media(settings.media)
    progress(0.0, "Gathering what leaves")
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        recipient = recipient_named(opened, shot.production_id, arguments.recipient)
        shots = leaving(opened, shot, arguments.whole_set)
        row = opened.get(FilmSet, (shot.ties or {}).get("set") or 0)
        scene = scene_leaving(opened, media, shots, row.name if row and arguments.whole_set else "")
        pages, state = report_leaving(opened, media, shots), made_of(opened, shots)
        with_plates = recipient.plates != "none" or bool(recipient.movies)
        plates = {c.name: open_row(one.plate) for c, one in zip(scene.cameras, shots)} if with_plates else {}
        masks = _masks(opened, media, scene, shots) if recipient.mattes else {}
        movies = _movies(opened, media, scene, shots) if "probes" in recipient.movies else {}
        out, version, production = folder_of(media, shot), version_next(opened, shot), shot.production.name
    progress(0.01, "Setting the report")
    reports, said = _reports(pages, recipient.report)
    order = PackageOrder(
        recipient, scene, out, plates, production, version, reports, arguments.reason, masks, movies, said
    )
    remove_left_beside(out)
    with package_beside(order, span(progress, 0.02, 0.98)) as made:
        words = f"Version {made.version} for {recipient.name}: {len(made.proofs)} formats read back and checked"
        manifest = read_manifest(made.folder)
        with effect(settings, shot_id, arguments, words) as opened:
            made = put_package(opened, opened.get(Shot, shot_id), made)
            opened.add(
                Package(
                    shot_id=shot_id, recipient=recipient.name, version=made.version, folder=made.folder.name,
                    manifest=manifest, made_of=state, who=arguments.who,
                )
            )  # fmt: skip
            count_change(opened, opened.get(Shot, shot_id))


class Adopt(Arguments):
    """A camera of others, as it is kept: its path (arrays), its lens (a profile), and the file's name."""

    camera: str
    lens: str
    name: str


def adopt(settings: Settings, shot_id: int, arguments: Adopt, progress: Progress) -> None:
    """Keep a camera of others as an attempt; it is not pinned."""
    media, row = Media(settings.media), plate_row(settings, shot_id)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        rows, stamps = live_tracks(opened, shot), stamps_of(opened, shot)
    if not rows:
        raise HandoffError("There are no tracks to judge a camera by.", "Follow features first.")
    kept, lens = media.get_arrays(arguments.camera), read_profile(json.loads(media.get(arguments.lens))).lens
    path = CameraPath(kept["frames"], kept["positions"], kept["turns"], lens, kept.get("zoom"))
    began, frames = time.monotonic(), open_row(row).frames
    solution = adopted(path, to_track_set(rows, row), frames, arguments.name, span(progress, 0.0, 0.97))
    said = f"{arguments.name}: {solution.rms_px:.2f} px, withheld tracks {checked(solution.check_rms_px, 2)}"
    with effect(settings, shot_id, arguments, said) as opened:
        shot = opened.get(Shot, shot_id)
        made = store_attempt(opened, media, shot, solution, stamps, seconds=time.monotonic() - began)
        made.name = f"Camera of {arguments.name}"[:60]
        count_change(opened, shot)


def _reports(pages: dict[str, str], forms: Sequence[str]) -> tuple[dict[str, bytes], tuple[str, ...]]:
    """Return the reports by file name in the forms that are wished, and what could not be made of them."""
    out, said = {}, []
    for name, page in pages.items():
        if "html" in forms:
            out[f"{name}.html"] = page.encode()
        if "pdf" in forms:
            try:
                out[f"{name}.pdf"] = pdf_of(page, FONTS)
            except HandoffError as error:
                said.append(f"{name} is HTML only: {error}")
    return out, tuple(said)


def _movies(
    opened: Session, media: Media, scene: Scene, shots: list[Shot]
) -> dict[str, Callable[[Path, Progress], None]]:
    """Return what draws each shot's probe objects over its plate, into a file."""
    return {
        camera.name: movie_of(opened, media, shot, pinned_of(opened, shot), scene.fps)
        for camera, shot in zip(scene.cameras, shots)
    }


def _masks(opened: Session, media: Media, scene: Scene, shots: list[Shot]) -> dict[str, Callable[[int], np.ndarray]]:
    """Return where the masks of each shot are, those that are switched on."""
    out = {}
    for camera, shot in zip(scene.cameras, shots):
        own = [one for one in live_masks(opened, shot) if one.on]
        masked = masked_of(media, own, shot.plate.height, shot.plate.width)
        if masked is not None:
            out[camera.name] = masked
    return out
