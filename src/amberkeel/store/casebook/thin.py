"""Frames with too few live tracks."""

from sqlalchemy import text
from sqlalchemy.orm import Session

from amberkeel.core.diagnose.finding import NOTABLE, Finding
from amberkeel.core.diagnose.thin import FLOOR
from amberkeel.core.plate.sequence import spans
from amberkeel.store.models import Attempt, Shot

THIN = "thin-frames"

LIVE = """
select f, count(*) from track, unnest(frames) f
where shot_id = :shot and not removed and state = 'active' group by f
"""

WHEN_BLURRED = (
    "They are blurred: bridge more frames of blur when following, or place tracks by hand on both sides of them."
)
WHEN_SHARP = (
    "Place tracks by hand there, follow a surface, choose from sightings, "
    "or prepare a tracking copy with more contrast."
)

OF_A_STILL = (
    "A still tells its camera by known coordinates: of six tracks, of four with the focal length known. "
    "State them in Solve, under what is known."
)


_kept: dict[tuple[int, int], dict[int, int]] = {}

_MOST_KEPT = 64
"""Shots whose counts are kept: they change with the tracks' stamp only, and every open page asks for them."""


def _live(session: Session, shot: Shot) -> dict[int, int]:
    """Return how many active tracks live on each frame."""
    key = shot.id, shot.tracks_stamp
    if key not in _kept:
        while len(_kept) >= _MOST_KEPT:
            _kept.pop(next(iter(_kept)), None)
        _kept[key] = {int(f): int(n) for f, n in session.execute(text(LIVE), {"shot": shot.id})}
    return _kept[key]


def findings(session: Session, shot: Shot, attempt: Attempt | None) -> list[Finding]:
    """Return a finding on frames with too few live tracks, with what could help there; on a still, which has one frame,
    what a camera comes from.
    """
    plate, counts = shot.plate, _live(session, shot)
    if plate.first == plate.last:
        return [Finding(THIN, NOTABLE, 0.9, OF_A_STILL, (plate.first,))] if counts and attempt is None else []
    thin = [f for f in range(plate.first, plate.last + 1) if counts.get(f, 0) < FLOOR]
    if not counts or not thin:
        return []
    lengths = plate.blur.get("length", [])
    blurred = [f for f in thin if f - plate.first < len(lengths) and lengths[f - plate.first] > 0]
    help = WHEN_BLURRED if len(blurred) > len(thin) / 2 else WHEN_SHARP
    return [Finding(THIN, NOTABLE, 0.9, f"Fewer than {FLOOR} tracks live on {spans(thin)}. {help}", tuple(thin))]
