"""What moves on a plate's frames, kept by frame: looked for once, used by masks of every kind."""

import numpy as np
from sqlalchemy.orm import Session

from amberkeel.store.media import Media
from amberkeel.store.models import Plate, Shot


def known_bodies(media: Media, plate: Plate) -> dict[int, np.ndarray]:
    """Return the spots (gh, gw) bool that move on each frame on which that was looked for."""
    if not plate.motion:
        return {}
    kept = media.get_arrays(plate.motion)
    height, width = kept["grid"]
    spots = np.unpackbits(kept["spots"], axis=-1, count=int(width)).astype(bool)
    return dict(zip(kept["frames"].tolist(), spots.reshape(-1, int(height), int(width))))


def keep_bodies(session: Session, media: Media, shot: Shot, bodies: dict[int, np.ndarray]) -> None:
    """Keep what moves with a shot's plate, besides what is known of other frames."""
    before = known_bodies(media, shot.plate)
    grid = next(iter(bodies.values())).shape if bodies else ()
    every = {f: spots for f, spots in (before | bodies).items() if spots.shape == grid}
    if not every or (before.keys() == every.keys() and all((before[f] == every[f]).all() for f in before)):
        return
    frames = sorted(every)
    spots = np.packbits(np.stack([every[f] for f in frames]), axis=-1)
    shot.plate.motion = media.put_arrays(frames=np.array(frames), grid=np.array(grid), spots=spots)
