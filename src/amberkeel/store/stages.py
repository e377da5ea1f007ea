"""The state of a shot's eight stages, each with one short fact."""

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.store.models import Attempt, Job, LensProfile, Mask, Proposal, Shot
from amberkeel.store.tracks import count_tracks

UNTOUCHED, WORKING, SETTLED, LOOK = "untouched", "working", "settled", "look"
STATE_WORDS = {UNTOUCHED: "untouched", WORKING: "in progress", SETTLED: "settled", LOOK: "needs another look"}


@dataclass(frozen=True)
class Stage:
    """One stop of the course: key, name, state, fact, and whether its tools exist yet."""

    key: str
    name: str
    state: str
    fact: str
    built: bool = True

    @property
    def words(self) -> str:
        """The state in words."""
        return STATE_WORDS[self.state]


def pinned(session: Session, shot: Shot) -> Attempt | None:
    """Return the attempt in use, if any."""
    return session.get(Attempt, shot.pinned_id) if shot.pinned_id else None


def is_stale(shot: Shot, attempt: Attempt | None) -> bool:
    """Tell whether tracks changed after an attempt was made."""
    return attempt is not None and attempt.snapshot.get("tracks_stamp") != shot.tracks_stamp


def masks_changed(shot: Shot, attempt: Attempt | None) -> bool:
    """Tell whether masks changed after an attempt was made."""
    return attempt is not None and attempt.snapshot.get("masks_stamp", 0) != shot.masks_stamp


def lens_changed(shot: Shot, attempt: Attempt | None) -> bool:
    """Tell whether the lens profile or the camera's facts changed after an attempt was made."""
    return attempt is not None and attempt.snapshot.get("lens_stamp", 0) != shot.lens_stamp


def _lens_stage(session: Session, shot: Shot, attempt: Attempt | None, look: bool) -> Stage:
    """A lens is settled by a profile in use or by a solve; lines alone are under way."""
    profile = session.get(LensProfile, shot.profile_id) if shot.profile_id else None
    plate, lines = shot.plate, len((shot.lens or {}).get("lines", {}))
    if attempt:
        fact = f"f {attempt.figures['focal_mm']:.2f} ±{max(attempt.figures['focal_sigma_mm'], 0.005):.2f} mm"
    elif profile and profile.document["focal_known"]:
        mm = plate.sensor_width_mm / profile.document["image"]["width"]
        fact = f"f {profile.document['lens']['focal_px'][0] * mm:.2f} ±{max(profile.document['sigma'].get('focal_px', 0.0) * mm, 0.005):.2f} mm"
    elif plate and plate.focal_mm:
        fact = f"f {plate.focal_mm:g} mm typed"
    else:
        fact = f"{lines} line{'s' if lines > 1 else ''} drawn" if lines else "f unknown"
    state = LOOK if look or lens_changed(shot, attempt) else SETTLED if attempt or profile else WORKING if lines else UNTOUCHED
    return Stage("lens", "Lens", state, fact)


def stages(session: Session, shot: Shot) -> list[Stage]:
    """Return the eight stages of a shot in their order."""
    counts, attempt = count_tracks(session, shot), pinned(session, shot)
    running = set(session.scalars(select(Job.kind).where(Job.shot_id == shot.id, Job.state.in_(["queued", "running"]))))
    masks = len(session.scalars(select(Mask.id).where(Mask.shot_id == shot.id, ~Mask.removed)).all())
    open_proposals = len(session.scalars(select(Proposal.id).where(Proposal.shot_id == shot.id, Proposal.state == "open")).all())
    total, stale = sum(counts.values()), is_stale(shot, attempt) or masks_changed(shot, attempt)
    uncut = total > 0 and shot.masks_stamp != shot.followed_stamp
    plate = shot.plate
    solved = attempt.figures if attempt else None

    def state(kind: str, done: bool, look: bool = False) -> str:
        return WORKING if kind in running else LOOK if look else SETTLED if done else UNTOUCHED

    parts = _datum_parts(shot.datum or {})
    return [
        Stage("plate", "Plate", state("ingest", bool(plate and plate.ready)), f"{plate.count} frames" if plate else "no plate"),
        Stage("masks", "Masks", _masks_state(running, masks, open_proposals), _masks_fact(masks, open_proposals)),
        Stage("tracks", "Tracks", state("follow", total > 0, uncut), f"{total} tracks" if total else "none yet"),
        _lens_stage(session, shot, attempt, stale),
        Stage("solve", "Solve", state("solve", solved is not None, stale), f"{solved['rms_px']:.2f} px RMS" if solved else "not solved"),
        Stage("world", "World", SETTLED if len(parts) == 3 else WORKING if parts else UNTOUCHED, ", ".join(parts) or "no datum"),
        Stage("ties", "Ties", UNTOUCHED, "none", False),
        Stage("handoff", "Handoff", LOOK if stale else UNTOUCHED, "3 files ready" if solved else "nothing yet"),
    ]


def placed_by_lines(datum: dict) -> bool:
    """Tell whether a shot's axis lines place its scene: a measured one does with a ground or a scale from tracks."""
    return bool((datum.get("axes") or {}).get("place")) and ("ground" in datum or "scale" in datum)


def _datum_parts(datum: dict) -> list[str]:
    """Return which of ground, origin and scale a shot's datum fixes: axis lines level it, and with a measured length they place it."""
    placed = placed_by_lines(datum)
    told = {"ground": "ground" in datum or bool(datum.get("axes")), "origin": "origin" in datum or placed, "scale": "scale" in datum or placed}
    return [word for word, known in told.items() if known]


def _masks_state(running: set, masks: int, proposals: int) -> str:
    if running & {"propose", "carry", "learn", "matte"}:
        return WORKING
    return LOOK if proposals else SETTLED if masks else UNTOUCHED


def _masks_fact(masks: int, proposals: int) -> str:
    if proposals:
        return f"{proposals} to decide"
    return f"{masks} mask{'s' if masks > 1 else ''}" if masks else "none"


def attention(session: Session, shot: Shot) -> str:
    """Return what needs attention on a shot in one short sentence, or ""."""
    failed = session.scalar(select(Job).where(Job.shot_id == shot.id).order_by(Job.id.desc()).limit(1))
    if failed is not None and failed.state in ("failed", "interrupted"):
        return failed.error
    if is_stale(shot, pinned(session, shot)):
        return "Tracks changed after the last attempt."
    if masks_changed(shot, pinned(session, shot)):
        return "Masks changed after the last attempt."
    if lens_changed(shot, pinned(session, shot)):
        return "The lens changed after the last attempt."
    return ""
