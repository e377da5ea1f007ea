"""What the handoff stage's job does: a package made, proved, and kept as the shot's next version."""

from collections.abc import Callable

import numpy as np
from sqlalchemy.orm import Session

from amberkeel.core.handoff.package import PackageOrder, make_package, read_manifest
from amberkeel.core.handoff.scene import Scene
from amberkeel.core.progress import Progress, span
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import open_row
from amberkeel.settings import Settings
from amberkeel.store.handoff import (
    folder_of,
    leaving,
    made_of,
    recipient_named,
    report_leaving,
    scene_leaving,
    version_next,
)
from amberkeel.store.masks import live_masks, masked_of
from amberkeel.store.media import Media
from amberkeel.store.models import FilmSet, Package, Shot
from amberkeel.store.session import session


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
        extra, state = report_leaving(opened, media, shots), made_of(opened, shots)
        with_plates = recipient.plates != "none"
        plates = {c.name: open_row(one.plate) for c, one in zip(scene.cameras, shots)} if with_plates else {}
        masks = _masks(opened, media, scene, shots) if recipient.mattes else {}
        out, version, production = folder_of(media, shot), version_next(opened, shot), shot.production.name
    order = PackageOrder(recipient, scene, out, plates, production, version, extra, arguments.reason, masks)
    made = make_package(order, span(progress, 0.02, 0.98))
    said = f"Version {made.version} for {recipient.name}: {len(made.proofs)} formats read back and checked"
    with effect(settings, shot_id, arguments, said) as opened:
        opened.add(
            Package(
                shot_id=shot_id, recipient=recipient.name, version=made.version, folder=made.folder.name,
                manifest=read_manifest(made.folder), made_of=state, who=arguments.who,
            )
        )  # fmt: skip
        opened.get(Shot, shot_id).revision += 1


def _masks(opened: Session, media: Media, scene: Scene, shots: list[Shot]) -> dict[str, Callable[[int], np.ndarray]]:
    """Return where the masks of each shot are, those that are switched on."""
    out = {}
    for camera, shot in zip(scene.cameras, shots):
        own = [one for one in live_masks(opened, shot) if one.on]
        masked = masked_of(media, own, shot.plate.height, shot.plate.width)
        if masked is not None:
            out[camera.name] = masked
    return out
